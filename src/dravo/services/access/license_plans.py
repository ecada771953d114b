"""License plans: their seats, users with a seat, and the waiting list."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, ScalarSelect, case, delete, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.instants import Instant
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.preview import PlannedChange
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_key, check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, recompute_marks
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries import seats as seat_queries
from dravo.store.queries.applications import Application
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref
from dravo.store.queries.seats import SETTLED, TAKEN, WAITED_FOR, free_for_waiting
from dravo.store.snapshots.config import raise_revision

MOST_SEATS = 10_000_000
# A plan is running short if at most a tenth of its seats, or at most two, are free.
SHORT_SHARE, SHORT_NUMBER = 10, 2


@dataclass
class LicensePlanLine:
    """A license plan with its seats; `status` is "free", "short" or "full"."""

    key: str
    label: str
    rank: int
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
    rows = connection.execute(
        select(t.license_plan)
        .where(t.license_plan.c.application_id == application_id)
        .order_by(t.license_plan.c.rank.desc(), t.license_plan.c.key)
    ).all()
    return [line(connection, row) for row in rows]


def line(connection: Connection, row: Any) -> LicensePlanLine:
    """Return a plan as the API shows it."""
    taken, waiting = seat_queries.taken(connection, row.id), seat_queries.waiting(connection, row.id)
    free = None if row.seats is None else max(0, row.seats - taken)
    short = free is not None and row.seats is not None and free <= max(SHORT_NUMBER, row.seats // SHORT_SHARE)
    return LicensePlanLine(
        key=row.key,
        label=row.label,
        rank=row.rank,
        seats=row.seats,
        taken=taken,
        waiting=waiting,
        free=free,
        status="full" if free == 0 else "short" if short else "free",
    )


def waiting_for_seats(application_id: Any) -> ScalarSelect[int]:
    """Return how many users wait for a seat in an application, for a column with its id."""
    s = t.seat.c
    where = (s.application_id == application_id, s.until_at.is_(None), s.from_at.is_(None))
    return select(func.count(s.user_id.distinct())).where(*where).scalar_subquery()


def short_plans(application_id: Any) -> ScalarSelect[int]:
    """Return how many plans of an application are full or running short, for a column with its id."""
    p, s = t.license_plan.c, t.seat.c
    taken = (
        select(func.count())
        .where(s.plan_id == p.id, s.until_at.is_(None), s.from_at.is_not(None))
        .correlate(t.license_plan)
        .scalar_subquery()
    )
    few = case((p.seats // SHORT_SHARE > SHORT_NUMBER, p.seats // SHORT_SHARE), else_=SHORT_NUMBER)
    where = (p.application_id == application_id, p.seats.is_not(None), p.seats - taken <= few)
    return select(func.count()).select_from(t.license_plan).where(*where).scalar_subquery()


def plan_by_key(connection: Connection, application: Application, key: str) -> Any:
    """Return a plan's row.

    Raises:
        NotFound: if the application has none of that key; the plans that it has are named.
    """
    p = t.license_plan.c
    row = connection.execute(
        select(t.license_plan).where(p.application_id == application.id, p.key == key)
    ).first()
    if row is None:
        known = (
            ", ".join(
                connection.execute(
                    select(p.key).where(p.application_id == application.id).order_by(p.rank)
                ).scalars()
            )
            or "none yet"
        )
        raise NotFound(
            f"'{application.label}' has no license plan '{key}'.", f"Existing plans: {known}.", "plan"
        )
    return row


@dataclass(frozen=True)
class NewLicensePlan:
    """A license plan to create.

    Attributes:
        key: the key, unique within the application.
        label: the name that people see.
        rank: a user who would have several plans gets the plan of the highest rank.
        seats: the largest number of users with a seat; None: no limit.
    """

    key: str
    label: str
    rank: int
    seats: int | None = None


def add(ctx: AppContext, caller: Caller, key: str, plan: NewLicensePlan) -> None:
    """Create a license plan of an application.

    Raises:
        InvalidInput, NotFound, AlreadyExists.
    """
    row = {
        "id": new_id(),
        "key": check_key(plan.key),
        "label": check_label(plan.label),
        "rank": plan.rank,
        "seats": _seats(plan.seats),
    }
    try:
        with ctx.database.writing() as connection:
            application = application_by_key(connection, key)
            connection.execute(insert(t.license_plan).values(application_id=application.id, **row))
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
    """Change the label, rank or number of seats (0: no limit) of a plan. Users keep their seats.

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
        connection.execute(update(t.license_plan).where(t.license_plan.c.id == row.id).values(**changed))
        raise_revision(connection)
        if changed.keys() & {"label", "rank"}:
            # These decide which plan counts and what is sent of it.
            s = t.seat.c
            concerned = (
                select(s.user_id).where(s.application_id == application.id, s.until_at.is_(None)).distinct()
            )
            recompute_marks.mark_users(connection, concerned, now)
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
    """Return the effects of another label, rank or number of seats of a plan; nothing is changed.

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
        if changed.keys() & {"label", "rank"}:
            catalogue = ctx.catalogue.get(connection)
            plan = catalogue.plans[row.id]
            new = replace(plan, label=values.get("label", plan.label), rank=values.get("rank", plan.rank))
            then = replace(catalogue, plans={**catalogue.plans, row.id: new})
            s = t.seat.c
            seated = select(s.user_id).where(s.application_id == application.id, s.until_at.is_(None))
            effects.add_access(connection, PlannedChange(application.id, (seated.distinct(),), then))
    return effects


def _preview_seats(connection: Connection, plan: Any, seats: int | None, effects: ChangeEffects) -> None:
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
    return values


def remove(ctx: AppContext, caller: Caller, key: str, plan_key: str) -> None:
    """Delete a plan that no assignment has and of which nobody had a seat.

    Raises:
        NotFound, StillInUse.
    """
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        row = plan_by_key(connection, application, plan_key)
        for table in (t.assignment, t.seat):
            if connection.execute(select(table.c.id).where(table.c.plan_id == row.id).limit(1)).first():
                raise StillInUse(
                    f"'{row.label}' is used by an assignment, or was.",
                    "Set its seats to 0 instead. Dravo keeps it for the history.",
                )
        connection.execute(delete(t.license_plan).where(t.license_plan.c.id == row.id))
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
    s = t.seat.c
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        statement = _seats_statement(application.id).where(
            s.from_at.is_(None) if waiting else s.from_at.is_not(None)
        )
        if plan_key:
            statement = statement.where(s.plan_id == plan_by_key(connection, application, plan_key).id)
        keys = [s.requested_at, s.id] if waiting else [t.user.c.display_name_key, s.id]
        return page(connection, statement, keys, page_request, _seat_line)


def seat_of(connection: Connection, application_id: str, user_id: str) -> list[SeatOfUser]:
    """Return the seat of a user in an application, and the seats for which the user waits."""
    statement = (
        _seats_statement(application_id)
        .where(t.seat.c.user_id == user_id)
        .order_by(t.seat.c.from_at.is_(None))
    )
    return [SeatOfUser(**vars(_seat_line(row)), seats=row.seats) for row in connection.execute(statement)]


def _seats_statement(application_id: str) -> Any:
    s, u, p, line = t.seat.c, t.user.c, t.license_plan.c, seat_queries.line()
    return (
        select(
            s.id,
            s.requested_at,
            s.from_at,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.key,
            p.label,
            p.seats,
            line.c.place,
        )
        .join(t.user, u.id == s.user_id)
        .join(t.license_plan, p.id == s.plan_id)
        .outerjoin(line, line.c.id == s.id)
        .where(s.application_id == application_id, s.until_at.is_(None))
    )


def _seat_line(row: Any) -> SeatLine:
    return SeatLine(
        id=row.id,
        user=user_ref(row, "user_id"),
        plan=KeyAndLabel(row.key, row.label),
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
            s = t.seat.c
            waiting = select(s.id, s.user_id, s.application_id).where(
                s.plan_id == plan_id, WAITED_FOR, SETTLED
            )
            rows = connection.execute(
                waiting.order_by(s.requested_at, s.id).limit(min(number, SEATS_PER_CALL))
            ).all()
            if not rows:
                continue
            users = [row.user_id for row in rows]
            lower = (s.user_id.in_(users), s.application_id == rows[0].application_id, TAKEN)
            connection.execute(update(t.seat).where(*lower).values(until_at=now))
            connection.execute(update(t.seat).where(s.id.in_([row.id for row in rows])).values(from_at=now))
            recompute_marks.mark_users(connection, users, now)
            given += len(rows)
    return given
