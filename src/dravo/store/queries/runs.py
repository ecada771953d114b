"""Runs of imports and reconciliations: their statuses, pages, and the request to stop one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.core.plan_types import UserPlan
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries import search as text_search

ASKED, RUNNING, FINISHED, HELD, FAILED, STOPPED = "waiting", "running", "done", "held", "failed", "stopped"


@dataclass(frozen=True)
class Run:
    """A row of the table of runs.

    Attributes:
        kind: "import" or "reconciliation"; with `source_id` or `application_id`.
        whole: whether an import reads all entries.
        preview: whether an import changes nothing.
        allow_removals: whether an import may exceed the removal limit.
        crashes: how often the worker ended during the run.
        progress: the number of entries or accounts read so far.
        counts: numbers by result.
        roles_ended, accounts_ended: what users lost by an import.
    """

    id: str
    kind: str
    application_id: str | None
    source_id: str | None
    whole: bool | None
    preview: bool | None
    allow_removals: bool | None
    crashes: int
    status: str
    requested_by: str
    requested_at: Instant
    started_at: Instant | None
    ended_at: Instant | None
    progress: int
    counts: Any
    message: str | None
    hint: str | None
    stop_requested: bool
    roles_ended: int
    accounts_ended: int


@dataclass(frozen=True)
class RunEntry:
    """What a run did to one user or group, or why it did nothing."""

    id: int
    run_id: str
    kind: str
    user_id: str | None
    name: str
    changes: dict[str, Any] | None
    message: str | None


def get(connection: Connection, run_id: str) -> Run | None:
    """Return a run, or None."""
    row = connection.execute(select(t.run).where(t.run.c.id == run_id)).first()
    return None if row is None else Run(*row)


def insert_run(connection: Connection, row: dict[str, Any]) -> None:
    """Insert a run."""
    connection.execute(insert(t.run).values(**row))


def is_open_for(connection: Connection, application_id: str) -> bool:
    """Return whether a run of an application waits or is in progress."""
    r = t.run.c
    statement = select(r.id).where(r.application_id == application_id, r.ended_at.is_(None)).limit(1)
    return connection.execute(statement).first() is not None


def is_open_for_source(connection: Connection, source_id: str) -> bool:
    """Return whether a run of a source waits or is in progress."""
    r = t.run.c
    statement = select(r.id).where(r.source_id == source_id, r.ended_at.is_(None)).limit(1)
    return connection.execute(statement).first() is not None


def source_key(connection: Connection, run_id: str) -> str | None:
    """Return the key of the source of a run, or None."""
    s, r = t.source.c, t.run.c
    statement = select(s.key).join(t.run, r.source_id == s.id).where(r.id == run_id)
    return connection.execute(statement).scalar()


_INSERT_ENTRIES = PreparedStatement(insert(t.run_entry))


def insert_entries(connection: Connection, entries: Sequence[Mapping[str, Any]]) -> None:
    """Insert entries of runs."""
    _INSERT_ENTRIES.change_many(connection, list(entries))


def update_run(connection: Connection, run_id: str, **values: Any) -> None:
    """Change columns of a run."""
    connection.execute(update(t.run).where(t.run.c.id == run_id).values(**values))


def add_ended(connection: Connection, run_id: str, outcomes: Sequence[UserPlan]) -> None:
    """Count roles and accounts that end by plans which an import run caused."""
    roles = sum(each.ended_roles for each in outcomes)
    accounts = sum(each.ended_accounts for each in outcomes)
    if roles or accounts:
        r = t.run.c
        values = {"roles_ended": r.roles_ended + roles, "accounts_ended": r.accounts_ended + accounts}
        connection.execute(update(t.run).where(r.id == run_id).values(**values))


def start(connection: Connection, run_id: str, now: Instant) -> Run | None:
    """Set a requested run to running and return it; None if it was stopped before."""
    r = t.run.c
    begun = update(t.run).where(r.id == run_id, r.ended_at.is_(None)).values(status=RUNNING, started_at=now)
    return get(connection, run_id) if connection.execute(begun).rowcount else None


def is_stop_requested(connection: Connection, run_id: str) -> bool:
    """Return whether an operator asked to stop a run."""
    return bool(connection.execute(select(t.run.c.stop_requested).where(t.run.c.id == run_id)).scalar())


def running(connection: Connection, kind: str) -> list[Run]:
    """Return the runs of a kind that have started and not ended."""
    r = t.run.c
    statement = select(t.run).where(r.kind == kind, r.status == RUNNING, r.ended_at.is_(None))
    return [Run(*row) for row in connection.execute(statement)]


def end_running(connection: Connection, source_id: str, **values: Any) -> None:
    """Change columns of a source's runs that have started and not ended."""
    r = t.run.c
    started = (r.source_id == source_id, r.status == RUNNING, r.ended_at.is_(None))
    connection.execute(update(t.run).where(*started).values(**values))


def requested(connection: Connection, kind: str) -> list[Run]:
    """Return the runs of a kind that have not started, in the order of their requests."""
    r = t.run.c
    statement = select(t.run).where(r.kind == kind, r.status == ASKED, r.ended_at.is_(None)).order_by(r.id)
    return [Run(*row) for row in connection.execute(statement)]


def list_entries(
    connection: Connection,
    run_id: str,
    page_request: PageRequest,
    show: Callable[[RunEntry], Item],
    *,
    kind: str | None = None,
    words: str | None = None,
) -> Page[Item]:
    """Return a page of a run's entries in their order, of one kind or with words in the name."""
    x = t.run_entry.c
    statement = select(t.run_entry).where(x.run_id == run_id)
    if kind:
        statement = statement.where(x.kind == kind)
    if words:
        statement = statement.where(text_search.has(x.name, words))
    return page(connection, statement, [x.id], page_request, shown_as(RunEntry, show))


def delete_entries(connection: Connection, before: Instant, limit: int) -> int:
    """Delete entries of runs that ended before a time, up to a number; return how many."""
    r, x = t.run.c, t.run_entry.c
    old = select(x.id).join(t.run, r.id == x.run_id).where(r.ended_at < before).limit(limit)
    return connection.execute(delete(t.run_entry).where(x.id.in_(old.scalar_subquery()))).rowcount


def list_runs(
    connection: Connection,
    page_request: PageRequest,
    show: Callable[[Run], Item],
    *,
    source_id: str | None = None,
    application_id: str | None = None,
) -> Page[Item]:
    """Return a page of the runs of a source or of an application, newest first."""
    r = t.run.c
    of = r.source_id == source_id if source_id is not None else r.application_id == application_id
    return page(connection, select(t.run).where(of), [r.id.desc()], page_request, shown_as(Run, show))


def last_of_source(connection: Connection, source_id: str) -> Run | None:
    """Return the last ended import run of a source that was no preview, or None."""
    r = t.run.c
    statement = (
        select(t.run)
        .where(r.source_id == source_id, r.ended_at.is_not(None), r.preview.is_(False))
        .order_by(r.id.desc())
        .limit(1)
    )
    row = connection.execute(statement).first()
    return None if row is None else Run(*row)


def request_stop(connection: Connection, row: Run, now: Instant) -> bool:
    """Ask a run to stop at its next batch or page; one that has not started ends at once.

    Args:
        row: the row of the run.

    Returns:
        Whether the run had not ended before.
    """
    if row.ended_at is not None:
        return False
    values: dict[str, Any] = {"stop_requested": True}
    if row.status == ASKED:
        values |= {"status": STOPPED, "ended_at": now, "message": "The run was stopped before it started."}
    update_run(connection, row.id, **values)
    return True
