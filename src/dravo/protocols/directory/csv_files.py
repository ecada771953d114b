"""Reads users, groups and memberships from CSV files (RFC 4180) in any encoding, with any separator and
column names.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import ClassVar

from pydantic import BaseModel

from dravo.core.expressions import ENTRY
from dravo.core.identity.names import fold
from dravo.protocols.directory.csv_table import (
    FILES,
    GROUPS,
    MEMBERSHIPS,
    SEPARATORS,
    USERS,
    CsvSettings,
    Table,
    read_table,
)
from dravo.protocols.directory.reader import (
    NOTED,
    OK,
    BadLine,
    Checked,
    DirectoryTrouble,
    Entry,
    GroupEntry,
    Step,
    checked_by,
    seen_values,
)

SAMPLE = 200
STEPS = ("Files", "Columns", "Users", "Groups", "Attribute mapping")


class CsvReader:
    """Reads the files of one source."""

    kind: ClassVar[str] = "csv"
    label: ClassVar[str] = "CSV files"
    reads: ClassVar[str] = ENTRY
    Settings: ClassVar[type[BaseModel]] = CsvSettings
    usual_attributes: ClassVar[tuple[tuple[str, str], ...]] = (
        ("userName", 'attribute "user name" else username else email'),
        ("displayName", '''name else "{attribute 'first name'} {attribute 'last name'}"'''),
        ("name.givenName", 'attribute "first name"'),
        ("name.familyName", 'attribute "last name"'),
        ('emails[type eq "work"].value', "email"),
        ("title", "title"),
        ("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", "department"),
    )

    def __init__(self, settings: CsvSettings, folder: Path, uses: Sequence[str] = ()) -> None:
        self.settings, self.folder = settings, folder
        self._uses = frozenset(uses)
        # Groups named in lines of users: by folded name, the name and its members.
        self._named: dict[str, tuple[str, list[str]]] = {}

    def close(self) -> None:
        """Do nothing: no connection is open."""

    def _content(self, name: str) -> bytes | None:
        file = self.folder / f"{name}.csv"
        try:
            return file.read_bytes()
        except FileNotFoundError:
            return None
        except OSError as wrong:
            raise DirectoryTrouble(
                f"{name}.csv cannot be read: {wrong.strerror}.", "Allow the service to read the file."
            ) from None

    def _table(self, name: str) -> Table | None:
        content = self._content(name)
        return read_table(content, name, self.settings) if content is not None else None

    def users(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield all users; none if the files are those of the mark."""
        if since is not None and since == self.mark():
            return
        table = self._table(USERS)
        if table is None:
            raise DirectoryTrouble(
                "users.csv is missing.", "Upload the file, or copy it to the folder of the source."
            )
        key = fold(self.settings.id_column.strip())
        if key not in table.columns:
            raise DirectoryTrouble(
                f"users.csv has no column '{self.settings.id_column}'.",
                f"Existing columns: {', '.join(filter(None, table.columns))}.",
            )
        seen: dict[str, int] = {}
        for number, line in table.lines:
            read = line if isinstance(line, BadLine) else self._user(line, number, key, seen)
            if isinstance(read, BadLine) and self.settings.stop_at_bad_line:
                raise DirectoryTrouble(f"{read.where}: {read.message}", read.hint)
            yield read

    def _user(
        self, line: Mapping[str, list[str]], number: int, key: str, seen: dict[str, int]
    ) -> Entry | BadLine:
        where = f"users.csv, line {number}"
        if key not in line:
            return BadLine(where, f"'{self.settings.id_column}' is empty.", "Enter a unique ID in each line.")
        native_id = line[key][0]
        if native_id in seen:
            return BadLine(
                where,
                f"The ID '{native_id}' is already used in line {seen[native_id]}.",
                "Delete one of the two lines.",
            )
        seen[native_id] = number
        column = fold(self.settings.groups_column.strip())
        for name in line.get(column, [""])[0].split(self.settings.groups_between or ";") if column else ():
            if name.strip():
                self._named.setdefault(fold(name.strip()), (name.strip(), []))[1].append(native_id)
        return Entry(
            native_id, native_id, {name: values for name, values in line.items() if name in self._uses}
        )

    def groups(self, since: str | None = None) -> Iterator[GroupEntry | BadLine]:
        """Yield the groups of the file, and those that users' lines name."""
        if since is not None and since == self.mark():
            return
        if self.settings.groups_column:
            for key, (name, members) in self._named.items():
                yield GroupEntry(f"name:{key}", f"name:{key}", name, tuple(members))
        table = self._table(GROUPS)
        if table is None:
            return
        members_of, bad = self._memberships()
        yield from bad
        id_column, name_column = (
            fold(self.settings.group_id_column.strip()),
            fold(self.settings.group_name_column.strip()),
        )
        for column, said in (
            (id_column, self.settings.group_id_column),
            (name_column, self.settings.group_name_column),
        ):
            if column not in table.columns:
                raise DirectoryTrouble(
                    f"groups.csv has no column '{said}'.",
                    f"Existing columns: {', '.join(filter(None, table.columns))}.",
                )
        seen: set[str] = set()
        for number, line in table.lines:
            if isinstance(line, BadLine):
                yield line
            elif id_column not in line or name_column not in line:
                yield BadLine(
                    f"groups.csv, line {number}",
                    "The group has no ID or no name.",
                    "Enter the ID and the name.",
                )
            elif line[id_column][0] in seen:
                yield BadLine(
                    f"groups.csv, line {number}",
                    f"The ID '{line[id_column][0]}' is already used.",
                    "Delete one of the two lines.",
                )
            else:
                native_id = line[id_column][0]
                seen.add(native_id)
                yield GroupEntry(
                    native_id,
                    native_id,
                    line[name_column][0],
                    tuple(dict.fromkeys(members_of.get(native_id, ()))),
                )

    def _memberships(self) -> tuple[dict[str, list[str]], list[BadLine]]:
        table = self._table(MEMBERSHIPS)
        found: dict[str, list[str]] = {}
        bad: list[BadLine] = []
        if table is None:
            return found, bad
        group, member = (
            fold(self.settings.membership_group_column.strip()),
            fold(self.settings.membership_member_column.strip()),
        )
        for column in (group, member):
            if column not in table.columns:
                raise DirectoryTrouble(
                    f"memberships.csv has no column '{column}'.",
                    f"Existing columns: {', '.join(filter(None, table.columns))}.",
                )
        for number, line in table.lines:
            if isinstance(line, BadLine):
                bad.append(line)
            elif group not in line or member not in line:
                bad.append(
                    BadLine(
                        f"memberships.csv, line {number}", "A cell is empty.", "Enter a group and a member."
                    )
                )
            else:
                found.setdefault(line[group][0], []).append(line[member][0])
        return found, bad

    def mark(self) -> str | None:
        """Return a digest of the files."""
        digest = hashlib.blake2b(digest_size=12)
        for name in FILES:
            digest.update(hashlib.blake2b(self._content(name) or b"").digest())
        return digest.hexdigest()

    def one(self, native_id: str) -> Entry | None:
        """Return one user by ID."""
        return next(
            (each for each in self.users() if isinstance(each, Entry) and each.native_id == native_id), None
        )

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups that list a user."""
        self._named.clear()
        list(self.users())
        return [
            each for each in self.groups() if isinstance(each, GroupEntry) and entry.reference in each.members
        ]

    # The check

    def check(self, uses: Sequence[str]) -> Checked:
        """Check the files: their encoding, separator and columns, a sample, and the attributes that
        expressions need.
        """
        return checked_by(STEPS, lambda checked: self._check(checked, uses))

    def _check(self, checked: Checked, uses: Sequence[str]) -> None:
        present = [name for name in FILES if (self.folder / f"{name}.csv").exists()]
        if USERS not in present:
            raise DirectoryTrouble(
                "users.csv is missing.", "Upload the file, or copy it to the folder of the source."
            )
        checked.steps.append(Step("Files", OK, f"There: {', '.join(f'{name}.csv' for name in present)}."))
        table = self._table(USERS)
        assert table is not None
        sign = next(name for name, each in SEPARATORS.items() if each == table.separator)
        checked.steps.append(
            Step(
                "Columns",
                OK,
                f"users.csv is encoded as {table.encoding} and separated by {sign}: "
                f"{', '.join(filter(None, table.columns))}.",
            )
        )
        self._uses = frozenset(table.columns)
        bad: list[BadLine] = []
        users = 0
        for each in self.users():
            if isinstance(each, BadLine):
                bad.append(each)
                continue
            users += 1
            if len(checked.sample) < SAMPLE:
                checked.sample.append(each)
                seen_values(checked.attributes, each.attributes)
        for column in table.columns:
            if column:
                checked.attributes.setdefault(column, [])
        if not users:
            raise DirectoryTrouble(
                "users.csv contains no users.", bad[0].message if bad else "Check the file."
            )
        told = (
            f" {len(bad):,} lines are invalid. The first is {bad[0].where}: {bad[0].message}" if bad else ""
        )
        checked.steps.append(
            Step("Users", NOTED if bad else OK, f"{users:,} users read.{told}", bad[0].hint if bad else "")
        )
        groups = [each for each in self.groups() if isinstance(each, GroupEntry)]
        members = sum(len(each.members) for each in groups)
        checked.steps.append(
            Step(
                "Groups",
                OK if groups else NOTED,
                f"{len(groups):,} groups with {members:,} memberships read." if groups else "No groups.",
            )
        )
        missing = [name for name in uses if name not in table.columns]
        outcome, message = (
            (NOTED, f"There is no column for: {', '.join(missing)}.")
            if missing
            else (OK, "All attributes are available.")
        )
        checked.steps.append(
            Step(
                "Attribute mapping",
                outcome,
                message,
                "Change the expressions, or rename the columns." if missing else "",
            )
        )
