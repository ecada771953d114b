"""Stored events."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from typing import Any

from sqlalchemy import Connection, delete, exists, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.core.notifications.reporting import HAPPENED, OPEN, SOLVED, Condition, Event
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest, page

_CONDITION = tuple(field.name for field in fields(Condition))


@dataclass(frozen=True)
class EventFilter:
    """Which events to list; None for all."""

    kind: str | None = None
    status: str | None = None
    application_id: str | None = None
    source_id: str | None = None


def known(connection: Connection, solved_after: Instant) -> list[Event]:
    """Return the open events, and those solved after an instant."""
    e = t.notification_event.c
    recent = (e.status == SOLVED) & (e.ended_at > solved_after)
    statement = select(t.notification_event).where(or_(e.status == OPEN, recent)).order_by(e.id)
    return [_event(row) for row in connection.execute(statement)]


def _event(row: Any) -> Event:
    return Event(
        id=row.id,
        condition=Condition(**{name: getattr(row, name) for name in _CONDITION}),
        status=row.status,
        began_at=row.began_at,
        reports=row.reports,
        next_report_at=row.next_report_at,
        ended_at=row.ended_at,
    )


def insert_event(connection: Connection, event: Event) -> None:
    """Insert an event."""
    connection.execute(insert(t.notification_event).values(**{**vars(event.condition), **_own(event)}))


def _own(event: Event) -> dict[str, Any]:
    """Return the columns of an event beside those of its condition."""
    return {name: value for name, value in vars(event).items() if name != "condition"}


def happened(connection: Connection, condition: Condition, now: Instant) -> None:
    """Store what happened once, in the transaction in which it happens; the worker reports it."""
    event = Event(new_id(), condition, HAPPENED, began_at=now, reports=0, next_report_at=None, ended_at=now)
    insert_event(connection, event)


def happened_since(connection: Connection, kind: str, subject_id: str, since: Instant) -> bool:
    """Return whether an event of a kind about an object happened since an instant."""
    e = t.notification_event.c
    where = (e.status == HAPPENED, e.ended_at >= since, e.kind == kind, e.subject_id == subject_id)
    return connection.execute(select(e.id).where(*where).limit(1)).first() is not None


def unreported(connection: Connection, limit: int) -> list[Event]:
    """Return events that happened and are not reported yet, in their order."""
    e = t.notification_event.c
    where = (e.status == HAPPENED, e.reports == 0)
    statement = select(t.notification_event).where(*where).order_by(e.id).limit(limit)
    return [_event(row) for row in connection.execute(statement)]


def update_event(
    connection: Connection, event_id: str, condition: Condition | None = None, **values: Any
) -> None:
    """Change an event: its words and numbers by a condition, and columns."""
    both = {**(vars(condition) if condition is not None else {}), **values}
    connection.execute(
        update(t.notification_event).where(t.notification_event.c.id == event_id).values(**both)
    )


def mark_reported(connection: Connection, ids: Iterable[str]) -> None:
    """Note that events were reported."""
    e = t.notification_event.c
    connection.execute(update(t.notification_event).where(e.id.in_(list(ids))).values(reports=1))


def list_events(connection: Connection, page_request: PageRequest, about: EventFilter) -> Page[Event]:
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
        _event,
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
