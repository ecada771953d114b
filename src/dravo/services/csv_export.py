"""Exports of rows, line by line: CSV (RFC 4180) in which no cell is a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from typing import Any

from sqlalchemy import Connection

# In both widths, because spreadsheets treat full-width characters the same.
FORMULA = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")


class Streamed(Iterator[bytes]):
    """The pieces of an export, with the connection from which they are read.

    The connection is closed at the end, and also if the reader stops early or never starts.
    """

    def __init__(self, connection: Connection, rows: Any, pieces: Iterator[bytes]) -> None:
        self._connection, self._rows, self._pieces = connection, rows, pieces

    def __next__(self) -> bytes:
        try:
            return next(self._pieces)
        except BaseException:
            self.close()
            raise

    def __del__(self) -> None:
        # An export that nobody closed must not return its connection within a transaction.
        self.close()

    def close(self) -> None:
        """Close the connection."""
        self._rows.close()
        self._connection.close()


def csv_line(cells: Iterable[str]) -> bytes:
    """Return a line of CSV; a cell that a spreadsheet would take for a formula begins with an apostrophe."""
    line = io.StringIO()
    csv.writer(line).writerow(f"'{cell}" if cell[:1] in FORMULA else cell for cell in cells)
    return line.getvalue().encode()
