"""Stored announcements, and the users who get them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, exists, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page, shown_as

SCHEDULED, SENDING, SENT, WITHDRAWN = "scheduled", "sending", "sent", "withdrawn"
SOURCE, APPLICATION = "source", "application"


@dataclass(frozen=True)
class StoredAnnouncement:
    """A row of the table of announcements, in the order of its columns."""

    id: str
    about: str
    about_id: str
    about_label: str
    subject: str
    text: str
    status: str
    send_at: Instant
    created_at: Instant
    created_by: str
    ended_at: Instant | None
    written: int
    place: str


@dataclass(frozen=True)
class Addressee:
    """A user who gets an announcement."""

    id: str
    display_name: str
    email: str


def insert_announcement(connection: Connection, values: dict[str, Any]) -> None:
    """Insert an announcement."""
    connection.execute(insert(t.announcement).values(**values))


def update_announcement(connection: Connection, announcement_id: str, **values: Any) -> None:
    """Change columns of an announcement."""
    connection.execute(update(t.announcement).where(t.announcement.c.id == announcement_id).values(**values))


def withdraw(connection: Connection, announcement_id: str, now: Instant) -> bool:
    """Withdraw an announcement; return False if it was sent or withdrawn already."""
    a = t.announcement.c
    where = (a.id == announcement_id, a.status.in_((SCHEDULED, SENDING)))
    values = {"status": WITHDRAWN, "ended_at": now}
    return connection.execute(update(t.announcement).where(*where).values(**values)).rowcount == 1


def get(connection: Connection, announcement_id: str) -> StoredAnnouncement | None:
    """Return an announcement, or None."""
    row = connection.execute(select(t.announcement).where(t.announcement.c.id == announcement_id)).first()
    return StoredAnnouncement(*row) if row is not None else None


def due(connection: Connection, now: Instant) -> StoredAnnouncement | None:
    """Return the announcement that is sent next, or None."""
    a = t.announcement.c
    where = (a.status.in_((SCHEDULED, SENDING)), a.send_at <= now)
    row = connection.execute(select(t.announcement).where(*where).order_by(a.send_at, a.id).limit(1)).first()
    return StoredAnnouncement(*row) if row is not None else None


def list_announcements(connection: Connection, page_request: PageRequest) -> Page[StoredAnnouncement]:
    """Return a page of announcements, newest first."""
    keys = [t.announcement.c.created_at.desc(), t.announcement.c.id.desc()]
    show = shown_as(StoredAnnouncement, lambda row: row)
    return page(connection, select(t.announcement), keys, page_request, show)


def addressees(connection: Connection, about: str, about_id: str, after: str, limit: int) -> list[Addressee]:
    """Return users who get an announcement, by ID: active ones with an email address.

    Args:
        about: "source" or "application".
        after: the ID after which to begin.
    """
    u = t.user.c
    statement = _concerned(about, about_id, u.id, u.display_name, u.email)
    statement = statement.where(u.email.is_not(None), u.id > after).order_by(u.id).limit(limit)
    return [Addressee(*row) for row in connection.execute(statement)]


def counts(connection: Connection, about: str, about_id: str) -> tuple[int, int]:
    """Return how many active users are concerned, and how many of them have an email address."""
    u = t.user.c
    row = connection.execute(_concerned(about, about_id, func.count(), func.count(u.email))).one()
    return int(row[0]), int(row[1])


def _concerned(about: str, about_id: str, *columns: Any) -> Select[Any]:
    u, r, x = t.user.c, t.record.c, t.access.c
    if about == SOURCE:
        of = exists().where(r.user_id == u.id, r.source_id == about_id, r.deleted_at.is_(None))
    else:
        of = exists().where(x.user_id == u.id, x.application_id == about_id, x.until_at.is_(None))
    return select(*columns).select_from(t.user).where(u.active.is_(True), u.left_at.is_(None), of)
