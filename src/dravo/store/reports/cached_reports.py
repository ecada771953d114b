"""Reports over all data, stored until something changes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class CachedReport:
    """A stored report, in the order of the table's columns; `milliseconds` is how long computing took."""

    name: str
    at: Instant
    marker: str
    value: dict[str, Any]
    milliseconds: int


def get(connection: Connection, name: str) -> CachedReport | None:
    """Return the stored report of a name, or None."""
    row = connection.execute(select(t.cached_report).where(t.cached_report.c.name == name)).first()
    return None if row is None else CachedReport(*row)


def keep(
    connection: Connection, name: str, at: Instant, marker: str, value: dict[str, Any], milliseconds: int
) -> None:
    """Store a report in place of the former one.

    Args:
        marker: a text that changes whenever the data of the report changes.
        milliseconds: how long computing took.
    """
    connection.execute(delete(t.cached_report).where(t.cached_report.c.name == name))
    connection.execute(
        insert(t.cached_report).values(
            name=name, at=at, marker=marker, value=value, milliseconds=milliseconds
        )
    )
