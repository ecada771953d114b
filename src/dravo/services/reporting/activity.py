"""One timeline: requests of sources, task attempts, reconciliations, and changes by operators.

Each kind stays in its own table; a page merges the newest of each. The cursor holds the place in each table,
so that nothing is missed or shown twice.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, Text, false, func, or_, select, type_coerce

from dravo.core.errors import InvalidInput, NotPermitted
from dravo.core.instants import Instant
from dravo.core.provisioning.drift import KINDS as DRIFT_KINDS
from dravo.services.access.undo import UNDOABLE
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, source_by_key
from dravo.services.security import masking
from dravo.services.security.permissions import Caller
from dravo.store import tables as t
from dravo.store.pagination import LARGEST, PageRequest, read_cursor, write_cursor
from dravo.store.plan_writer import DONE, FAILED
from dravo.store.queries.applications import Application
from dravo.store.queries.runs import FINISHED, HELD, STOPPED
from dravo.store.sources.sources import Source

REQUEST, TASK, RECONCILIATION, CHANGE, RUN = "request", "task", "reconciliation", "change", "run"
KINDS = (REQUEST, TASK, RECONCILIATION, CHANGE, RUN)
PERMISSIONS = {
    REQUEST: "sources.read",
    TASK: "tasks.read",
    RECONCILIATION: "applications.read",
    CHANGE: "audit.read",
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
class _EventSource:
    """The events of one kind: the select with all conditions, its key, the column with the time, and how a
    row is shown.
    """

    statement: Select[Any]
    key: Any
    at: Any
    show: Callable[[Any], dict[str, Any]]


def list_activity(
    ctx: AppContext, caller: Caller, page_request: PageRequest, about: SubjectFilter
) -> dict[str, Any]:
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
    places = read_cursor(page_request.after, len(KINDS)) if page_request.after else [""] * len(KINDS)
    with ctx.database.reading() as connection:
        strands = _event_sources(connection, about)
        shown = [
            kind
            for kind in KINDS
            if kind in strands and about.kind in (None, kind) and PERMISSIONS[kind] in caller.permissions
        ]
        rows = {
            kind: _rows(connection, strands[kind], places[KINDS.index(kind)], count + 1) for kind in shown
        }
        total = sum(
            connection.execute(
                select(func.count()).select_from(strands[kind].statement.subquery())
            ).scalar_one()
            for kind in shown
        )
        merged = list(
            heapq.merge(
                *([(row.at_, kind, row) for row in rows[kind]] for kind in shown),
                key=lambda each: each[0],
                reverse=True,
            )
        )
        items = [
            {"id": f"{kind}:{row.key_}", "kind": kind, "at": at, **strands[kind].show(row)}
            for at, kind, row in merged[:count]
        ]
    for _, kind, row in merged[:count]:
        places[KINDS.index(kind)] = row.key_
    return {"items": items, "total": total, "next": write_cursor(places) if len(merged) > count else None}


def _rows(connection: Connection, strand: _EventSource, place: str | int, most: int) -> Sequence[Any]:
    statement = strand.statement.add_columns(strand.key.label("key_"), strand.at.label("at_"))
    if place != "":
        statement = statement.where(strand.key < place)
    return connection.execute(statement.order_by(strand.key.desc()).limit(most)).all()


def _event_sources(connection: Connection, about: SubjectFilter) -> dict[str, _EventSource]:
    """Return the kinds of events to read."""
    source = source_by_key(connection, about.source, "source") if about.source else None
    application = application_by_key(connection, about.application) if about.application else None
    strands = {}
    if application is None:
        strands[REQUEST] = _requests(about, source)
        if about.user is None:
            strands[RUN] = _runs(about, source)
    if source is None:
        strands[TASK] = _tasks(about, application)
        if about.user is None:
            strands[RECONCILIATION] = _reconciliations(about, application)
    if not about.trouble:
        strands[CHANGE] = _changes(about, source, application)
    if about.until is None:
        return strands
    return {
        kind: _EventSource(each.statement.where(each.at < about.until), each.key, each.at, each.show)
        for kind, each in strands.items()
    }


def _requests(about: SubjectFilter, source: Source | None) -> _EventSource:
    c, s = t.trace.c, t.source.c
    statement = select(c.method, c.path, c.status, c.outcome, c.effects, s.key, s.label).join(
        t.source, s.id == c.source_id
    )
    if source is not None:
        statement = statement.where(c.source_id == source.id)
    if about.user is not None:
        statement = statement.where(type_coerce(c.effects, Text).contains(f'"{about.user}"', autoescape=True))
    if about.trouble:
        statement = statement.where(c.status >= 400)
    return _EventSource(statement, c.id, c.at, _request)


def _request(row: Any) -> dict[str, Any]:
    led_to = row.effects or {}
    subject = led_to.get("subject") or {}
    users = led_to.get("users", [])
    user = {"id": users[0]["id"], "name": users[0]["name"]} if len(users) == 1 else None
    if user is None and subject.get("kind") == "user":
        user = {"id": subject["id"], "name": subject.get("name") or ""}
    return {
        "outcome": TROUBLE if row.status >= 400 else WELL,
        "by": row.label,
        "what": row.outcome,
        "detail": f"{row.method} {row.path} {row.status}",
        "source": {"key": row.key, "label": row.label},
        "application": None,
        "user": user,
    }


def _tasks(about: SubjectFilter, application: Application | None) -> _EventSource:
    x, d, u, p = t.task_attempt.c, t.task.c, t.user.c, t.application.c
    statement = (
        select(
            x.outcome,
            x.message,
            d.id,
            d.desired_state,
            d.version.label("aimed"),
            x.version,
            d.user_id,
            u.display_name,
            p.key,
            p.label,
        )
        .join(t.task, d.id == x.task_id)
        .join(t.user, u.id == d.user_id)
        .join(t.application, p.id == d.application_id)
    )
    if application is not None:
        statement = statement.where(d.application_id == application.id)
    if about.user is not None:
        statement = statement.where(d.user_id == about.user)
    if about.trouble:
        statement = statement.where(x.outcome != DONE)
    return _EventSource(statement, x.id, x.ended_at, _task)


def _task(row: Any) -> dict[str, Any]:
    # What is to be done now may be more than what was aimed at then: only the words of the same version fit.
    aim = f": {row.desired_state}" if row.version == row.aimed else ""
    went = {
        DONE: f"{row.display_name} in {row.label}{aim}",
        FAILED: f"{row.display_name} in {row.label} failed{aim}",
    }
    return {
        "outcome": WELL if row.outcome == DONE else TROUBLE,
        "by": "Dravo",
        "what": went.get(row.outcome, f"{row.display_name} in {row.label} will be retried{aim}"),
        "detail": masking.text(row.message) or "",
        "source": None,
        "application": {"key": row.key, "label": row.label},
        "user": {"id": row.user_id, "name": row.display_name},
        "task": row.id,
    }


def _reconciliations(about: SubjectFilter, application: Application | None) -> _EventSource:
    r, p = t.run.c, t.application.c
    statement = select(
        r.status, r.requested_by, r.counts, r.message, r.progress, r.ended_at, p.key, p.label
    ).join(t.application, p.id == r.application_id)
    if application is not None:
        statement = statement.where(r.application_id == application.id)
    if about.trouble:
        statement = statement.where(r.status.in_((FAILED, STOPPED)))
    return _EventSource(statement, r.id, func.coalesce(r.ended_at, r.requested_at), _reconciliation)


def _reconciliation(row: Any) -> dict[str, Any]:
    counts = row.counts or {}
    different = sum(counts.get(kind, 0) for kind in DRIFT_KINDS)
    found = f"{different or 'no'} difference{'' if different == 1 else 's'}"
    told = {
        FINISHED: f"{row.label} was reconciled: {counts.get('read', 0)} accounts, {found}",
        FAILED: f"Reconciliation of {row.label} failed",
        STOPPED: f"Reconciliation of {row.label} was stopped",
    }
    return {
        "outcome": UNDER_WAY if row.ended_at is None else WELL if row.status == FINISHED else TROUBLE,
        "by": row.requested_by,
        "what": told.get(row.status, f"Reconciliation of {row.label} is running"),
        "detail": masking.text(row.message) or "",
        "source": None,
        "application": {"key": row.key, "label": row.label},
        "user": None,
    }


def _runs(about: SubjectFilter, source: Source | None) -> _EventSource:
    r, s = t.run.c, t.source.c
    columns = (
        r.status,
        r.requested_by,
        r.counts,
        r.message,
        r.progress,
        r.ended_at,
        r.preview,
        s.key,
        s.label,
    )
    statement = select(*columns).join(t.source, s.id == r.source_id).where(r.source_id.is_not(None))
    if source is not None:
        statement = statement.where(r.source_id == source.id)
    if about.trouble:
        statement = statement.where(r.status.in_((FAILED, HELD, STOPPED)))
    return _EventSource(statement, r.id, func.coalesce(r.ended_at, r.requested_at), _run)


def _run(row: Any) -> dict[str, Any]:
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
    return {
        "outcome": UNDER_WAY if row.ended_at is None else WELL if row.status == FINISHED else TROUBLE,
        "by": row.requested_by,
        "what": told.get(row.status, f"Import of {row.label} is running"),
        "detail": masking.text(row.message) or "",
        "source": {"key": row.key, "label": row.label},
        "application": None,
        "user": None,
    }


def _changes(about: SubjectFilter, source: Source | None, application: Application | None) -> _EventSource:
    c, s, p = t.audit.c, t.source.c, t.application.c
    names = (
        s.key.label("source_key"),
        s.label.label("source_label"),
        p.key.label("application_key"),
        p.label.label("application_label"),
    )
    statement = (
        select(c.operator_name, c.action, c.object_kind, c.object_id, c.details, c.personal, *names)
        .outerjoin(t.source, s.id == c.object_id)
        .outerjoin(t.application, p.id == c.object_id)
    )
    if source is not None:
        statement = statement.where(c.object_id == source.id)
    if application is not None:
        belongs = (t.assignment, t.account, t.task, t.provisioned_group)
        statement = statement.where(
            or_(
                c.object_id == application.id,
                *(
                    c.object_id.in_(select(each.c.id).where(each.c.application_id == application.id))
                    for each in belongs
                ),
            )
        )
    if about.user is not None:
        theirs = (t.assignment, t.account, t.task)
        ids = (c.object_id.in_(select(each.c.id).where(each.c.user_id == about.user)) for each in theirs)
        statement = statement.where(or_(false(), c.object_id == about.user, *ids))
    return _EventSource(statement, c.id, c.at, _change)


def _change(row: Any) -> dict[str, Any]:
    details = {**row.details, **(row.personal or {})}
    return {
        "outcome": WELL,
        "by": row.operator_name,
        "what": row.action[:1].upper() + row.action[1:],
        "detail": _told(details),
        "source": {"key": row.source_key, "label": row.source_label} if row.source_key else None,
        "application": {"key": row.application_key, "label": row.application_label}
        if row.application_key
        else None,
        "user": None,
        "object": {"kind": row.object_kind, "id": row.object_id},
        "undoable": row.action in UNDOABLE,
    }


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
