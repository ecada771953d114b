"""Stores the schema of the newest migration under tests/data/schemas, for the tests of later upgrades."""

from __future__ import annotations

import sqlite3
import tempfile
from pathlib import Path

from dravo.store.database import FILE_NAME, Database, newest_migration

SCHEMAS = Path(__file__).parents[1] / "tests" / "data" / "schemas"


def schema_of(path: Path) -> str:
    """Return the statements that make the tables and indexes of a database, ordered by kind and name."""
    with sqlite3.connect(path) as connection:
        rows = connection.execute(
            "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%' "
            "ORDER BY type DESC, name"
        )
        return "".join(f"{row[0]};\n" for row in rows)


def main() -> None:
    """Write the schema; an older schema stays as it was released."""
    folder = Path(tempfile.mkdtemp())
    database = Database(folder)
    database.migrate()
    database.close()
    SCHEMAS.mkdir(parents=True, exist_ok=True)
    (SCHEMAS / f"{newest_migration()}.sql").write_text(schema_of(folder / FILE_NAME))


if __name__ == "__main__":
    main()
