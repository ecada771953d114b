"""Files of rows, made line by line: CSV (RFC 4180) in which no cell is a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable

FORMULA = ("=", "+", "-", "@", "\t", "\r")


def csv_line(cells: Iterable[str]) -> bytes:
    """Return a line of CSV; a cell that a spreadsheet would take for a formula begins with an apostrophe."""
    line = io.StringIO()
    csv.writer(line).writerow(f"'{cell}" if cell[:1] in FORMULA else cell for cell in cells)
    return line.getvalue().encode()
