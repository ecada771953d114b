"""Counts seats of license plans: taken, waited for, and free."""

from __future__ import annotations

from sqlalchemy import Connection, Subquery, and_, exists, func, select

from dravo.store import tables as t

TAKEN = and_(t.seat.c.until_at.is_(None), t.seat.c.from_at.is_not(None))
SETTLED = ~exists().where(t.pending_recompute.c.user_id == t.seat.c.user_id)
WAITED_FOR = and_(t.seat.c.until_at.is_(None), t.seat.c.from_at.is_(None))


def due(connection: Connection) -> int:
    """Return how many users wait for a seat that is free, and therefore get it at the worker's next look."""
    return sum(number for _, number in free_for_waiting(connection))


def free_for_waiting(connection: Connection) -> list[tuple[str, int]]:
    """Return (plan ID, free seats) of plans with a waiting list, the highest first."""
    s, p = t.seat.c, t.license_plan.c
    waiting = select(p.id, p.seats, func.count()).join(t.seat, s.plan_id == p.id).where(WAITED_FOR, SETTLED)
    found = []
    for plan_id, seats, number in connection.execute(
        waiting.group_by(p.id, p.seats, p.rank, p.key).order_by(p.rank.desc(), p.key)
    ).all():
        free = number if seats is None else max(0, seats - taken(connection, plan_id))
        if free:
            found.append((plan_id, free))
    return found


def taken(connection: Connection, plan_id: str) -> int:
    """Return the number of taken seats of a plan."""
    return int(
        connection.execute(
            select(func.count()).select_from(t.seat).where(t.seat.c.plan_id == plan_id, TAKEN)
        ).scalar_one()
    )


def waiting(connection: Connection, plan_id: str) -> int:
    """Return how many users wait for a seat of a plan."""
    return int(
        connection.execute(
            select(func.count()).select_from(t.seat).where(t.seat.c.plan_id == plan_id, WAITED_FOR)
        ).scalar_one()
    )


def line() -> Subquery:
    """Return (ID, place) of waiting users: the place on the waiting list of their plan, from 1."""
    s = t.seat.c
    place = func.row_number().over(partition_by=s.plan_id, order_by=(s.requested_at, s.id)).label("place")
    return select(s.id, place).where(WAITED_FOR).subquery("line")
