"""Access requests of users, and the applications that users can request."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, exists, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries import search as text_search

OPEN, APPROVED, REFUSED, WITHDRAWN = "open", "approved", "refused", "withdrawn"
STATUSES = (OPEN, APPROVED, REFUSED, WITHDRAWN)


@dataclass(frozen=True)
class StoredRequest:
    """An access request with the names of what it names, in the order of the select."""

    id: str
    status: str
    reason: str
    requested_at: Instant
    decided_at: Instant | None
    decided_by: str | None
    answer: str | None
    assignment_id: str | None
    user_id: str
    display_name: str
    user_name: str
    email: str | None
    application_id: str
    application_key: str
    application_label: str
    role_key: str | None
    role_label: str | None
    role_rank: int | None


@dataclass(frozen=True)
class RequestFilter:
    """Which requests to list; None for all.

    Attributes:
        application: the key of an application; `applications` limits them, for application owners.
        words: text in the name of the user.
    """

    status: str | None = None
    application: str | None = None
    words: str | None = None
    applications: Collection[str] | None = None


def _statement() -> Select[Any]:
    q, u, p, r = t.access_request.c, t.user.c, t.application.c, t.role.c
    return (
        select(
            q.id,
            q.status,
            q.reason,
            q.requested_at,
            q.decided_at,
            q.decided_by,
            q.answer,
            q.assignment_id,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            u.email,
            p.id.label("application_id"),
            p.key.label("application_key"),
            p.label.label("application_label"),
            r.key.label("role_key"),
            r.label.label("role_label"),
            r.rank,
        )
        .join(t.user, u.id == q.user_id)
        .join(t.application, p.id == q.application_id)
        .outerjoin(t.role, r.id == q.role_id)
    )


def list_requests(
    connection: Connection,
    page_request: PageRequest,
    only: RequestFilter,
    show: Callable[[StoredRequest], Item],
) -> Page[Item]:
    """Return a page of access requests, newest first."""
    q, p, statement = t.access_request.c, t.application.c, _statement()
    if only.status:
        statement = statement.where(q.status == only.status)
    if only.application:
        statement = statement.where(p.key == only.application)
    if only.applications is not None:
        statement = statement.where(p.key.in_(only.applications))
    if only.words:
        statement = statement.where(text_search.name_has(only.words))
    return page(connection, statement, [q.id.desc()], page_request, shown_as(StoredRequest, show))


def of_user(connection: Connection, user_id: str, most: int) -> list[StoredRequest]:
    """Return the last requests of a user, newest first."""
    q = t.access_request.c
    statement = _statement().where(q.user_id == user_id).order_by(q.id.desc()).limit(most)
    return [StoredRequest(*row) for row in connection.execute(statement)]


def get(connection: Connection, request_id: str) -> StoredRequest | None:
    """Return an access request, or None if there is none with the ID."""
    row = connection.execute(_statement().where(t.access_request.c.id == request_id)).first()
    return None if row is None else StoredRequest(*row)


def application_key(connection: Connection, request_id: str) -> str | None:
    """Return the key of the application of an access request, or None."""
    row = get(connection, request_id)
    return None if row is None else row.application_key


def insert_request(connection: Connection, row: Mapping[str, Any]) -> StoredRequest:
    """Insert an access request, and return it with the names of what it names.

    Raises:
        IntegrityError: if the user has an open request for the application.
    """
    connection.execute(insert(t.access_request).values(**row))
    inserted = _statement().where(t.access_request.c.id == row["id"])
    return StoredRequest(*connection.execute(inserted).one())


def decide(connection: Connection, request_id: str, **values: Any) -> bool:
    """Write a decision about an open request; return False if it is not open any more."""
    q = t.access_request.c
    where = (q.id == request_id, q.status == OPEN)
    return connection.execute(update(t.access_request).where(*where).values(**values)).rowcount == 1


def forget_role(connection: Connection, role_id: str) -> None:
    """Remove a role that is deleted from requests."""
    q = t.access_request.c
    connection.execute(update(t.access_request).where(q.role_id == role_id).values(role_id=None))


@dataclass(frozen=True)
class RequestableRole:
    """A role that a user can request, in the order of the select."""

    application_id: str
    application_key: str
    application_label: str
    role_id: str
    role_key: str
    role_label: str
    description: str | None


def requestable_roles(connection: Connection, user_id: str) -> list[RequestableRole]:
    """Return the roles that a user can request: of visible applications that allow it, those that the user
    does not have.
    """
    p, r, x = t.application.c, t.role.c, t.access.c
    held = exists().where(x.role_id == r.id, x.user_id == user_id, x.until_at.is_(None))
    statement = (
        select(p.id, p.key, p.label, r.id, r.key, r.label, r.description)
        .join(t.role, r.application_id == p.id)
        .where(p.requestable.is_(True), p.hidden.is_(False), ~held)
        .order_by(p.label, p.id, r.rank, r.key)
    )
    return [RequestableRole(*row) for row in connection.execute(statement)]


def number_open(connection: Connection, user_id: str) -> int:
    """Return the number of open requests of a user."""
    q = t.access_request.c
    where = (q.user_id == user_id, q.status == OPEN)
    statement = select(func.count()).select_from(t.access_request).where(*where)
    return int(connection.execute(statement).scalar_one())


def number_since(connection: Connection, user_id: str, since: Instant) -> int:
    """Return how many requests a user made since an instant."""
    q = t.access_request.c
    where = (q.user_id == user_id, q.requested_at >= since)
    statement = select(func.count()).select_from(t.access_request).where(*where)
    return int(connection.execute(statement).scalar_one())
