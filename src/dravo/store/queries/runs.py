"""Runs of imports and reconciliations: their statuses, pages, and the request to stop one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import ColumnElement, Connection, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import PageRequest, page

ASKED, RUNNING, FINISHED, HELD, FAILED, STOPPED = "waiting", "running", "done", "held", "failed", "stopped"


def runs(
    connection: Connection,
    of: ColumnElement[bool],
    page_request: PageRequest,
    show: Callable[[Any], dict[str, Any]],
) -> dict[str, Any]:
    """Return a page of runs, newest first.

    Args:
        of: the condition, such as one source or one application.
        show: returns the item of a row.
    """
    return page(connection, select(t.run).where(of), [t.run.c.id.desc()], page_request, show)


def request_stop(connection: Connection, row: Any, now: Instant) -> bool:
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
    connection.execute(update(t.run).where(t.run.c.id == row.id).values(**values))
    return True
