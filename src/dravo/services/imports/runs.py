"""Import runs: requested by an operator or the schedule, stopped, resumed after a restart, and listed."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

from dravo.core import schedules
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import Instant, later, seconds_between
from dravo.services import settings as organization_settings
from dravo.services.changes import removal_limits
from dravo.services.context import AppContext
from dravo.services.imports.run import log
from dravo.services.ingest.run_log import IMPORT, STANDARD_RUN, RunOptions, begin
from dravo.services.lookups import check_not_retired, pushing_source
from dravo.services.results import ChangedAttribute, pairs
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import runs as run_queries
from dravo.store.queries.runs import FAILED, RUNNING, Run, RunEntry, request_stop
from dravo.store.sources import settings as stored

SWEPT_AT_ONCE = 5_000
# After so many crashes of the worker during a run, the run is not started again.
MOST_BREAKS = 2


# Requesting runs


@dataclass
class RunCount:
    """A number by kind."""

    name: str
    number: int


@dataclass
class RunEffect:
    """Number of users who would gain and lose a role."""

    application: str
    role: str
    gained: int
    lost: int


@dataclass
class ImportRun:
    """An import run."""

    id: str
    status: str
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    preview: bool
    whole: bool
    progress: int
    expected: int
    per_second: int
    seconds_left: int | None
    counts: list[RunCount]
    access: list[RunEffect]
    message: str | None
    hint: str | None


@dataclass
class ImportRunEntry:
    """A run entry: the result for one user or group."""

    id: int
    kind: str
    user: str | None
    name: str
    changes: list[ChangedAttribute]
    message: str | None


def request_run(
    ctx: AppContext,
    caller: Caller,
    key: str,
    options: RunOptions = STANDARD_RUN,
    confirmed: str | None = None,
) -> ImportRun:
    """Ask for an import run of a source; return the run.

    Args:
        key: the key of the source.
        options: how the run works.
        confirmed: the label of the source, as typed. It confirms `allow_removals`.

    Raises:
        NotFound; InvalidInput if the import is disabled; AlreadyExists if a run is in progress;
        NeedsConfirmation.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source, row = source_policies.import_of(connection, key)
        check_not_retired(source)
        if not options.preview and not row.enabled:
            raise InvalidInput(
                f"The import of '{source.label}' is disabled.",
                "Preview a run, then enable the import.",
                "preview",
            )
        if options.allow_removals:
            _check_label(source.label, confirmed)
        if run_queries.is_open_for_source(connection, source.id):
            raise AlreadyExists(
                f"An import run of '{source.label}' is in progress.", "Wait for the run to end, or stop it."
            )
        run_id = begin(
            connection,
            source.id,
            caller.name,
            now,
            replace(options, whole=options.whole or options.preview or options.allow_removals),
        )
        details = {"key": key, "preview": options.preview, "allow_removals": options.allow_removals}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("started an import run", "source", source.id, details=details),
        )
    return one_run(ctx, run_id)


def _check_label(label: str, confirmed: str | None) -> None:
    if confirmed != label:
        raise removal_limits.NeedsConfirmation(
            "This run needs a confirmation.",
            f"Type the name of the source, '{label}', to confirm.",
            "confirm",
        )


def request_scheduled(ctx: AppContext, now: Instant) -> None:
    """Ask for scheduled runs; a run that was missed while the service was down is made up once."""
    with ctx.database.reading() as connection:
        if not stored.has_due_import(connection, now):
            return
    with ctx.database.writing() as connection:
        zone = organization_settings.time_zone(connection)
        stored.enable_started_imports(connection, now)
        for row in stored.due_imports(connection, now):
            following = schedules.next_time(row.schedule, now, zone) if row.schedule and row.enabled else None
            stored.update_import(connection, row.source_id, next_at=following)
            if row.enabled and not run_queries.is_open_for_source(connection, row.source_id):
                begin(connection, row.source_id, "the schedule", now)


def requeue_interrupted(ctx: AppContext, *, ended_well: bool = True) -> None:
    """Close runs that were in progress when the worker ended, and ask for them again. What they applied
    stays.

    Args:
        ended_well: whether the worker was stopped. Otherwise the run may have crashed it; a run that did so
            twice is not started again.
    """
    now = clock.now()
    stopped = {
        "status": FAILED,
        "ended_at": now,
        "message": "The service was stopped during the run.",
        "hint": "Dravo starts the run again automatically.",
    }
    with ctx.database.writing() as connection:
        for row in run_queries.running(connection, IMPORT):
            values = dict(stopped)
            crashes = row.crashes + (0 if ended_well else 1)
            if crashes >= MOST_BREAKS:
                message = "The worker crashed twice during this import run, so Dravo does not retry it."
                values |= {
                    "message": message,
                    "hint": "Look for the cause in the service's log, then run the import again.",
                }
                log.error("a run ended the worker twice and is given up", run=row.id, source=row.source_id)
            run_queries.update_run(connection, row.id, **values, crashes=crashes)
            if row.source_id and not row.stop_requested and crashes < MOST_BREAKS:
                options = RunOptions(bool(row.preview), row.whole, bool(row.allow_removals))
                begin(connection, row.source_id, row.requested_by, now, options, crashes)


