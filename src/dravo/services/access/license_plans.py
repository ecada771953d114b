"""License plans: their seats, users with a seat, and the waiting list."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import PLAN_PLAIN
from dravo.core.provisioning.attribute_mapping import RoleEncoding
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import PlannedChange
from dravo.services.context import AppContext
from dravo.services.lookups import (
    application_by_key,
    check_description,
    check_key,
    check_label,
    check_sent_value,
    check_value_is_free,
)
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, recompute_marks
from dravo.store.access import license_plans as stored
from dravo.store.access.license_plans import SHORT_NUMBER, SHORT_SHARE, ListedSeat, StoredLicensePlan
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import seats as seat_queries
from dravo.store.queries.applications import Application
from dravo.store.queries.references import KeyAndLabel, UserRef
from dravo.store.queries.seats import free_for_waiting
from dravo.store.snapshots.config import raise_revision

MOST_SEATS = 10_000_000


@dataclass
class LicensePlanLine:
    """A license plan with its seats; `status` is "free", "short" or "full". Without `sent_value`, the key is
    sent.
    """

    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    status: str


@dataclass
class SeatLine:
    """A seat of a user, or a place on the waiting list."""

    id: str
    user: UserRef
    plan: KeyAndLabel
    requested_at: str
    since: str | None
    place: int | None


@dataclass
class SeatOfUser(SeatLine):
    """A seat with the number of seats of its plan."""

    seats: int | None


def list_plans(connection: Connection, application_id: str) -> list[LicensePlanLine]:
    """Return the plans of an application, the highest first, each with its taken seats and waiting users."""
    return [line(connection, row) for row in stored.list_plans(connection, application_id)]


def line(connection: Connection, row: StoredLicensePlan) -> LicensePlanLine:
    """Return a plan as the API shows it."""
    taken, waiting = seat_queries.taken(connection, row.id), seat_queries.waiting(connection, row.id)
    free = None if row.seats is None else max(0, row.seats - taken)
    short = free is not None and row.seats is not None and free <= max(SHORT_NUMBER, row.seats // SHORT_SHARE)
    return LicensePlanLine(
        key=row.key,
        label=row.label,
        rank=row.rank,
        sent_value=row.sent_value,
        description=row.description,
        seats=row.seats,
        taken=taken,
        waiting=waiting,
        free=free,
        status="full" if free == 0 else "short" if short else "free",
    )


def plan_by_key(connection: Connection, application: Application, key: str) -> StoredLicensePlan:
    """Return a plan's row.

    Raises:
        NotFound: if the application has none of that key; the plans that it has are named.
    """
    row = stored.by_key(connection, application.id, key)
    if row is None:
        plans = sorted(stored.list_plans(connection, application.id), key=lambda each: each.rank)
        known = ", ".join(each.key for each in plans) or "none yet"
        raise NotFound(
            f"'{application.label}' has no license plan '{key}'.", f"Existing plans: {known}.", "plan"
        )
    return row


# What of a plan decides which plan counts and what is sent of it.
PLANNED = frozenset({"label", "rank", "sent_value"})


@dataclass(frozen=True)
class NewLicensePlan:
    """A license plan to create.

    Attributes:
        key: the key, unique within the application.
        label: the name that people see.
        rank: a user who would have several plans gets the plan of the highest rank.
        seats: the largest number of users with a seat; None: no limit.
        sent_value: what is sent to the application for the plan; "" for the key.
        description: what the plan includes.
    """

    key: str
    label: str
    rank: int
    seats: int | None = None
    sent_value: str = ""
    description: str = ""


def add(ctx: AppContext, caller: Caller, key: str, plan: NewLicensePlan) -> None:
    """Create a license plan of an application.

    Raises:
        InvalidInput, NotFound, AlreadyExists.
    """
    row: dict[str, Any] = {
        "id": new_id(),
        "key": check_key(plan.key),
        "label": check_label(plan.label),
        "rank": plan.rank,
        "seats": _seats(plan.seats),
        "sent_value": check_sent_value(plan.sent_value),
        "description": check_description(plan.description),
    }
    try:
        with ctx.database.writing() as connection:
            application = application_by_key(connection, key)
            _check_value(connection, application, plan.key, row["sent_value"])
            stored.insert_plan(connection, {"application_id": application.id, **row})
            raise_revision(connection)
            details = {"application": key, "plan": plan.key, "seats": plan.seats}
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent("created license plan", "application", application.id, details=details),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"'{key}' already has a license plan '{plan.key}'.", "Choose another key.", "key"
        ) from None


def change(ctx: AppContext, caller: Caller, key: str, plan_key: str, given: dict[str, Any]) -> None:
    """Change the label, rank, number of seats (0: no limit), value or description of a plan. Users keep their
    seats.

    Raises:
        NotFound, InvalidInput.
    """
    values = _changed_values(given)
    now = clock.now()
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        row = plan_by_key(connection, application, plan_key)
        changed = {name: value for name, value in values.items() if getattr(row, name) != value}
        if not changed:
            return
        if "sent_value" in changed:
            _check_value(connection, application, row.key, changed["sent_value"])
        stored.update_plan(connection, row.id, **changed)
        raise_revision(connection)
        if changed.keys() & PLANNED:
            recompute_marks.mark_users(connection, stored.users_with_seats(application.id), now)
        details = {
            "application": key,
            "plan": plan_key,
            "before": {name: getattr(row, name) for name in changed},
            "after": changed,
        }
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("changed license plan", "application", application.id, details=details),
        )


def preview_change(ctx: AppContext, key: str, plan_key: str, given: dict[str, Any]) -> ChangeEffects:
    """Return the effects of other values of a plan; nothing is changed.

    Raises:
        NotFound, InvalidInput.
    """
    values = _changed_values(given)
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        row = plan_by_key(connection, application, plan_key)
        changed = {name: value for name, value in values.items() if getattr(row, name) != value}
        if "seats" in changed:
            _preview_seats(connection, row, changed["seats"], effects)
        if "sent_value" in changed:
            _check_value(connection, application, row.key, changed["sent_value"])
        how = PLAN_PLAIN if application.plan_encoding is None else RoleEncoding(**application.plan_encoding)
        before = how.sent_for(row.key, row.label, row.sent_value)
        after = how.sent_for(
            row.key, changed.get("label", row.label), changed.get("sent_value", row.sent_value)
        )
        if before != after:
            effects.add(f"Dravo sends '{after}' for the plan instead of '{before}'.")
        if changed.keys() & PLANNED:
            catalogue = ctx.catalogue.get(connection)
            decided = {name: changed[name] for name in PLANNED & changed.keys()}
            new = replace(catalogue.plans[row.id], **decided)
            then = replace(catalogue, plans={**catalogue.plans, row.id: new})
            seated = stored.users_with_seats(application.id)
            effects.add_access(connection, PlannedChange(application.id, (seated,), then))
    return effects


def _preview_seats(
    connection: Connection, plan: StoredLicensePlan, seats: int | None, effects: ChangeEffects
) -> None:
    taken, waiting = seat_queries.taken(connection, plan.id), seat_queries.waiting(connection, plan.id)
    free = waiting if seats is None else max(0, seats - taken)
    effects.add(
        f"{plan.label} has {'no limit of seats' if seats is None else count(seats, 'seat', 'seats')}; "
        f"{count(taken, 'seat is', 'seats are')} taken."
    )
    if seats is not None and seats < taken:
        free_first = taken - seats + 1
        effects.add(f"All {taken:,} users keep their seats. The next user waits until {free_first:,} leave.")
    if waiting:
        effects.add(
            f"{count(waiting, 'user waits', 'users wait')} for a seat; {min(waiting, free):,} of them "
            f"{'gets' if min(waiting, free) == 1 else 'get'} one."
        )


def _changed_values(given: dict[str, Any]) -> dict[str, Any]:
    values = {name: given[name] for name in ("label", "rank", "seats") if given.get(name) is not None}
    if "label" in values:
        values["label"] = check_label(values["label"])
    if "seats" in values:
        values["seats"] = _seats(values["seats"] or None)
    if given.get("sent_value") is not None:
        values["sent_value"] = check_sent_value(given["sent_value"])
    if given.get("description") is not None:
        values["description"] = check_description(given["description"])
    return values


def _check_value(
    connection: Connection, application: Application, plan_key: str, sent_value: str | None
) -> None:
    plans = stored.list_plans(connection, application.id)
    values = {each.key: each.sent_value or each.key for each in plans}
    check_value_is_free(values, plan_key, sent_value, "license plan")


def remove(ctx: AppContext, caller: Caller, key: str, plan_key: str) -> None:
    """Delete a plan that no assignment has and of which nobody had a seat.

    Raises:
        NotFound, StillInUse.
    """
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        row = plan_by_key(connection, application, plan_key)
        if stored.was_used(connection, row.id):
            raise StillInUse(
                f"'{row.label}' is used by an assignment, or was.",
                "Set its seats to 0 instead. Dravo keeps it for the history.",
            )
        stored.delete_plan(connection, row.id)
        raise_revision(connection)
        details = {"application": key, "plan": plan_key}
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("deleted license plan", "application", application.id, details=details),
        )


def _seats(number: int | None) -> int | None:
    if number is not None and not 0 <= number <= MOST_SEATS:
        raise InvalidInput(
            "The number of seats must be between 0 and 10,000,000.",
            "Enter a number in this range, or leave it empty for no limit.",
            "seats",
        )
    return number


def seats(
    ctx: AppContext,
    key: str,
    page_request: PageRequest,
    plan_key: str | None = None,
    *,
    waiting: bool = False,
) -> Page[SeatLine]:
    """Return a page of who has a seat, by name; or of who waits for one, in the order of the line.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        plan_id = plan_by_key(connection, application, plan_key).id if plan_key else None
        return stored.list_seats(
            connection, application.id, page_request, _seat_line, plan_id=plan_id, waiting=waiting
        )


