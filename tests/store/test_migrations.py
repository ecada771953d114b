"""Released schemas stay as they were, and every one of them can be brought to the present one."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest
from sqlalchemy import insert, select

from dravo.store import tables as t
from dravo.store.database import FILE_NAME, Database, newest_migration
from tools.store_schema import SCHEMAS, schema_of

RELEASED = sorted(SCHEMAS.glob("[0-9][0-9][0-9][0-9].sql"))


def migrated(folder: Path) -> Database:
    made = Database(folder)
    made.migrate()
    return made


def test_the_newest_schema_is_stored_for_those_who_upgrade_later(tmp_path: Path) -> None:
    migrated(tmp_path).close()
    stored = RELEASED[-1]
    assert stored.stem == newest_migration(), "run tools/store_schema.py"
    assert schema_of(tmp_path / FILE_NAME) == stored.read_text(), stored.name


@pytest.mark.parametrize("stored", RELEASED, ids=lambda stored: stored.stem)
def test_a_database_of_each_released_schema_is_upgraded_with_what_it_holds(
    tmp_path: Path, stored: Path
) -> None:
    with sqlite3.connect(tmp_path / FILE_NAME) as connection:
        connection.executescript(stored.read_text())
        connection.execute("INSERT INTO alembic_version (version_num) VALUES (?)", (stored.stem,))
        connection.execute("INSERT INTO setting (name, value) VALUES ('trace_days', '30')")
    upgraded = migrated(tmp_path)
    with upgraded.writing() as connection:
        connection.execute(insert(t.setting).values(name="attempt_days", value=60))
    with upgraded.reading() as connection:
        found = {row.name: row.value for row in connection.execute(select(t.setting))}
    upgraded.close()
    assert found == {"trace_days": 30, "attempt_days": 60}
    migrated(tmp_path / "new").close()
    assert schema_of(tmp_path / FILE_NAME) == schema_of(tmp_path / "new" / FILE_NAME)


def test_stored_exchanges_are_renamed(tmp_path: Path) -> None:
    exchange = '[{"path": "/Bulk", "excerpt": "a \\"together\\": b", "together": 7}]'
    with sqlite3.connect(tmp_path / FILE_NAME) as connection:
        connection.executescript((SCHEMAS / "0001.sql").read_text())
        connection.execute("INSERT INTO alembic_version (version_num) VALUES ('0001')")
        connection.execute(
            "INSERT INTO task_attempt (id, task_id, version, started_at, ended_at, outcome, exchanges) "
            "VALUES (1, 'task', 1, '2031-01-01T00:00:00Z', '2031-01-01T00:00:01Z', 'done', ?)",
            (exchange,),
        )
    upgraded = migrated(tmp_path)
    with upgraded.reading() as connection:
        stored = connection.execute(select(t.task_attempt.c.exchanges)).scalar_one()
    upgraded.close()
    assert stored == [{"path": "/Bulk", "excerpt": 'a "together": b', "bulk_operations": 7}]
