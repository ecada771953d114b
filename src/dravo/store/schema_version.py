"""Which schema a data folder has, read without SQLAlchemy or Alembic, so that a process that finds nothing to do starts quickly."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

FILE_NAME = "dravo.sqlite"
_VERSIONS = Path(__file__).parent / "migrations" / "versions"


def newest() -> str:
    """Return the newest migration: its four-digit number, with which the name of its file begins."""
    return max(file.name[:4] for file in _VERSIONS.glob("[0-9][0-9][0-9][0-9]_*.py"))


def is_current(folder: Path) -> bool:
    """Return whether a data folder has the tables of the newest migration; False if it has none, or they cannot be read."""
    file = folder / FILE_NAME
    if not file.exists():
        return False
    try:
        with closing(sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)) as connection:
            row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
            # Without this row the tables were created, and what belongs into them was not.
            complete = connection.execute("SELECT count(*) FROM revision").fetchone()[0] > 0
    except sqlite3.Error:
        return False
    return complete and row is not None and row[0] == newest()
