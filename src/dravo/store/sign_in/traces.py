"""Traces of sign-ins."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, false, func, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries import search as text_search


@dataclass(frozen=True)
class StoredTrace:
    """A row of the table of sign-in traces, in the order of its columns.

    Attributes:
        name: the name or address of the user, as far as known.
        steps: the steps of the sign-in with their outcomes.
        received: what the provider sent; empty if no identity was verified.
        result: what the sign-in led to.
        raw: the message of the provider without its signatures, or None.
    """

    id: str
    source_id: str
    at: Instant
    test_id: str | None
    outcome: str
    reason: str | None
    message: str
    hint: str
    name: str
    user_id: str | None
    steps: list[dict[str, str]]
    received: dict[str, Any]
    result: dict[str, Any]
    raw: str | None


@dataclass(frozen=True)
class TraceFilter:
    """Which traces to list.

    Attributes:
        outcome: one outcome.
        test_id: those of a test sign-in.
        words: text in the name or the message; `searchable` is False for a caller who may not see these, and
            finds nothing.
    """

    outcome: str | None = None
    test_id: str | None = None
    words: str | None = None
    searchable: bool = True


def insert_trace(connection: Connection, row: dict[str, Any]) -> None:
    """Insert a trace."""
    connection.execute(insert(t.sign_in_trace).values(**row))


def get(connection: Connection, source_id: str, trace_id: str) -> StoredTrace | None:
    """Return a trace of a source, or None."""
    x = t.sign_in_trace.c
    row = connection.execute(
        select(t.sign_in_trace).where(x.id == trace_id, x.source_id == source_id)
    ).first()
    return None if row is None else StoredTrace(*row)


def list_traces(
    connection: Connection,
    source_id: str,
    page_request: PageRequest,
    only: TraceFilter,
    show: Callable[[StoredTrace], Item],
) -> Page[Item]:
    """Return a page of a source's traces, newest first."""
    x = t.sign_in_trace.c
    statement = select(t.sign_in_trace).where(x.source_id == source_id)
    if only.outcome:
        statement = statement.where(x.outcome == only.outcome)
    if only.test_id:
        statement = statement.where(x.test_id == only.test_id)
    if only.words:
        found = text_search.has(x.name, only.words) | text_search.has(x.message, only.words)
        statement = statement.where(found if only.searchable else false())
    return page(connection, statement, [x.id.desc()], page_request, shown_as(StoredTrace, show))


def last_of_test(connection: Connection, test_id: str) -> StoredTrace | None:
    """Return the last trace of a test sign-in, or None."""
    x = t.sign_in_trace.c
    statement = select(t.sign_in_trace).where(x.test_id == test_id).order_by(x.id.desc()).limit(1)
    row = connection.execute(statement).first()
    return None if row is None else StoredTrace(*row)


def last_of_source(connection: Connection, source_id: str, most: int) -> list[StoredTrace]:
    """Return the last traces of a source, newest first."""
    x = t.sign_in_trace.c
    statement = select(t.sign_in_trace).where(x.source_id == source_id).order_by(x.id.desc()).limit(most)
    return [StoredTrace(*row) for row in connection.execute(statement)]


def delete_old(connection: Connection, before: Instant, most: int) -> None:
    """Delete traces before an instant, and those beyond a number for each source."""
    x = t.sign_in_trace.c
    connection.execute(delete(t.sign_in_trace).where(x.at < before))
    many = select(x.source_id).group_by(x.source_id).having(func.count() > most)
    for source_id in connection.execute(many).scalars().all():
        newest = (
            select(x.id)
            .where(x.source_id == source_id)
            .order_by(x.id.desc())
            .offset(most)
            .limit(1)
            .scalar_subquery()
        )
        connection.execute(delete(t.sign_in_trace).where(x.source_id == source_id, x.id <= newest))
