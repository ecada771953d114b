"""Holds: removals above the limit wait until an operator approves or discards them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, select, true, update

from dravo.core.errors import NotFound
from dravo.core.instants import Instant, later
from dravo.services import events, settings
from dravo.services.changes.removal_limits import check_confirmed, limits
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.results import Number
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import ItemList
from dravo.store.plan_writer import DROPPED, HELD, WAITING
from dravo.store.queries import access as access_queries
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref

HOLDS = "removal_limit"
CHUNK = 500


@dataclass
class HeldUser:
    """A held removal of a user."""

    user: UserRef
    desired_state: str


@dataclass
class HoldItem:
    """The held removals of an application."""

    application: KeyAndLabel
    number: int
    since: str
    message: str
    users: list[HeldUser]


def hold_removals(ctx: AppContext, now: Instant, set_aside: Sequence[str] = ()) -> int:
    """Release removals within the limits, and hold the others. Marked users are recomputed first.

    Args:
        set_aside: IDs of marked users whose access cannot be computed now; removals of all others do not wait
            for them.

    Returns:
        The number of removals that were released or held.
    """
    d = t.task.c
    unjudged = (d.status == WAITING, d.removes == true(), d.released_at.is_(None))
    with ctx.database.reading() as connection:
        if connection.execute(select(d.id).where(*unjudged).limit(1)).first() is None:
            return 0
        if (
            connection.execute(
                select(t.pending_recompute.c.user_id)
                .where(t.pending_recompute.c.user_id.not_in(set_aside))
                .limit(1)
            ).first()
            is not None
        ):
            return 0
        waiting = connection.execute(
            select(d.id, d.application_id, d.user_id, t.application.c.key)
            .join(t.application, t.application.c.id == d.application_id)
            .where(*unjudged)
        ).all()
        held = _beyond(connection, waiting, now)
    let = [row.id for row in waiting if row.id not in held]
    for application, number in Counter(row.key for row in waiting if row.id in held).items():
        events.note(events.HOLD, "removals", number, application=application)
    with ctx.database.writing() as connection:
        for start in range(0, len(let), CHUNK):
            some = let[start : start + CHUNK]
            connection.execute(update(t.task).where(d.id.in_(some), *unjudged).values(released_at=now))
        for message, ids in _by_message(held).items():
            hint = "Check the affected users, then approve or discard the removals."
            values = {"status": HELD, "kind": HOLDS, "held_at": now, "message": message, "hint": hint}
            for start in range(0, len(ids), CHUNK):
                connection.execute(
                    update(t.task).where(d.id.in_(ids[start : start + CHUNK]), *unjudged).values(**values)
                )
    return len(waiting)


def _by_message(held: dict[str, str]) -> dict[str, list[str]]:
    found: defaultdict[str, list[str]] = defaultdict(list)
    for task_id, message in held.items():
        found[message].append(task_id)
    return found


def _beyond(connection: Connection, waiting: Any, now: Instant) -> dict[str, str]:
    """Return for each task above a limit the reason: the limit of its application, or of the user's
    source.
    """
    values = settings.read(connection)
    limit = limits(values)
    since = later(now, -3_600 * values["removal_limit_hours"])
    held: dict[str, str] = {}
    d = t.task.c
    # Removals that are held already count too, so that later ones in the window are held as well.
    counted = (
        d.removes == true(),
        (d.released_at >= since) & d.released_by.is_(None) | d.held_at.is_not(None) & d.closed_at.is_(None),
    )
    labels = {
        row.id: row.label for row in connection.execute(select(t.application.c.id, t.application.c.label))
    }
    due = Counter(row.application_id for row in waiting)
    for application_id, number in due.items():
        recent = connection.execute(
            select(func.count()).select_from(t.task).where(d.application_id == application_id, *counted)
        ).scalar_one()
        population = access_queries.number_of_users(connection, application_id)
        allowed = limit.allowed(population)
        if recent + number > allowed:
            message = _message(
                recent + number, f"{labels[application_id]}, which has {population:,} accounts", allowed
            )
            held |= {row.id: message for row in waiting if row.application_id == application_id}
    for source, label, users, population in _by_source(connection, waiting, counted):
        allowed = limit.allowed(population)
        if len(users) > allowed:
            message = _message(len(users), f"users of {label}, which has {population:,}", allowed)
            theirs = _users_of(connection, source, {row.user_id for row in waiting})
            held |= {row.id: message for row in waiting if row.id not in held and row.user_id in theirs}
    return held


def _message(number: int, of: str, allowed: int) -> str:
    return f"{number:,} removals for {of} exceed the removal limit of {allowed:,}."


def _by_source(connection: Connection, waiting: Any, counted: Any) -> list[tuple[str, str, set[str], int]]:
    """Return (source id, label, ids of its users with a removal in the window, how many users it has)."""
    d, r = t.task.c, t.record.c
    users = {row.user_id for row in waiting} | set(
        connection.execute(select(d.user_id).where(*counted)).scalars()
    )
    found = []
    for source in connection.execute(select(t.source.c.id, t.source.c.label)).all():
        theirs = _users_of(connection, source.id, users)
        present = connection.execute(
            select(r.user_id).where(r.source_id == source.id, r.deleted_at.is_(None))
        ).scalars()
        # Users who are being removed still count; users who left before do not.
        found.append((source.id, source.label, theirs, len({*present, *theirs})))
    return found


def _users_of(connection: Connection, source_id: str, users: set[str]) -> set[str]:
    r = t.record.c
    found: set[str] = set()
    wanted = sorted(users)
    for start in range(0, len(wanted), CHUNK):
        rows = connection.execute(
            select(r.user_id).where(r.source_id == source_id, r.user_id.in_(wanted[start : start + CHUNK]))
        )
        found.update(rows.scalars())
    return found


# Decisions of operators


def list_holds(ctx: AppContext) -> ItemList[HoldItem]:
    """Return the held removals: for each application their number, start and reason, and the first of
    them.
    """
    d, p, u = t.task.c, t.application.c, t.user.c
    held = (d.held_at.is_not(None), d.closed_at.is_(None))
    with ctx.database.reading() as connection:
        columns = (
            p.key,
            p.label,
            func.count().label("number"),
            func.min(d.created_at).label("since"),
            func.max(d.message).label("message"),
        )
        statement = (
            select(*columns)
            .join(t.task, d.application_id == p.id)
            .where(*held)
            .group_by(p.key, p.label)
            .order_by(p.label)
        )
        items = []
        for row in connection.execute(statement).all():
            users = (
                select(u.id, u.display_name, u.user_name, d.desired_state)
                .join(t.task, d.user_id == u.id)
                .join(t.application, p.id == d.application_id)
                .where(p.key == row.key, *held)
                .order_by(u.display_name_key)
                .limit(20)
            )
            shown = [
                HeldUser(
                    user=user_ref(each),
                    desired_state=each.desired_state,
                )
                for each in connection.execute(users)
            ]
            application = KeyAndLabel(row.key, row.label)
            items.append(
                HoldItem(
                    application=application,
                    number=row.number,
                    since=row.since,
                    message=row.message,
                    users=shown,
                )
            )
    return ItemList(items)


def approve(ctx: AppContext, caller: Caller, key: str, confirmed: str | None) -> Number:
    """Approve the held removals of an application; the typed label confirms.

    Raises:
        NotFound; NeedsConfirmation.
    """
    return _act(
        ctx,
        caller,
        key,
        confirmed,
        "approved removals",
        {"status": WAITING, "message": None, "hint": None, "kind": None},
    )


def discard(ctx: AppContext, caller: Caller, key: str, confirmed: str | None) -> Number:
    """Discard the held removals of an application: accounts stay as they are until something changes.

    Raises:
        NotFound; NeedsConfirmation.
    """
    message = (
        f"{caller.name} discarded the removal. The account stays unchanged until the next change to the user."
    )
    return _act(
        ctx,
        caller,
        key,
        confirmed,
        "discarded removals",
        {"status": DROPPED, "message": message, "hint": None},
    )


def _act(
    ctx: AppContext, caller: Caller, key: str, confirmed: str | None, action: str, values: dict[str, Any]
) -> Number:
    now = clock.now()
    d = t.task.c
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        check_confirmed(application.label, confirmed)
        values = {
            **values,
            "held_at": None,
            "released_at": now,
            "released_by": caller.name,
            **({"closed_at": now} if values["status"] == DROPPED else {"next_attempt_at": now}),
        }
        where = (d.application_id == application.id, d.held_at.is_not(None), d.closed_at.is_(None))
        number = connection.execute(update(t.task).where(*where).values(**values)).rowcount
        if number == 0:
            raise NotFound(
                f"Nothing is held for '{application.label}'.",
                "Reload the list. Another operator may have approved or discarded the removals.",
            )
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(action, "application", application.id, details={"key": key, "number": number}),
        )
    return Number(number)
