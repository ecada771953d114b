"""Start and end of assignments that are given as days: their instants depend on the time zone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import Connection, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class AssignmentDays:
    """The start and end of an assignment, each as a day, as an instant, or None."""

    id: str
    from_day: str | None
    from_at: Instant | None
    until_day: str | None
    until_at: Instant | None


def with_days(connection: Connection) -> list[AssignmentDays]:
    """Return the assignments that start or end on a day."""
    a = t.assignment.c
    statement = select(a.id, a.from_day, a.from_at, a.until_day, a.until_at).where(
        a.removed_at.is_(None), or_(a.from_day.is_not(None), a.until_day.is_not(None))
    )
    return [AssignmentDays(*row) for row in connection.execute(statement)]


def move(connection: Connection, spans: Mapping[str, tuple[Instant | None, Instant | None]]) -> None:
    """Store new start and end instants by the ID of the assignment."""
    for assignment_id, (from_at, until_at) in spans.items():
        connection.execute(
            update(t.assignment)
            .where(t.assignment.c.id == assignment_id)
            .values(from_at=from_at, until_at=until_at)
        )
