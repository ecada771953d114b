"""Reconciliation: reads what an application has, compares it with the desired state, lists the drift, and
repairs what is chosen.

An incomplete list proves nothing. The worker carries runs out; a run shows its progress and can be stopped.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, case, delete, exists, insert, or_, select, update

from dravo.core import schedules
from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import PRESENT, carriers, provisioned_names, scim_body
from dravo.core.provisioning.drift import (
    GROUP_KINDS,
    GROUP_MEMBERS,
    GROUP_MISSING,
    GROUP_UNEXPECTED,
    KINDS,
    MISSING,
    UNEXPECTED,
    Drift,
    Expected,
    ExpectedGroup,
    compare,
    compare_groups,
)
from dravo.protocols.http_client import Request
from dravo.protocols.scim_client.account_sync import segment
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.listing import everything
from dravo.protocols.scim_client.responses import ProvisioningError, classify
from dravo.services.context import AppContext
from dravo.services.imports.config import ChangedAttribute
from dravo.services.lookups import application_by_key
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning.client import ApplicationClient, ConnectedApplication, ExchangeLog
from dravo.services.provisioning.groups import desired_name
from dravo.services.provisioning.tasks import reopen
from dravo.services.results import Number
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.plan_writer import DONE
from dravo.store.plan_writer import FAILED as FAILED_TASK
from dravo.store.queries import applications as application_rows
from dravo.store.queries import runs as run_queries
from dravo.store.queries.runs import ASKED, FAILED, FINISHED, STOPPED, Run, request_stop

RECONCILIATION = "reconciliation"
OPEN, MENDING, IGNORED = "open", "repairing", "ignored"


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


@dataclass
class DriftLine:
    """A difference between an application and its desired state."""

    id: str
    kind: str
    status: str
    name: str
    user: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str


@dataclass
class RepairLine:
    """What a repair does to one account or group."""

    id: str
    kind: str
    name: str
    effect: str


@dataclass
class RepairPreview:
    """The result of a repair."""

    number: int
    items: list[RepairLine]


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
    p = t.application.c
    due = (p.reconcile_next_at.is_not(None), p.reconcile_next_at <= now)
    with ctx.database.reading() as connection:
        if connection.execute(select(p.id).where(*due).limit(1)).first() is None:
            return
    with ctx.database.writing() as connection:
        for row in connection.execute(select(t.application).where(*due)).all():
            following = schedules.next_time(row.reconcile_schedule, now) if row.reconcile_schedule else None
            connection.execute(
                update(t.application).where(p.id == row.id).values(reconcile_next_at=following)
            )
            if row.base_url and row.secret and row.enabled and not _under_way(connection, row.id):
                _ask(connection, row.id, "the schedule", now)


def _under_way(connection: Connection, application_id: str) -> bool:
    r = t.run.c
    return (
        connection.execute(
            select(r.id).where(r.application_id == application_id, r.ended_at.is_(None)).limit(1)
        ).first()
        is not None
    )


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
    connection.execute(insert(t.run).values(**row))
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
        if groups:
            there_are = _read(ctx, talker, talk, _groups_there(groups, capabilities), run_id, len(read))
            drifts.extend(compare_groups(groups, there_are, users, unsettled))
        _write(ctx, run_id, application.id, drifts, len(read), len(groups))
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
    a, u, d = t.account.c, t.user.c, t.task.c
    failed = exists().where(d.account_id == a.id, d.closed_at.is_(None), d.status == FAILED_TASK)
    statement = select(
        a.id,
        a.desired,
        a.desired_version,
        a.applied_version,
        a.remote_id,
        u.display_name,
        failed.label("failed"),
    ).join(t.user, u.id == a.user_id)
    provisioned = provisioned_names(ctx.catalogue.get(connection).applications[application_id].settings)
    expected, left_alone = [], set()
    for row in connection.execute(
        statement.where(a.application_id == application_id, a.remote_id.is_not(None) | failed)
    ):
        if row.desired["want"] != PRESENT or (row.applied_version < row.desired_version and not row.failed):
            left_alone.add(row.remote_id)
            continue
        if row.remote_id is None and not row.desired["active"]:
            continue
        body = {
            name: value
            for name, value in scim_body(row.desired, capabilities.roles).items()
            if capabilities.takes(name)
        }
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
    return expected, frozenset(left_alone - {None})


def _expected_groups(
    ctx: AppContext, connection: Connection, application_id: str
) -> tuple[list[ExpectedGroup], dict[str, str], frozenset[str]]:
    """Return the desired groups to compare with.

    Returns:
        Groups that are in sync or failed; the names of all provisioned users by their remote IDs; and the
            remote IDs of all other provisioned groups.
    """
    g, m, p, a, u = t.provisioned_group.c, t.provisioned_member.c, t.application.c, t.account.c, t.user.c
    names = (
        select(a.remote_id, u.display_name)
        .join(t.user, u.id == a.user_id)
        .where(a.application_id == application_id, a.remote_id.is_not(None))
    )
    users = {row.remote_id: row.display_name for row in connection.execute(names)}
    settled = (
        g.application_id == application_id,
        or_(and_(g.status == DONE, g.remote_id.is_not(None)), g.status == FAILED_TASK),
    )
    members: dict[str, set[str]] = {}
    # For a failed group no members are stored; its members are then all users with an account.
    remote = case((g.status == DONE, m.applied_remote_id), else_=a.remote_id)
    inside = (
        select(g.id, remote.label("remote_id"))
        .join(t.provisioned_member, m.provisioned_group_id == g.id)
        .join(t.account, a.id == m.account_id)
    )
    for row in connection.execute(inside.where(*settled, m.desired.is_(True), remote.is_not(None))):
        members.setdefault(row.id, set()).add(row.remote_id)
    found = []
    columns = select(g.id, g.key, g.remote_id, g.application_id, p.role_encoding, p.provisioned_groups).join(
        t.application, p.id == g.application_id
    )
    for group in connection.execute(columns.where(*settled)).all():
        name = desired_name(ctx, connection, group)
        if name is not None:
            found.append(ExpectedGroup(group.id, group.remote_id, name, frozenset(members.get(group.id, ()))))
    every = connection.execute(
        select(g.remote_id).where(g.application_id == application_id, g.remote_id.is_not(None))
    ).scalars()
    return found, users, frozenset(every) - {each.remote_id or "" for each in found}


def _write(
    ctx: AppContext, run_id: str, application_id: str, drifts: Sequence[Drift], read: int, groups: int
) -> None:
    now = clock.now()
    d = t.drift.c
    with ctx.database.writing() as connection:
        known = {
            (row.kind, row.about): row
            for row in connection.execute(select(t.drift).where(d.application_id == application_id))
        }
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
                connection.execute(update(t.drift).where(d.id == row.id).values(**values, status=status))
        if made:
            connection.execute(insert(t.drift), made)
        gone = [row.id for row in known.values()]
        for start in range(0, len(gone), 500):
            connection.execute(delete(t.drift).where(d.id.in_(gone[start : start + 500])))
        counts = {"read": read, "groups": groups, **Counter(each.kind for each in drifts)}
        run_queries.update_run(
            connection, run_id, status=FINISHED, ended_at=now, counts=counts, progress=read
        )


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
        message=row.message,
        hint=row.hint,
    )


def drift(
    ctx: AppContext, key: str, page_request: PageRequest, kind: str | None = None, status: str | None = None
) -> Page[DriftLine]:
    """Return a page of an application's drift by name; without a status, open and repairing differences."""
    d, a, g = t.drift.c, t.account.c, t.provisioned_group.c
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        statement = (
            select(
                t.drift,
                a.user_id,
                a.applied_at,
                a.applied_version,
                a.desired_version,
                g.applied_at.label("group_agreed_at"),
                g.status.label("group_status"),
            )
            .outerjoin(t.account, a.id == d.account_id)
            .outerjoin(t.provisioned_group, d.kind.in_(GROUP_KINDS) & (g.id == d.about))
            .where(d.application_id == application.id)
        )
        statement = statement.where(d.status == status) if status else statement.where(d.status != IGNORED)
        if kind:
            statement = statement.where(d.kind == kind)
        return page(connection, statement, [d.name, d.id], page_request, _drift_line)


