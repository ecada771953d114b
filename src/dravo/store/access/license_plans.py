"""Rows of license plans and of seats."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, ScalarSelect, Select, case, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries import seats
from dravo.store.queries.seats import SETTLED, TAKEN, WAITED_FOR

# A plan is running short if at most a tenth of its seats, or at most two, are free.
SHORT_SHARE, SHORT_NUMBER = 10, 2


@dataclass(frozen=True)
class StoredLicensePlan:
    """A row of the table of license plans; `seats` is None without a limit."""

    id: str
    application_id: str
    key: str
    label: str
    rank: int
    seats: int | None
    sent_value: str | None
    description: str | None


def list_plans(connection: Connection, application_id: str) -> list[StoredLicensePlan]:
    """Return the plans of an application, the highest first."""
    p = t.license_plan.c
    statement = select(t.license_plan).where(p.application_id == application_id)
    rows = connection.execute(statement.order_by(p.rank.desc(), p.key))
    return [StoredLicensePlan(*row) for row in rows]


def by_key(connection: Connection, application_id: str, key: str) -> StoredLicensePlan | None:
    """Return the plan of an application with a key, or None."""
    p = t.license_plan.c
    row = connection.execute(
        select(t.license_plan).where(p.application_id == application_id, p.key == key)
    ).first()
    return None if row is None else StoredLicensePlan(*row)


def key_of(connection: Connection, plan_id: str) -> str | None:
    """Return the key of a plan, or None if it was deleted."""
    p = t.license_plan.c
    return connection.execute(select(p.key).where(p.id == plan_id)).scalar()


def insert_plan(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert a plan."""
    connection.execute(insert(t.license_plan).values(**row))


def update_plan(connection: Connection, plan_id: str, **values: Any) -> None:
    """Change columns of a plan."""
    connection.execute(update(t.license_plan).where(t.license_plan.c.id == plan_id).values(**values))


def delete_plan(connection: Connection, plan_id: str) -> None:
    """Delete a plan."""
    connection.execute(delete(t.license_plan).where(t.license_plan.c.id == plan_id))


def was_used(connection: Connection, plan_id: str) -> bool:
    """Return whether an assignment or a seat names a plan, past ones included."""
    return any(
        connection.execute(select(table.c.id).where(table.c.plan_id == plan_id).limit(1)).first()
        for table in (t.assignment, t.seat)
    )


def users_with_seats(application_id: str) -> Select[str]:
    """Return the select of users who have or wait for a seat in an application."""
    s = t.seat.c
    where = (s.application_id == application_id, s.until_at.is_(None))
    return select(s.user_id).where(*where).distinct()


def waiting_for_seats(application_id: Any) -> ScalarSelect[int]:
    """Return as a column how many users wait for a seat in an application, a column of the outer query."""
    s = t.seat.c
    where = (s.application_id == application_id, s.until_at.is_(None), s.from_at.is_(None))
    return select(func.count(s.user_id.distinct())).where(*where).scalar_subquery()


def short_plans(application_id: Any) -> ScalarSelect[int]:
    """Return as a column how many plans of an application, a column of the outer query, are full or running
    short.
    """
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


@dataclass(frozen=True)
class ListedSeat:
    """A seat with its user and plan, in the order of the select.

    Attributes:
        from_at: since when the user has the seat; None on the waiting list.
        seats: the number of seats of the plan.
        place: the place on the waiting list, from 1.
    """

    id: str
    requested_at: Instant
    from_at: Instant | None
    user_id: str
    display_name: str
    user_name: str
    plan_key: str
    plan_label: str
    seats: int | None
    place: int | None


def _seats_statement(application_id: str) -> Select[Any]:
    s, u, p, line = t.seat.c, t.user.c, t.license_plan.c, seats.line()
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


def list_seats(
    connection: Connection,
    application_id: str,
    page_request: PageRequest,
    show: Callable[[ListedSeat], Item],
    *,
    plan_id: str | None,
    waiting: bool,
) -> Page[Item]:
    """Return a page of taken seats by name, or of the waiting list in its order."""
    s = t.seat.c
    statement = _seats_statement(application_id).where(
        s.from_at.is_(None) if waiting else s.from_at.is_not(None)
    )
    if plan_id is not None:
        statement = statement.where(s.plan_id == plan_id)
    keys = [s.requested_at, s.id] if waiting else [t.user.c.display_name_key, s.id]
    return page(connection, statement, keys, page_request, shown_as(ListedSeat, show))


def seats_of_user(connection: Connection, application_id: str, user_id: str) -> list[ListedSeat]:
    """Return the seat of a user in an application, and the seats for which the user waits."""
    s = t.seat.c
    statement = _seats_statement(application_id).where(s.user_id == user_id).order_by(s.from_at.is_(None))
    return [ListedSeat(*row) for row in connection.execute(statement)]


@dataclass(frozen=True)
class WaitingSeat:
    """A place on a waiting list whose user is not being recomputed."""

    id: str
    user_id: str
    application_id: str


def first_waiting(connection: Connection, plan_id: str, most: int) -> list[WaitingSeat]:
    """Return the first places on the waiting list of a plan; users who are being recomputed are skipped."""
    s = t.seat.c
    statement = select(s.id, s.user_id, s.application_id).where(s.plan_id == plan_id, WAITED_FOR, SETTLED)
    rows = connection.execute(statement.order_by(s.requested_at, s.id).limit(most))
    return [WaitingSeat(*row) for row in rows]


def take_seats(connection: Connection, waiting: Sequence[WaitingSeat], now: Instant) -> None:
    """Give seats to waiting users of one application; the seats that they had there end."""
    s = t.seat.c
    users = [each.user_id for each in waiting]
    lower = (s.user_id.in_(users), s.application_id == waiting[0].application_id, TAKEN)
    connection.execute(update(t.seat).where(*lower).values(until_at=now))
    connection.execute(update(t.seat).where(s.id.in_([each.id for each in waiting])).values(from_at=now))
