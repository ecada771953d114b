"""Counts what shorter retention would delete."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core.instants import Instant
from dravo.store import tables as t


def requests_before(connection: Connection, before: Instant) -> int:
    """Return the number of stored inbound SCIM requests from before an instant."""
    return _before(connection, t.trace, t.trace.c.at, before)


def sign_ins_before(connection: Connection, before: Instant) -> int:
    """Return the number of stored sign-ins from before an instant."""
    return _before(connection, t.sign_in_trace, t.sign_in_trace.c.at, before)


def attempts_before(connection: Connection, before: Instant) -> int:
    """Return the number of task attempts that ended before an instant."""
    return _before(connection, t.task_attempt, t.task_attempt.c.ended_at, before)


def run_entries_before(connection: Connection, before: Instant) -> int:
    """Return the number of import run entries of runs that ended before an instant."""
    r, x = t.run.c, t.run_entry.c
    statement = select(func.count(x.id)).join(t.run, r.id == x.run_id).where(r.ended_at < before)
    return int(connection.execute(statement).scalar_one())


def messages_before(connection: Connection, before: Instant) -> int:
    """Return the number of messages that ended before an instant."""
    return _before(connection, t.message, t.message.c.ended_at, before)


def events_before(connection: Connection, before: Instant) -> int:
    """Return the number of events that ended before an instant."""
    return _before(connection, t.notification_event, t.notification_event.c.ended_at, before)


def requests_beyond(connection: Connection, most: int) -> int:
    """Return the number of stored requests beyond a largest number for each source."""
    c = t.trace.c
    counts = select(func.count().label("number")).select_from(t.trace).group_by(c.source_id).subquery()
    beyond = select(func.coalesce(func.sum(counts.c.number - most), 0)).where(counts.c.number > most)
    return int(connection.execute(beyond).scalar_one())


def _before(connection: Connection, table: Any, column: Any, before: Instant) -> int:
    return int(
        connection.execute(select(func.count()).select_from(table).where(column < before)).scalar_one()
    )
