"""The record of a run: its start, counts and end.

Changes outside an import, such as a decided conflict, have a run too.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, DravoError
from dravo.core.instants import Instant
from dravo.services import events
from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.queries import runs as run_queries
from dravo.store.queries.runs import ASKED, FAILED, FINISHED

IMPORT = "import"


@dataclass(frozen=True)
class RunOptions:
    """How an import run works.

    Attributes:
        preview: report what the run would do, and change nothing.
        whole: read all users; None lets the run decide whether the changes since the last run are enough.
        allow_removals: users who are missing become leavers, however many they are.
    """

    preview: bool = False
    whole: bool | None = None
    allow_removals: bool = False


STANDARD_RUN = RunOptions()


def begin(
    connection: Connection,
    source_id: str,
    requested_by: str,
    now: Instant,
    options: RunOptions = STANDARD_RUN,
    crashes: int = 0,
) -> str:
    """Insert a run that waits for the worker; return its ID.

    Args:
        connection: the writer's connection.
        source_id: the source to import.
        requested_by: the name of the operator, or "the schedule".
        now: the time of the request.
        options: how the run works.
        broke_off: how often the worker crashed during this run before.
    """
    run_id = new_id()
    row = {
        "id": run_id,
        "kind": IMPORT,
        "source_id": source_id,
        "status": ASKED,
        "requested_by": requested_by,
        "requested_at": now,
        "progress": 0,
        "stop_requested": False,
        "whole": options.whole,
        "preview": options.preview,
        "allow_removals": options.allow_removals,
        "crashes": crashes,
    }
    run_queries.insert_run(connection, row)
    return run_id


def end(ctx: AppContext, run_id: str, status: str, *, message: str, hint: str = "") -> None:
    """Write how a run ended."""
    values = {"status": status, "ended_at": clock.now(), "message": message, "hint": hint}
    with ctx.database.writing() as connection:
        run_queries.update_run(connection, run_id, **values)
        key = run_queries.source_key(connection, run_id)
    events.note(events.RUN, status, source=key, run=run_id, reason=message)


@contextmanager
def small_run(ctx: AppContext, source_id: str, requested_by: str) -> Iterator[str]:
    """Carry out a run of one user here and now; yields its ID. The source must have no run in progress.

    Raises:
        AlreadyExists.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        if run_queries.is_open_for_source(connection, source_id):
            raise AlreadyExists(
                "An import run of this source is in progress.",
                "Wait for the run to end. It refreshes all users.",
            )
        run_id = begin(connection, source_id, requested_by, now, RunOptions(whole=False))
        run_queries.start(connection, run_id, now)
    try:
        yield run_id
    except DravoError as wrong:
        end(ctx, run_id, FAILED, message=wrong.message, hint=wrong.hint)
        raise
    with ctx.database.writing() as connection:
        values = {"status": FINISHED, "ended_at": clock.now(), "progress": 1}
        run_queries.update_run(connection, run_id, **values)


def note_counts(ctx: AppContext, run_id: str, counts: dict[str, int]) -> None:
    """Write the counts of a run."""
    with ctx.database.writing() as connection:
        run_queries.update_run(connection, run_id, counts=counts)
