"""Drafts a migration from the difference between the tables and the newest migration: draft_migration.py ID
MESSAGE.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from alembic import command

from dravo.store.database import Database, migration_config


def main() -> None:
    """Write the draft into the migrations' folder; read it before committing."""
    identifier, message = sys.argv[1:3]
    database = Database(Path(tempfile.mkdtemp()))
    config = migration_config()
    if list((Path(config.get_main_option("script_location") or "") / "versions").glob("*.py")):
        database.migrate()
    with database.writing() as connection:
        config.attributes["connection"] = connection
        command.revision(config, message=message, autogenerate=True, rev_id=identifier)


if __name__ == "__main__":
    main()
