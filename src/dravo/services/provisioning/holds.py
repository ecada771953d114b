"""Holds: removals above the limit wait until an operator approves or discards them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

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
from dravo.store.pagination import ItemList
from dravo.store.provisioning import holds as stored
from dravo.store.provisioning.holds import WaitingRemoval
from dravo.store.queries import access as access_queries
from dravo.store.queries.references import KeyAndLabel, UserRef
from dravo.store.task_status import DROPPED, HELD, WAITING

HOLDS = "removal_limit"


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
    with ctx.database.reading() as connection:
        if not stored.has_waiting(connection) or stored.are_others_marked(connection, set_aside):
            return 0
        waiting = stored.list_waiting(connection)
        held = _beyond(connection, waiting, now)
    let = [row.id for row in waiting if row.id not in held]
    for application, number in Counter(row.application_key for row in waiting if row.id in held).items():
        events.note(events.HOLD, "removals", number, application=application)
    with ctx.database.writing() as connection:
        stored.update_waiting(connection, let, released_at=now)
        for message, ids in _by_message(held).items():
            hint = "Check the affected users, then approve or discard the removals."
            values = {"status": HELD, "kind": HOLDS, "held_at": now, "message": message, "hint": hint}
            stored.update_waiting(connection, ids, **values)
    return len(waiting)


def _by_message(held: dict[str, str]) -> dict[str, list[str]]:
    found: defaultdict[str, list[str]] = defaultdict(list)
    for task_id, message in held.items():
        found[message].append(task_id)
    return found


def _beyond(connection: Connection, waiting: Sequence[WaitingRemoval], now: Instant) -> dict[str, str]:
    """Return for each task above a limit the reason: the limit of its application, or of the user's
    source.
    """
    values = settings.read(connection)
    limit = limits(values)
    since = later(now, -3_600 * values["removal_limit_hours"])
    held: dict[str, str] = {}
    labels = stored.application_labels(connection)
    due = Counter(row.application_id for row in waiting)
    for application_id, number in due.items():
        recent = stored.number_in_window(connection, application_id, since)
        population = access_queries.number_of_users(connection, application_id)
        allowed = limit.allowed(population)
        if recent + number > allowed:
            message = _message(
                recent + number, f"{labels[application_id]}, which has {population:,} accounts", allowed
            )
            held |= {row.id: message for row in waiting if row.application_id == application_id}
    for source, label, users, population in _by_source(connection, waiting, since):
        allowed = limit.allowed(population)
        if len(users) > allowed:
            message = _message(len(users), f"users of {label}, which has {population:,}", allowed)
            theirs = stored.users_of_source(connection, source, {row.user_id for row in waiting})
            held |= {row.id: message for row in waiting if row.id not in held and row.user_id in theirs}
    return held


def _message(number: int, of: str, allowed: int) -> str:
    return f"{number:,} removals for {of} exceed the removal limit of {allowed:,}."


def _by_source(
    connection: Connection, waiting: Sequence[WaitingRemoval], since: Instant
) -> list[tuple[str, str, set[str], int]]:
    """Return (source ID, label, IDs of its users with a removal in the window, how many users it has)."""
    users = {row.user_id for row in waiting} | stored.users_in_window(connection, since)
    found = []
    for source_id, label in stored.source_labels(connection).items():
        theirs = stored.users_of_source(connection, source_id, users)
        # Users who are being removed still count; users who left before do not.
        present = stored.present_users(connection, source_id)
        found.append((source_id, label, theirs, len(present | theirs)))
    return found


# Decisions of operators


def list_holds(ctx: AppContext) -> ItemList[HoldItem]:
    """Return the held removals: for each application their number, start and reason, and the first of
    them.
    """
    with ctx.database.reading() as connection:
        items = [
            HoldItem(
                application=KeyAndLabel(row.application_key, row.application_label),
                number=row.number,
                since=row.since,
                message=row.message or "",
                users=[
                    HeldUser(user, desired_state)
                    for user, desired_state in stored.held_users(connection, row.application_key, 20)
                ],
            )
            for row in stored.list_held(connection)
        ]
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
        number = stored.decide(connection, application.id, **values)
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
