"""Reconciliation: reads what an application has, compares it with the desired state, lists the drift, and
repairs what is chosen.

An incomplete list proves nothing. The worker carries runs out; a run shows its progress and can be stopped.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core import schedules
from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.provisioning import seen_values
from dravo.core.provisioning.accounts import (
    MANAGER,
    PRESENT,
    carriers,
    manager_account,
    provisioned_names,
    with_manager,
)
from dravo.core.provisioning.drift import (
    KINDS,
    Drift,
    Expected,
    ExpectedGroup,
    compare,
    compare_groups,
)
from dravo.core.provisioning.seen_values import SeenValue
from dravo.protocols.http_client import Request
from dravo.protocols.scim_client.account_sync import accepted_body, segment
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.listing import everything
from dravo.protocols.scim_client.responses import ProvisioningError, classify
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.client import ApplicationClient, ConnectedApplication, ExchangeLog
from dravo.services.provisioning.drift import found_accounts
from dravo.services.provisioning.drift.differences import IGNORED, OPEN
from dravo.services.provisioning.groups import desired_name
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import applications as application_settings
from dravo.store.provisioning import drift as stored
from dravo.store.queries import applications as application_rows
from dravo.store.queries import runs as run_queries
from dravo.store.queries.runs import ASKED, FAILED, FINISHED, STOPPED, Run, request_stop

RECONCILIATION = "reconciliation"


@dataclass
class ReconciliationRun:
    """A reconciliation with its progress and result."""

    id: str
    status: str
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    groups: int
    read: int
    counts: dict[str, int]
    message: str | None
    hint: str | None


class Stopped(Exception):
    """An operator asked to stop the run."""


def ask_for(ctx: AppContext, caller: Caller, key: str) -> ReconciliationRun:
    """Ask for a reconciliation of an application; return the run.

    Raises:
        NotFound.
        InvalidInput: if the application is not connected.
        AlreadyExists: if a run is in progress.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        if application.tracked_only:
            raise InvalidInput(
                f"'{application.label}' is tracked only.",
                "Turn off `tracked_only` to reconcile the application.",
            )
        if not application.base_url or not application.secret:
            raise InvalidInput(
                f"'{application.label}' has no connection.", "Save the SCIM base URL and the token first."
            )
        if _under_way(connection, application.id):
            raise AlreadyExists(
                f"A reconciliation of '{application.label}' is in progress.",
                "Wait for the run to end, or stop it.",
            )
        run_id = _ask(connection, application.id, caller.name, now)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("started a reconciliation", "application", application.id, details={"key": key}),
        )
    return one_run(ctx, run_id)


def request_scheduled(ctx: AppContext, now: Instant) -> None:
    """Ask for scheduled runs; a run that was missed while the service was down is made up once."""
    with ctx.database.reading() as connection:
        if not application_settings.has_due_reconciliation(connection, now):
            return
    with ctx.database.writing() as connection:
        for row in application_settings.due_for_reconciliation(connection, now):
            following = schedules.next_time(row.reconcile_schedule, now) if row.reconcile_schedule else None
            application_rows.update_application(connection, row.id, reconcile_next_at=following)
            if row.base_url and row.secret and row.enabled and not _under_way(connection, row.id):
                _ask(connection, row.id, "the schedule", now)


def _under_way(connection: Connection, application_id: str) -> bool:
    return run_queries.is_open_for(connection, application_id)


def _ask(connection: Connection, application_id: str, requested_by: str, now: Instant) -> str:
    run_id = new_id()
    row = {
        "id": run_id,
        "kind": RECONCILIATION,
        "application_id": application_id,
        "status": ASKED,
        "requested_by": requested_by,
        "requested_at": now,
        "progress": 0,
        "stop_requested": False,
    }
    run_queries.insert_run(connection, row)
    return run_id


def end_broken_off(
    ctx: AppContext,
    message: str = "The service was stopped during the run.",
    hint: str = "Start the reconciliation again.",
) -> None:
    """Close runs that were in progress when the worker ended. A run writes its findings only at its end."""
    values = {"status": FAILED, "ended_at": clock.now(), "message": message, "hint": hint}
    with ctx.database.writing() as connection:
        for run in run_queries.running(connection, RECONCILIATION):
            run_queries.update_run(connection, run.id, **values)


def next_requested(ctx: AppContext) -> str | None:
    """Return the id of the run that has waited longest, or None."""
    with ctx.database.reading() as connection:
        waiting = run_queries.requested(connection, RECONCILIATION)
    return waiting[0].id if waiting else None


