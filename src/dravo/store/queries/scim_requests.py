"""Traces of inbound SCIM requests."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, or_, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.background_writer import BackgroundWriter
from dravo.store.database import Database
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries import search as text_search

_INSERT = insert(t.trace)
_INSERT_ONE = PreparedStatement(_INSERT)


@dataclass(frozen=True)
class StoredRequest:
    """A request of a source as it is stored.

    Attributes:
        outcome: what was done, or why not, in a sentence.
        quirks: the keys of deviations from the standard that were accepted.
        effects: what it changed; None for reads and refusals.
        body: the body without secrets, possibly cut.
    """

    id: str
    source_id: str
    at: Instant
    method: str
    path: str
    query: str | None
    status: int
    milliseconds: int
    outcome: str
    quirks: list[str] | None
    effects: dict[str, Any] | None
    body: str | None


@dataclass(frozen=True)
class RequestFilter:
    """Which requests to list.

    Attributes:
        words: text in the path, query, outcome or body, in any letter case.
        outcome: "refused", "changed" or "read".
        method: an HTTP method.
    """

    words: str | None = None
    outcome: str | None = None
    method: str | None = None


def background_writer(database: Database) -> BackgroundWriter:
    """Return what writes requests in the background."""
    return BackgroundWriter(database, _INSERT)


def insert_request(connection: Connection, row: dict[str, Any]) -> None:
    """Write a request in the caller's transaction."""
    _INSERT_ONE.change(connection, row)


def get(connection: Connection, source_id: str, request_id: str) -> StoredRequest | None:
    """Return a request of a source, or None."""
    c = t.trace.c
    row = connection.execute(select(t.trace).where(c.id == request_id, c.source_id == source_id)).first()
    return None if row is None else StoredRequest(*row)


def list_requests(
    connection: Connection,
    source_id: str,
    page_request: PageRequest,
    only: RequestFilter,
    show: Callable[[StoredRequest], Item],
    *,
    values: bool,
) -> Page[Item]:
    """Return a page of a source's requests, newest first.

    Args:
        connection: the records.
        source_id: the source.
        page_request: which page.
        only: which requests.
        show: returns the item of a request.
        values: whether queries and bodies are searched too.
    """
    c = t.trace.c
    statement = select(t.trace).where(c.source_id == source_id)
    if only.words:
        columns = (c.path, c.outcome, c.query, c.body) if values else (c.path, c.outcome)
        statement = statement.where(or_(*(text_search.has(column, only.words) for column in columns)))
    if only.outcome == "refused":
        statement = statement.where(c.status >= 400)
    elif only.outcome == "changed":
        statement = statement.where(c.effects.is_not(None))
    elif only.outcome == "read":
        statement = statement.where(c.status < 400, c.effects.is_(None))
    if only.method:
        statement = statement.where(c.method == only.method.upper())
    return page(connection, statement, [c.id.desc()], page_request, shown_as(StoredRequest, show))


def delete_old(connection: Connection, before: Instant, most: int) -> int:
    """Delete requests before a time, and those beyond a number for each source; return how many."""
    c = t.trace.c
    deleted = connection.execute(delete(t.trace).where(c.at < before)).rowcount
    for source_id in connection.execute(select(t.source.c.id)).scalars().all():
        last = connection.execute(
            select(c.id).where(c.source_id == source_id).order_by(c.id.desc()).offset(most).limit(1)
        ).scalar()
        if last is not None:
            deleted += connection.execute(
                delete(t.trace).where(c.source_id == source_id, c.id <= last)
            ).rowcount
    return deleted
