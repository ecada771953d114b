"""Stored events."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, exists, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.core.notifications.reporting import HAPPENED, OPEN, SOLVED, Condition, KnownEvent
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest, page, shown_as


@dataclass(frozen=True)
class StoredEvent:
    """A row of the table of events, in the order of its columns."""

    id: str
    kind: str
    subject_id: str
    subject: str
    application_id: str | None
    source_id: str | None
    title: str
    text: str
    path: str
    number: int
    level: int | None
    status: str
    began_at: Instant
    reports: int
    next_report_at: Instant | None
    ended_at: Instant | None


@dataclass(frozen=True)
class EventFilter:
    """Which events to list; None for all."""

    kind: str | None = None
    status: str | None = None
    application_id: str | None = None
    source_id: str | None = None


def known(connection: Connection, solved_after: Instant) -> list[KnownEvent]:
    """Return the open events, and those solved after an instant."""
    e = t.notification_event.c
    recent = (e.status == SOLVED) & (e.ended_at > solved_after)
    statement = select(
        e.id,
        e.kind,
        e.subject_id,
        e.status,
        e.title,
        e.text,
        e.number,
        e.level,
        e.began_at,
        e.reports,
        e.next_report_at,
        e.ended_at,
    ).where(or_(e.status == OPEN, recent))
    return [KnownEvent(**row._asdict()) for row in connection.execute(statement)]


def insert_event(
    connection: Connection,
    condition: Condition,
    now: Instant,
    *,
    status: str,
    reports: int = 0,
    next_report_at: Instant | None = None,
) -> str:
    """Insert an event and return its ID."""
    event_id = new_id()
    values = {
        **_values(condition),
        "id": event_id,
        "status": status,
        "began_at": now,
        "reports": reports,
        "next_report_at": next_report_at,
        "ended_at": now if status == HAPPENED else None,
    }
    connection.execute(insert(t.notification_event).values(**values))
    return event_id


def happened(connection: Connection, condition: Condition, now: Instant) -> None:
    """Store what happened once, in the transaction in which it happens; the worker reports it."""
    insert_event(connection, condition, now, status=HAPPENED)


def happened_since(connection: Connection, kind: str, subject_id: str, since: Instant) -> bool:
    """Return whether an event of a kind about an object happened since an instant."""
    e = t.notification_event.c
    where = (e.status == HAPPENED, e.ended_at >= since, e.kind == kind, e.subject_id == subject_id)
    return connection.execute(select(e.id).where(*where).limit(1)).first() is not None


def unreported(connection: Connection, limit: int) -> list[StoredEvent]:
    """Return events that happened and are not reported yet, in their order."""
    e = t.notification_event.c
    where = (e.status == HAPPENED, e.reports == 0)
    statement = select(t.notification_event).where(*where).order_by(e.id).limit(limit)
    return [StoredEvent(*row) for row in connection.execute(statement)]


def update_event(
    connection: Connection, event_id: str, condition: Condition | None = None, **values: Any
) -> None:
    """Change an event: its words and numbers by a condition, and columns."""
    both = {**(_values(condition) if condition is not None else {}), **values}
    connection.execute(
        update(t.notification_event).where(t.notification_event.c.id == event_id).values(**both)
    )


def mark_reported(connection: Connection, ids: Iterable[str]) -> None:
    """Note that events were reported."""
    e = t.notification_event.c
    connection.execute(update(t.notification_event).where(e.id.in_(list(ids))).values(reports=1))


def get(connection: Connection, event_id: str) -> StoredEvent | None:
    """Return an event, or None."""
    row = connection.execute(
        select(t.notification_event).where(t.notification_event.c.id == event_id)
    ).first()
    return StoredEvent(*row) if row is not None else None


def list_events(connection: Connection, page_request: PageRequest, about: EventFilter) -> Page[StoredEvent]:
    """Return a page of events, newest first."""
    e = t.notification_event.c
    statement = select(t.notification_event)
    for column, value in (
        (e.kind, about.kind),
        (e.status, about.status),
        (e.application_id, about.application_id),
        (e.source_id, about.source_id),
    ):
        if value is not None:
            statement = statement.where(column == value)
    return page(
        connection,
        statement,
        [e.began_at.desc(), e.id.desc()],
        page_request,
        shown_as(StoredEvent, lambda row: row),
    )


def message_counts(connection: Connection, ids: list[str]) -> dict[str, int]:
    """Return by event how many messages report it."""
    m = t.message.c
    statement = select(m.event_id, func.count()).where(m.event_id.in_(ids)).group_by(m.event_id)
    return {event_id: int(number) for event_id, number in connection.execute(statement)}


def delete_before(connection: Connection, before: Instant) -> None:
    """Delete events that ended before an instant, and that no message names."""
    e = t.notification_event.c
    named = exists().where(t.message.c.event_id == e.id)
    connection.execute(delete(t.notification_event).where(e.ended_at < before, ~named))


def _values(condition: Condition) -> dict[str, Any]:
    return {
        "kind": condition.kind,
        "subject_id": condition.subject_id,
        "subject": condition.subject,
        "application_id": condition.application_id,
        "source_id": condition.source_id,
        "title": condition.title,
        "text": condition.text,
        "path": condition.path,
        "number": condition.number,
        "level": condition.level,
    }