def carry_out(ctx: AppContext, talker: ApplicationClient, run_id: str) -> None:
    """Carry out a run: read, compare, and write the drift."""
    with ctx.database.writing() as connection:
        run = run_queries.start(connection, run_id, clock.now())
        if run is None or run.application_id is None:
            # An operator stopped it before it started.
            return
        application = application_rows.by_id(connection, run.application_id)
    if application.base_url is None or application.secret is None:
        _end(ctx, run_id, FAILED, "The connection of the application was removed.")
        return
    there = ConnectedApplication(
        application.id,
        application.base_url,
        application.secret,
        application.auth,
        application.capabilities,
        application.rate_limit,
    )
    try:
        talk = ExchangeLog(there)
        capabilities = talker.capabilities(talk)
        read = _read(ctx, talker, talk, everything("/Users", capabilities), run_id, 0)
        with ctx.database.reading() as connection:
            expected, left_alone = _expected(ctx, connection, application.id, capabilities)
            groups, users, unsettled = _expected_groups(ctx, connection, application.id)
        drifts = list(compare(expected, read, left_alone))
        there_are: list[Mapping[str, Any]] = []
        if groups:
            there_are = _read(ctx, talker, talk, _groups_there(groups, capabilities), run_id, len(read))
            drifts.extend(compare_groups(groups, there_are, users, unsettled))
        seen = seen_values.collect(read, there_are)
        compared = {"read": len(read), "groups": len(groups)}
        _write(ctx, run_id, application.id, drifts, seen, compared)
        found_accounts.apply_policy(ctx, application.id)
    except Stopped:
        _end(ctx, run_id, STOPPED, "The run was stopped. The previous results remain.")
    except (ProvisioningError, DravoError) as wrong:
        _end(ctx, run_id, FAILED, wrong.message, wrong.hint)


def _groups_there(
    groups: Sequence[ExpectedGroup], capabilities: Capabilities
) -> Generator[Request, Any, list[Mapping[str, Any]]]:
    """Read the groups of an application; a group listed without members is read separately."""
    listed = yield from everything("/Groups", capabilities)
    by_id = {str(each["id"]): each for each in listed}
    for group in groups:
        found = by_id.get(group.remote_id or "")
        if found is not None and group.remote_id is not None and group.members and "members" not in found:
            response = yield Request("GET", f"/Groups/{segment(group.remote_id)}")
            if response.status == 404:
                del by_id[group.remote_id]
            else:
                by_id[group.remote_id] = classify(response, "reading a group")
    return list(by_id.values())


def _read(
    ctx: AppContext,
    talker: ApplicationClient,
    talk: ExchangeLog,
    conversation: Generator[Request, Any, list[Mapping[str, Any]]],
    run_id: str,
    progress: int,
) -> list[Mapping[str, Any]]:
    """Read a whole list, writing the progress; raises `Stopped` if an operator asked for it."""
    answer: Any = None
    while True:
        try:
            request = conversation.send(answer)
        except StopIteration as end:
            read: list[Mapping[str, Any]] = end.value
            return read
        answer = talker.exchange(talk, request)
        progress += len((answer.body or {}).get("Resources") or [])
        with ctx.database.writing() as connection:
            run_queries.update_run(connection, run_id, progress=progress)
            if run_queries.is_stop_requested(connection, run_id):
                raise Stopped


def _expected(
    ctx: AppContext, connection: Connection, application_id: str, capabilities: Capabilities
) -> tuple[list[Expected], frozenset[str]]:
    """Return accounts that are in sync or failed, and the remote IDs of the others: work in progress is no
    drift.
    """
    provisioned = provisioned_names(ctx.catalogue.get(connection).applications[application_id].settings)
    expected: list[Expected] = []
    left_alone: set[str] = set()
    for row in stored.accounts_to_compare(connection, application_id):
        if row.desired["want"] != PRESENT or (row.applied_version < row.desired_version and not row.failed):
            left_alone.update([row.remote_id] if row.remote_id else [])
            continue
        if row.remote_id is None and not row.desired["active"]:
            continue
        desired = row.desired
        if MANAGER in desired:
            desired = with_manager(desired, manager_account(row.applied or {}))
        body = accepted_body(desired, capabilities)
        empty = frozenset(name for name in provisioned if name not in body and capabilities.takes(name))
        expected.append(
            Expected(
                row.id,
                row.remote_id,
                row.display_name,
                body,
                carriers(row.desired, capabilities.roles),
                empty,
            )
        )
    return expected, frozenset(left_alone)


