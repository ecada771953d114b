"""What is counted over everything, and kept until something moved."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t


def get(connection: Connection, name: str) -> Any:
    """Return what was counted last under a name (at, marker, value, milliseconds), or None."""
    return connection.execute(select(t.cached_report).where(t.cached_report.c.name == name)).first()


def keep(
    connection: Connection, name: str, at: Instant, marker: str, value: dict[str, Any], milliseconds: int
) -> None:
    """Keep what was counted, in place of what was counted before.

    Args:
        marker: another text whenever something moved that it was counted from.
        milliseconds: how long the counting took.
    """
    connection.execute(delete(t.cached_report).where(t.cached_report.c.name == name))
    connection.execute(
        insert(t.cached_report).values(
            name=name, at=at, marker=marker, value=value, milliseconds=milliseconds
        )
    )