def _drift_line(row: Any) -> DriftLine:
    settled, at = row.applied_version == row.desired_version, row.applied_at
    if row.kind in GROUP_KINDS:
        settled, at = row.group_status == DONE, row.group_agreed_at
    repaired = row.status == MENDING and settled and (at or "") > row.last_seen_at
    return DriftLine(
        id=row.id,
        kind=row.kind,
        status="repaired" if repaired else row.status,
        name=row.name,
        user=row.user_id,
        account=row.account_id,
        remote_id=row.remote_id,
        there=row.there or {},
        changes=row.differences or [],
        first_seen_at=row.first_seen_at,
        last_seen_at=row.last_seen_at,
    )


# Repairing and ignoring


def preview_repair(ctx: AppContext, key: str, ids: Sequence[str]) -> RepairPreview:
    """Return what a repair would do to each account and group; nothing is changed.

    Returns:
        {"number", "items": [{"id", "kind", "name", "effect"}]}.

    Raises:
        InvalidInput: for a difference that a repair cannot remove; NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        rows = rows_of(connection, application.id, ids)
    for row in rows:
        _check_repairable(row)
    items = [
        RepairLine(
            id=row.id,
            kind=row.kind,
            name=row.name,
            effect=_effect(row),
        )
        for row in sorted(rows, key=lambda row: str(row.name))
    ]
    return RepairPreview(
        number=len(items),
        items=items,
    )


def _effect(row: Any) -> str:
    """Return what a repair of one difference sends, in a sentence."""
    if row.kind == MISSING:
        return "Dravo creates the account again, or adopts a matching one."
    if row.kind == GROUP_MISSING:
        return "Dravo creates the group again with its members."
    if row.kind == GROUP_MEMBERS:
        return "Dravo adds the missing members and removes the others."
    changes = [
        f"{each['attribute']}: {_value(each['before'])} becomes {_value(each['after'])}"
        for each in row.differences or ()
    ]
    return f"{'; '.join(changes)}." if changes else "Dravo reads the account and sends what differs."


def _value(value: Any) -> str:
    """Return a value in words: of a list its elements, of an element its label or value."""
    if value in (None, "", []):
        return "empty"
    if isinstance(value, list):
        return ", ".join(_value(each) for each in value)
    if isinstance(value, dict):
        return _value(value.get("display") or value.get("value") or value.get("formatted") or str(value))
    return "yes" if value is True else "no" if value is False else f"'{value}'"


def _check_repairable(row: Any) -> None:
    if row.kind == UNEXPECTED:
        raise InvalidInput(
            f"The account '{row.name}' has no user in Dravo.",
            "Link the account to a user, create a user for it, or ignore it.",
            "ids",
        )
    if row.kind == GROUP_UNEXPECTED:
        raise InvalidInput(
            f"Dravo did not create the group '{row.name}'.",
            "Delete the group in the application, or ignore it.",
            "ids",
        )


def repair(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str]) -> Number:
    """Repair accounts and groups: read each in the application, and send what differs.

    Raises:
        InvalidInput: for an account or group that Dravo does not manage; those are linked or ignored.
    """
    return _act(ctx, caller, key, ids, "repaired drift", MENDING)


def ignore(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str], *, ignored: bool = True) -> Number:
    """Ignore differences, which leave the list, or stop ignoring them."""
    return _act(
        ctx,
        caller,
        key,
        ids,
        "ignored drift" if ignored else "stopped ignoring drift",
        IGNORED if ignored else OPEN,
    )


def _act(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str], action: str, status: str) -> Number:
    now = clock.now()
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        rows = rows_of(connection, application.id, ids)
        for row in rows:
            if status == MENDING:
                _check_repairable(row)
                if row.kind in GROUP_KINDS:
                    group_provisioning.read_again(connection, row.about, now)
                else:
                    reopen(connection, row.account_id, now)
                    _note_empty(connection, row)
            connection.execute(update(t.drift).where(t.drift.c.id == row.id).values(status=status))
        details = {"application": key, "number": len(rows), "names": [row.name for row in rows[:20]]}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(action, "application", application.id, details=details),
        )
    return Number(len(rows))


def _note_empty(connection: Connection, row: Any) -> None:
    """Note the values that a repair empties in an account, because its user does not have them."""
    names = {
        each["attribute"].rpartition(":")[0] or each["attribute"]
        for each in row.differences or ()
        if each["after"] is None
    }
    before = connection.execute(select(t.account.c.to_empty).where(t.account.c.id == row.account_id)).scalar()
    if names:
        connection.execute(
            update(t.account)
            .where(t.account.c.id == row.account_id)
            .values(to_empty=sorted({*names, *(before or ())}))
        )


def rows_of(connection: Connection, application_id: str, ids: Sequence[str]) -> list[Any]:
    """Return differences of an application by ID.

    Raises:
        NotFound: if none of them exists any more.
    """
    d = t.drift.c
    rows = list(
        connection.execute(
            select(t.drift).where(d.application_id == application_id, d.id.in_(list(ids)[:1_000]))
        )
    )
    if not rows:
        raise NotFound("These differences no longer exist.", "Reconcile again.")
    return rows