def seat_of(connection: Connection, application_id: str, user_id: str) -> list[SeatOfUser]:
    """Return the seat of a user in an application, and the seats for which the user waits."""
    return [
        SeatOfUser(**vars(_seat_line(row)), seats=row.seats)
        for row in stored.seats_of_user(connection, application_id, user_id)
    ]


def _seat_line(row: ListedSeat) -> SeatLine:
    return SeatLine(
        id=row.id,
        user=UserRef(row.user_id, row.display_name, row.user_name),
        plan=KeyAndLabel(row.plan_key, row.plan_label),
        requested_at=row.requested_at,
        since=row.from_at,
        place=row.place,
    )


# Number of seats that one short write assigns; the worker continues at once.
SEATS_PER_CALL = 500


def give_free_seats(ctx: AppContext, now: Instant) -> int:
    """Give free seats to waiting users, the highest plans first, and mark these users.

    Marked users are skipped: after recomputing they may need another plan.

    Returns:
        The number of given seats.
    """
    with ctx.database.reading() as connection:
        if not free_for_waiting(connection):
            return 0
    given = 0
    with ctx.database.writing() as connection:
        for plan_id, number in free_for_waiting(connection):
            rows = stored.first_waiting(connection, plan_id, min(number, SEATS_PER_CALL))
            if not rows:
                continue
            stored.take_seats(connection, rows, now)
            recompute_marks.mark_users(connection, [row.user_id for row in rows], now)
            given += len(rows)
    return given