def _expected_groups(
    ctx: AppContext, connection: Connection, application_id: str
) -> tuple[list[ExpectedGroup], dict[str, str], frozenset[str]]:
    """Return the desired groups to compare with.

    Returns:
        Groups that are in sync or failed; the names of all provisioned users by their remote IDs; and the
            remote IDs of all other provisioned groups.
    """
    users = stored.names_by_remote_id(connection, application_id)
    members = stored.members_to_compare(connection, application_id)
    found = []
    for group in stored.groups_to_compare(connection, application_id):
        name = desired_name(ctx, connection, group)
        if name is not None:
            found.append(ExpectedGroup(group.id, group.remote_id, name, frozenset(members.get(group.id, ()))))
    every = stored.remote_ids_of_groups(connection, application_id)
    return found, users, frozenset(every - {each.remote_id or "" for each in found})


def _write(
    ctx: AppContext,
    run_id: str,
    application_id: str,
    drifts: Sequence[Drift],
    seen: list[SeenValue],
    compared: dict[str, int],
) -> None:
    """Write the drift and the seen values, and end the run, all at once.

    Args:
        compared: how many accounts ("read") and groups ("groups") were compared.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        if application_rows.key_of(connection, application_id) is None:
            # Deleted during the run, and the run with it.
            return
        known = {(row.kind, row.about): row for row in stored.of_application(connection, application_id)}
        made = []
        for each in drifts:
            values: dict[str, Any] = {
                "there": each.there,
                "differences": [dict(one) for one in each.differences],
                "name": each.name,
                "remote_id": each.remote_id,
                "last_seen_at": now,
                "run_id": run_id,
            }
            row = known.pop((each.kind, each.about), None)
            if row is None:
                fixed = {
                    "id": new_id(),
                    "application_id": application_id,
                    "kind": each.kind,
                    "about": each.about,
                    "account_id": each.account_id,
                }
                made.append({**fixed, **values, "status": OPEN, "first_seen_at": now})
            else:
                status = row.status if row.status == IGNORED else OPEN
                stored.update_drift(connection, row.id, **values, status=status)
        stored.insert_drift(connection, made)
        stored.delete_drift(connection, [row.id for row in known.values()])
        _note_values(connection, application_id, seen, now)
        counts = {**compared, **Counter(each.kind for each in drifts)}
        run_queries.update_run(
            connection, run_id, status=FINISHED, ended_at=now, counts=counts, progress=compared["read"]
        )


def _note_values(connection: Connection, application_id: str, seen: list[SeenValue], now: Instant) -> None:
    """Store the roles, entitlements and groups of an application; groups that were not read are kept."""
    if not any(each.attribute == seen_values.GROUPS for each in seen):
        document = application_rows.by_id(connection, application_id).seen_values or {}
        before = seen_values.read(document.get("values"))
        seen = [*seen, *(each for each in before if each.attribute == seen_values.GROUPS)]
    document = {"values": [each.document() for each in seen], "complete": True}
    application_rows.update_application(connection, application_id, seen_values=document, seen_at=now)


def _end(ctx: AppContext, run_id: str, status: str, message: str, hint: str = "") -> None:
    values = {"status": status, "ended_at": clock.now(), "message": message, "hint": hint}
    with ctx.database.writing() as connection:
        run_queries.update_run(connection, run_id, **values)


def stop(ctx: AppContext, caller: Caller, run_id: str) -> ReconciliationRun:
    """Have a run be stopped at its next page.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = _known_run(connection, run_id)
        if request_stop(connection, row, now):
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "stopped a reconciliation",
                    "application",
                    str(row.application_id),
                    details={"run": run_id},
                ),
            )
    return one_run(ctx, run_id)


# Reading runs and drift


def runs(ctx: AppContext, key: str, page_request: PageRequest) -> Page[ReconciliationRun]:
    """Return a page of an application's runs, newest first."""
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        return run_queries.list_runs(connection, page_request, _run_line, application_id=application.id)


def one_run(ctx: AppContext, run_id: str) -> ReconciliationRun:
    """Return one run.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        return _run_line(_known_run(connection, run_id))


def _known_run(connection: Connection, run_id: str) -> Run:
    row = run_queries.get(connection, run_id)
    if row is None or row.kind != RECONCILIATION:
        raise NotFound(f"There is no run with the ID '{run_id}'.")
    return row


def _run_line(row: Run) -> ReconciliationRun:
    counts = row.counts or {}
    return ReconciliationRun(
        id=row.id,
        status=row.status,
        requested_by=row.requested_by,
        requested_at=row.requested_at,
        started_at=row.started_at,
        ended_at=row.ended_at,
        progress=row.progress,
        read=counts.get("read", row.progress),
        groups=counts.get("groups", 0),
        counts={kind: counts.get(kind, 0) for kind in KINDS},
        message=masking.text(row.message),
        hint=row.hint,
    )


# Repairing and ignoring