def sweep(ctx: AppContext, now: Instant, days: int) -> None:
    """Delete the entries of runs that ended more than some days ago; their counts stay."""
    before = later(now, -86_400 * days)
    while True:
        with ctx.database.writing() as connection:
            if run_queries.delete_entries(connection, before, SWEPT_AT_ONCE) < SWEPT_AT_ONCE:
                return


def fail_interrupted(ctx: AppContext, source_id: str) -> None:
    """Close a run that ended with an unexpected error, so that the next one can start."""
    values = {
        "status": FAILED,
        "ended_at": clock.now(),
        "message": "The run failed with an internal error.",
        "hint": "See the service log for details.",
    }
    with ctx.database.writing() as connection:
        run_queries.end_running(connection, source_id, **values)


def next_requested(ctx: AppContext, busy: set[str]) -> tuple[str, str] | None:
    """Return (run ID, source ID) of the run that has waited longest, of a source without a run in progress;
    or None.
    """
    with ctx.database.reading() as connection:
        for run in run_queries.requested(connection, IMPORT):
            if run.source_id is not None and run.source_id not in busy:
                return run.id, run.source_id
    return None


def stop(ctx: AppContext, caller: Caller, key: str, run_id: str) -> ImportRun:
    """Have a run be stopped at its next batch.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        row = run_queries.get(connection, run_id)
        if row is None or row.source_id != source.id:
            raise NotFound(f"'{source.label}' has no run with the ID '{run_id}'.")
        if request_stop(connection, row, now):
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("stopped an import run", "source", source.id, details={"run": run_id}),
            )
    return one_run(ctx, run_id)


# Reading runs


def runs(ctx: AppContext, key: str, page_request: PageRequest) -> Page[ImportRun]:
    """Return a page of a source's runs, newest first."""
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        return run_queries.list_runs(connection, page_request, run_line, source_id=source.id)


def one_run(ctx: AppContext, run_id: str, key: str | None = None) -> ImportRun:
    """Return one run; of a source, if a key is given.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source_id = pushing_source(connection, key).id if key is not None else None
        row = run_queries.get(connection, run_id)
    if row is None or row.kind != IMPORT or (source_id is not None and row.source_id != source_id):
        raise NotFound(f"There is no run with the ID '{run_id}'.")
    return run_line(row)


def run_line(row: Run) -> ImportRun:
    """Return a run as the API shows it, with its counts, its speed and the estimated time left."""
    counts = Counter({name: value for name, value in (row.counts or {}).items() if isinstance(value, int)})
    seconds = seconds_between(row.started_at, row.ended_at or clock.now()) if row.started_at else 0.0
    rate = row.progress / seconds if seconds > 0 else 0.0
    expected = counts.pop("expected", 0)
    ended = {"roles_ended": row.roles_ended, "accounts_ended": row.accounts_ended}
    counts.update({name: number for name, number in ended.items() if number})
    goes_on = row.status == RUNNING and rate > 0 and expected > row.progress
    return ImportRun(
        id=row.id,
        status=row.status,
        requested_by=row.requested_by,
        requested_at=row.requested_at,
        started_at=row.started_at,
        ended_at=row.ended_at,
        preview=bool(row.preview),
        whole=bool(row.whole),
        progress=row.progress,
        expected=expected,
        per_second=round(rate),
        seconds_left=round((expected - row.progress) / rate) if goes_on else None,
        counts=[RunCount(name=name, number=number) for name, number in counts.items()],
        access=(row.counts or {}).get("access", []),
        message=masking.text(row.message),
        hint=row.hint,
    )


def lines(
    ctx: AppContext,
    key: str,
    run_id: str,
    page_request: PageRequest,
    kind: str | None = None,
    words: str | None = None,
) -> Page[ImportRunEntry]:
    """Return a page of what a run did to users and groups, in its order."""
    one_run(ctx, run_id, key)
    with ctx.database.reading() as connection:
        return run_queries.list_entries(connection, run_id, page_request, _line, kind=kind, words=words)


def _line(row: RunEntry) -> ImportRunEntry:
    return ImportRunEntry(
        id=row.id,
        kind=row.kind,
        user=row.user_id,
        name=row.name,
        changes=pairs(row.changes or {}),
        message=row.message,
    )
