"""What is counted over everything, and kept until something moved."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.sqlite import insert_unless_there


def get(connection: Connection, name: str) -> Any:
    """Return what was counted last under a name (at, marker, value, milliseconds), or None."""
    return connection.execute(select(t.picture).where(t.picture.c.name == name)).first()


def keep(connection: Connection, name: str, at: Instant, marker: str, value: dict[str, Any], milliseconds: int) -> None:
    """Keep what was counted, in place of what was counted before.

    Args:
        marker: another text whenever something moved that it was counted from.
        milliseconds: how long the counting took.
    """
    row = {"at": at, "marker": marker, "value": value, "milliseconds": milliseconds}
    statement = insert_unless_there(t.picture).values(name=name, **row)
    connection.execute(statement.on_conflict_do_update(index_elements=["name"], set_=row))
