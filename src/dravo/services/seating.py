"""Gives free seats to those who wait for them, in the order in which they came."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, and_, exists, func, select, update

from dravo.core.instants import Instant
from dravo.services.house import House
from dravo.store import groups
from dravo.store import tables as t

# So many of a plan are given in one short write; the worker looks again at once.
AT_ONCE = 500

_TAKEN = and_(t.seat.c.until_at.is_(None), t.seat.c.from_at.is_not(None))
_SETTLED = ~exists().where(t.mark.c.user_id == t.seat.c.user_id)
_WAITED_FOR = and_(t.seat.c.until_at.is_(None), t.seat.c.from_at.is_(None))


def give(house: House, now: Instant) -> int:
    """Give what is free to whoever waits, the highest plans first, and have them worked out anew.

    Whoever is marked is passed over: what they wait for may be another plan by then.

    Returns:
        How many seats were given.
    """
    with house.database.reading() as connection:
        if not _to_give(connection):
            return 0
    given = 0
    with house.database.writing() as connection:
        for plan_id, number in _to_give(connection):
            s = t.seat.c
            waiting = select(s.id, s.user_id, s.application_id).where(s.plan_id == plan_id, _WAITED_FOR, _SETTLED)
            rows = connection.execute(waiting.order_by(s.asked_at, s.id).limit(min(number, AT_ONCE))).all()
            if not rows:
                continue
            users = [row.user_id for row in rows]
            lower = (s.user_id.in_(users), s.application_id == rows[0].application_id, _TAKEN)
            connection.execute(update(t.seat).where(*lower).values(until_at=now))
            connection.execute(update(t.seat).where(s.id.in_([row.id for row in rows])).values(from_at=now))
            groups.mark_these(connection, users, now)
            given += len(rows)
    return given


def due(connection: Connection) -> int:
    """Return how many users wait for a seat that is free, and therefore get it at the worker's next look."""
    return sum(number for _, number in _to_give(connection))


def _to_give(connection: Connection) -> list[tuple[str, int]]:
    """Return (plan id, how many seats are free at the most) of plans that somebody waits for, the highest first."""
    s, p = t.seat.c, t.plan.c
    waiting = select(p.id, p.seats, func.count()).join(t.seat, s.plan_id == p.id).where(_WAITED_FOR, _SETTLED)
    found = []
    for plan_id, seats, number in connection.execute(waiting.group_by(p.id, p.seats, p.rank, p.key).order_by(p.rank.desc(), p.key)).all():
        free = number if seats is None else max(0, seats - taken(connection, plan_id))
        if free:
            found.append((plan_id, free))
    return found


def taken(connection: Connection, plan_id: str) -> int:
    """Return how many seats of a plan are taken."""
    return int(connection.execute(select(func.count()).select_from(t.seat).where(t.seat.c.plan_id == plan_id, _TAKEN)).scalar_one())


def waiting(connection: Connection, plan_id: str) -> int:
    """Return how many people wait for a seat of a plan."""
    return int(connection.execute(select(func.count()).select_from(t.seat).where(t.seat.c.plan_id == plan_id, _WAITED_FOR)).scalar_one())


def line() -> Any:
    """Return (id, place) of everybody who waits: which place in the line for their plan, counted from 1."""
    s = t.seat.c
    place = func.row_number().over(partition_by=s.plan_id, order_by=(s.asked_at, s.id)).label("place")
    return select(s.id, place).where(_WAITED_FOR).subquery("line")
