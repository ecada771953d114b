"""Tables of CSV files: encoding, separator and unreadable lines (RFC 4180)."""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from pydantic import BaseModel, Field

from dravo.core.identity.names import fold
from dravo.protocols.directory.reader import (
    BadLine,
    DirectoryTrouble,
)

USERS, GROUPS, MEMBERSHIPS = "users", "groups", "memberships"
FILES = (USERS, GROUPS, MEMBERSHIPS)
LARGEST_FILE = 64 * 1024 * 1024


class CsvSettings(BaseModel):
    """How files are read; they are in the source's own folder, uploaded or copied there by a script."""

    encoding: Literal["detect", "utf-8", "utf-16", "windows-1252", "iso-8859-1"] = Field(
        "detect", title="Encoding"
    )
    separator: Literal["detect", "comma", "semicolon", "tab", "pipe"] = Field("detect", title="Separator")
    id_column: str = Field(
        "id", title="User ID column", description="an ID that stays when a user is renamed"
    )
    groups_column: str = Field(
        "",
        title="Groups column",
        description="group names of the user, separated by the character below; empty if groups have "
        "their own files",
    )
    groups_between: str = Field(";", title="Group separator", max_length=3)
    group_id_column: str = Field("id", title="groups.csv: ID column")
    group_name_column: str = Field("name", title="groups.csv: name column")
    membership_group_column: str = Field("group", title="memberships.csv: group ID column")
    membership_member_column: str = Field("member", title="memberships.csv: member ID column")
    stop_at_bad_line: bool = Field(
        False,
        title="Stop at the first invalid line",
        description="otherwise invalid lines are reported and skipped",
    )


LONGEST_CELL = 64_000


# The error of the csv module for a quotation mark that is not closed at the end of the file.
_NEVER_CLOSED = "unexpected end of data"


SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|"}


@dataclass
class Table:
    """An opened file: its encoding and separator, its columns and its lines."""

    name: str
    encoding: str
    separator: str
    columns: list[str]
    lines: Iterator[tuple[int, dict[str, list[str]] | BadLine]] = field(repr=False)


def read_table(content: bytes, name: str, settings: CsvSettings) -> Table:
    """Return a file as a table; column names are folded, and cells are stripped.

    Raises:
        DirectoryTrouble: if the file cannot be read.
    """
    encoding, text = _decoded(content, name, settings)
    first = next((line for line in text.splitlines() if line.strip()), "")
    separator = SEPARATORS[settings.separator] if settings.separator != "detect" else _found_separator(first)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    columns: list[str] = []
    try:
        for row in reader:
            if any(cell.strip() for cell in row):
                columns = [fold(cell.strip()) for cell in row]
                break
    except csv.Error as wrong:
        raise DirectoryTrouble(
            f"The first line of {name}.csv is invalid: {wrong}.", "Put the column names in the first line."
        ) from None
    if not columns:
        raise DirectoryTrouble(f"{name}.csv is empty.", "Upload a file with column names in the first line.")
    doubled = sorted({each for each in columns if each and columns.count(each) > 1})
    if doubled:
        raise DirectoryTrouble(f"{name}.csv has the column '{doubled[0]}' twice.", "Rename one of the two.")
    return Table(name, encoding, separator, columns, _lines(reader, columns, name))


def _lines(
    reader: Any, columns: Sequence[str], name: str
) -> Iterator[tuple[int, dict[str, list[str]] | BadLine]]:
    while True:
        begins = reader.line_num + 1
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as wrong:
            hint = "Add the closing quote. Double the quotes inside a cell."
            if str(wrong) == _NEVER_CLOSED:
                # Everything after the quotation mark was read as one cell, so its lines are unknown.
                raise DirectoryTrouble(f"{name}.csv, line {begins}: a quote is never closed.", hint) from None
            yield begins, BadLine(f"{name}.csv, line {begins}", f"The line is invalid: {wrong}.", hint)
            continue
        if not any(cell.strip() for cell in row):
            continue
        if len(row) > len(columns) and any(cell.strip() for cell in row[len(columns) :]):
            message = f"The line has {len(row)} cells for {len(columns)} columns."
            yield (
                begins,
                BadLine(
                    f"{name}.csv, line {begins}", message, "Put cells that contain the separator in quotes."
                ),
            )
            continue
        cells = zip(columns, (cell.strip() for cell in row), strict=False)
        yield begins, {column: [cell[:LONGEST_CELL]] for column, cell in cells if column and cell}


def _decoded(content: bytes, name: str, settings: CsvSettings) -> tuple[str, str]:
    if len(content) > LARGEST_FILE:
        raise DirectoryTrouble(
            f"{name}.csv is larger than {LARGEST_FILE // 1_048_576} MB.",
            "Remove columns that you do not need.",
        )
    if settings.encoding != "detect":
        tries = ["utf-8-sig" if settings.encoding == "utf-8" else settings.encoding]
    elif content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        tries = ["utf-16"]
    else:
        # Files that are not UTF-8 are nearly always in a Western one-byte encoding; the last one can decode
        # any byte.
        tries = ["utf-8-sig", "windows-1252", "iso-8859-1"]
    for encoding in tries:
        try:
            text = content.decode(encoding)
        except UnicodeDecodeError:
            continue
        if "\x00" in text:
            break
        return encoding.removesuffix("-sig"), text
    raise DirectoryTrouble(
        f"{name}.csv is not encoded as {tries[0].removesuffix('-sig')}.",
        "Set the encoding, or save the file as UTF-8.",
    )


def _found_separator(line: str) -> str:
    """Return the separator of the column names: the most frequent candidate outside of quotation marks."""
    outside = "".join(line.split('"')[::2])
    return max(SEPARATORS.values(), key=lambda sign: (outside.count(sign), sign == ","))
