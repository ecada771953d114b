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
    # The newest stored schema is that of a new database: the test above proves it.
    assert schema_of(tmp_path / FILE_NAME) == RELEASED[-1].read_text()


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


def test_an_owner_in_free_text_becomes_an_operator_or_a_note(tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / FILE_NAME) as connection:
        connection.executescript((SCHEMAS / "0017.sql").read_text())
        connection.execute("INSERT INTO alembic_version (version_num) VALUES ('0017')")
        for name, kind in (("Leo", "administrator"), ("Ann", "auditor")):
            connection.execute(
                "INSERT INTO operator (id, name, name_key, kind, password_hash, created_at) "
                "VALUES (?, ?, ?, ?, 'x', '2031-01-01T00:00:00Z')",
                (name, name, name.lower(), kind),
            )
        columns = (
            "revision, created_at, tracked_only, enabled, create_accounts, update_accounts, "
            "adopt_by_user_name, on_losing_access, on_inactive, on_leaving, max_concurrency, failures"
        )
        for key, owner, note in (
            ("a", " LEO ", None),
            ("b", "Ann", "Paid yearly."),
            ("c", "Estates", None),
            ("d", None, None),
            ("e", "", "As is."),
        ):
            connection.execute(
                f"INSERT INTO application (id, key, label, owner, note, {columns}) VALUES (?, ?, ?, ?, ?, 1, "
                "'2031-01-01T00:00:00Z', 0, 0, 1, 1, 0, 'deactivate', 'deactivate', 'deactivate', 4, 0)",
                (key, key, key, owner, note),
            )
        for token, permissions in (("reads", '["sources.read"]'), ("other", '["users.read"]'), ("all", None)):
            connection.execute(
                "INSERT INTO api_token "
                "(id, operator_id, permissions, label, prefix, hash, scope, created_at) "
                "VALUES (?, 'Leo', ?, 'x', 'x', ?, 'read', '2031-01-01T00:00:00Z')",
                (token, permissions, token),
            )
    upgraded = migrated(tmp_path)
    with upgraded.reading() as connection:
        p, k = t.application.c, t.api_token.c
        owners = {
            row.key: (row.owner_id, row.note) for row in connection.execute(select(p.key, p.owner_id, p.note))
        }
        tokens = {row.id: row.permissions for row in connection.execute(select(k.id, k.permissions))}
    upgraded.close()
    assert owners == {
        "a": ("Leo", None),
        "b": (None, "Paid yearly.\nOwner: Ann"),
        "c": (None, "Owner: Estates"),
        "d": (None, None),
        "e": (None, "As is."),
    }
    assert tokens == {
        "reads": ["sources.read", "requests.read", "sign_ins.read"],
        "other": ["users.read"],
        "all": None,
    }


@pytest.mark.parametrize(("stored", "number"), [("10", 11), ("0", 1), ("1000000", 1_000_000)])
def test_the_number_of_users_with_a_highest_role_keeps_its_effect(
    tmp_path: Path, stored: str, number: int
) -> None:
    with sqlite3.connect(tmp_path / FILE_NAME) as connection:
        connection.executescript((SCHEMAS / "0023.sql").read_text())
        connection.execute("INSERT INTO alembic_version (version_num) VALUES ('0023')")
        connection.execute("INSERT INTO setting (name, value) VALUES ('highest_role_limit', ?)", (stored,))
    upgraded = migrated(tmp_path)
    with upgraded.reading() as connection:
        found = {row.name: row.value for row in connection.execute(select(t.setting))}
    upgraded.close()
    assert found == {"highest_role_confirmation": number}
