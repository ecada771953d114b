"""One timeline: requests of sources, task attempts, reconciliations, and changes by operators.

Each kind stays in its own table; a page merges the newest of each. The cursor holds the place in each table,
so that nothing is missed or shown twice.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotPermitted
from dravo.core.instants import Instant
from dravo.core.provisioning.drift import KINDS as DRIFT_KINDS
from dravo.services.access.undo import UNDOABLE
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, source_by_key
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditObject
from dravo.services.security.permissions import AUDIT, REQUESTS, Caller
from dravo.store.pagination import LARGEST, Page, PageRequest, read_cursor, write_cursor
from dravo.store.queries.references import KeyAndLabel, key_and_label
from dravo.store.queries.runs import FINISHED, HELD, STOPPED
from dravo.store.reports import activity as stored
from dravo.store.reports.activity import AttemptEvent, ChangeEvent, EventFilter, RequestEvent, RunEvent
from dravo.store.task_status import DONE, FAILED

REQUEST, TASK, RECONCILIATION, CHANGE, RUN = "request", "task", "reconciliation", "change", "run"
KINDS = (REQUEST, TASK, RECONCILIATION, CHANGE, RUN)
PERMISSIONS = {
    REQUEST: REQUESTS,
    TASK: "tasks.read",
    RECONCILIATION: "applications.read",
    CHANGE: AUDIT,
    RUN: "sources.read",
}
WELL, TROUBLE, UNDER_WAY = "ok", "failed", "running"


@dataclass(frozen=True)
class SubjectFilter:
    """Which events of the timeline to show.

    Attributes:
        kind: one of `KINDS`; None for all.
        source, application: by key; only events that concern them.
        user: by ID.
        trouble: only errors and refusals.
        until: only events before this instant.
    """

    kind: str | None = None
    source: str | None = None
    application: str | None = None
    user: str | None = None
    trouble: bool = False
    until: Instant | None = None


@dataclass(frozen=True)
class NamedUser:
    """A user by ID and name."""

    id: str
    name: str


@dataclass(frozen=True)
class _Shown:
    """What an event says, without its place in the list.

    Attributes:
        by: who or what acted.
        task: the ID of a provisioning task.
        object: what an operator changed; `undoable` if the change can be undone.
    """

    outcome: str
    by: str
    what: str
    detail: str
    source: KeyAndLabel | None = None
    application: KeyAndLabel | None = None
    user: NamedUser | None = None
    task: str | None = None
    object: AuditObject | None = None
    undoable: bool = False


@dataclass(frozen=True)
class ActivityLine:
    """An event of the timeline."""

    id: str
    kind: str
    at: Instant
    outcome: str
    by: str
    what: str
    detail: str
    source: KeyAndLabel | None
    application: KeyAndLabel | None
    user: NamedUser | None
    task: str | None
    object: AuditObject | None
    undoable: bool


def list_activity(
    ctx: AppContext, caller: Caller, page_request: PageRequest, about: SubjectFilter
) -> Page[ActivityLine]:
    """Return a page of the timeline, newest first, with what the caller can see.

    Raises:
        NotFound: for an unknown source or application.
        InvalidInput: for an unknown kind or cursor.
        NotPermitted: if the caller cannot see that kind.
    """
    if about.kind is not None and about.kind not in KINDS:
        raise InvalidInput(f"'{about.kind}' is not a valid kind.", f"Use one of: {', '.join(KINDS)}.", "kind")
    if about.kind is not None and PERMISSIONS[about.kind] not in caller.permissions:
        raise NotPermitted(
            f"This needs the permission '{PERMISSIONS[about.kind]}', which you do not have.",
            "Ask a super administrator for access.",
        )
    count = min(max(page_request.count, 1), LARGEST)
    places: list[str | int] = (
        read_cursor(page_request.after, len(KINDS)) if page_request.after else [""] * len(KINDS)
    )
    with ctx.database.reading() as connection:
        found = _event_sources(connection, about)
        shown = [
            kind
            for kind in KINDS
            if kind in found and about.kind in (None, kind) and PERMISSIONS[kind] in caller.permissions
        ]
        events = {
            kind: found[kind].newest(connection, places[KINDS.index(kind)], count + 1) for kind in shown
        }
        total = sum(found[kind].number(connection) for kind in shown)
        merged = list(
            heapq.merge(
                *([(each.at, kind, each) for each in events[kind]] for kind in shown),
                key=lambda each: each[0],
                reverse=True,
            )
        )
        items = [
            ActivityLine(id=f"{kind}:{each.key}", kind=kind, at=at, **vars(_SHOWN[kind](each.event)))
            for at, kind, each in merged[:count]
        ]
    for _, kind, each in merged[:count]:
        places[KINDS.index(kind)] = each.key
    return Page(items, total, write_cursor(places) if len(merged) > count else None)


def _event_sources(connection: Connection, about: SubjectFilter) -> dict[str, stored.Events[Any]]:
    """Return the kinds of events to read."""
    source = source_by_key(connection, about.source, "source") if about.source else None
    application = application_by_key(connection, about.application) if about.application else None
    wanted = EventFilter(
        source_id=source.id if source else None,
        application_id=application.id if application else None,
        user_id=about.user,
        trouble=about.trouble,
        until=about.until,
    )
    found: dict[str, stored.Events[Any]] = {}
    if application is None:
        found[REQUEST] = stored.requests(wanted)
        if about.user is None:
            found[RUN] = stored.import_runs(wanted)
    if source is None:
        found[TASK] = stored.attempts(wanted)
        if about.user is None:
            found[RECONCILIATION] = stored.reconciliations(wanted)
    if not about.trouble:
        found[CHANGE] = stored.changes(wanted)
    return found


def _request(row: RequestEvent) -> _Shown:
    led_to = row.effects or {}
    subject = led_to.get("subject") or {}
    users = led_to.get("users", [])
    user = NamedUser(users[0]["id"], users[0]["name"]) if len(users) == 1 else None
    if user is None and subject.get("kind") == "user":
        user = NamedUser(subject["id"], subject.get("name") or "")
    return _Shown(
        outcome=TROUBLE if row.status >= 400 else WELL,
        by=row.label,
        what=row.outcome,
        detail=f"{row.method} {row.path} {row.status}",
        source=KeyAndLabel(row.key, row.label),
        user=user,
    )


def _task(row: AttemptEvent) -> _Shown:
    # The desired state may have changed since the attempt: its words are shown only for the same version.
    aim = f": {row.desired_state}" if row.version == row.desired_version else ""
    went = {
        DONE: f"{row.display_name} in {row.label}{aim}",
        FAILED: f"{row.display_name} in {row.label} failed{aim}",
    }
    return _Shown(
        outcome=WELL if row.outcome == DONE else TROUBLE,
        by="Dravo",
        what=went.get(row.outcome, f"{row.display_name} in {row.label} will be retried{aim}"),
        detail=masking.text(row.message) or "",
        application=KeyAndLabel(row.key, row.label),
        user=NamedUser(row.user_id, row.display_name),
        task=row.task_id,
    )


def _reconciliation(row: RunEvent) -> _Shown:
    counts = row.counts or {}
    different = sum(counts.get(kind, 0) for kind in DRIFT_KINDS)
    found = f"{different or 'no'} difference{'' if different == 1 else 's'}"
    told = {
        FINISHED: f"{row.label} was reconciled: {counts.get('read', 0)} accounts, {found}",
        FAILED: f"Reconciliation of {row.label} failed",
        STOPPED: f"Reconciliation of {row.label} was stopped",
    }
    return _Shown(
        outcome=UNDER_WAY if row.ended_at is None else WELL if row.status == FINISHED else TROUBLE,
        by=row.requested_by,
        what=told.get(row.status, f"Reconciliation of {row.label} is running"),
        detail=masking.text(row.message) or "",
        application=KeyAndLabel(row.key, row.label),
    )


def _run(row: RunEvent) -> _Shown:
    counts = row.counts or {}
    touched = ", ".join(
        f"{counts[kind]:,} {kind}"
        for kind in ("new", "changed", "back", "left", "refused", "conflict")
        if counts.get(kind)
    )
    look = "previewed" if row.preview else "read"
    told = {
        FINISHED: f"{row.label} was {look}: {row.progress:,} users, {touched or 'nothing new'}",
        HELD: f"Import of {row.label} is held, nothing was removed",
        FAILED: f"Import of {row.label} failed",
        STOPPED: f"Import of {row.label} was stopped",
    }
    return _Shown(
        outcome=UNDER_WAY if row.ended_at is None else WELL if row.status == FINISHED else TROUBLE,
        by=row.requested_by,
        what=told.get(row.status, f"Import of {row.label} is running"),
        detail=masking.text(row.message) or "",
        source=KeyAndLabel(row.key, row.label),
    )


def _change(row: ChangeEvent) -> _Shown:
    details = {**row.details, **(row.personal or {})}
    return _Shown(
        outcome=WELL,
        by=row.operator_name,
        what=row.action[:1].upper() + row.action[1:],
        detail=_told(details),
        source=key_and_label(row.source_key, row.source_label),
        application=key_and_label(row.application_key, row.application_label),
        object=AuditObject(kind=row.object_kind, id=row.object_id),
        undoable=row.action in UNDOABLE,
    )


def _told(details: dict[str, Any]) -> str:
    """Return details as one line: of a change, each value before and after."""
    before, after = details.get("before"), details.get("after")
    if isinstance(before, dict) and isinstance(after, dict):
        changed = [
            f"{name}: {_value(before.get(name))} → {_value(value)}"
            for name, value in after.items()
            if before.get(name) != value
        ]
        rest = {name: value for name, value in details.items() if name not in ("before", "after")}
        return " · ".join([*changed, *([_told(rest)] if rest else [])])
    return " · ".join(
        f"{name}: {_value(value)}" for name, value in details.items() if value not in (None, "", {})
    )


def _value(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{name} {_value(each)}" for name, each in value.items()) or "nothing"
    if isinstance(value, list):
        return ", ".join(_value(each) for each in value) or "nothing"
    return (
        "nothing"
        if value is None or value == ""
        else {True: "yes", False: "no"}[value]
        if isinstance(value, bool)
        else str(value).replace("_", " ")
    )


_SHOWN: dict[str, Callable[[Any], _Shown]] = {
    REQUEST: _request,
    TASK: _task,
    RECONCILIATION: _reconciliation,
    CHANGE: _change,
    RUN: _run,
}
