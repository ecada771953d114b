"""Marks users for recomputing their access, after a change that affects many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, literal, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.memberships import everyone, users_within
from dravo.store.sqlite import insert_unless_there


@dataclass(frozen=True)
class RecomputeMark:
    """The mark of a user; `confirmed_for` and `released_by` if the removals were confirmed."""

    user_id: str
    since: Instant
    confirmed_for: str | None
    released_by: str | None


def is_marked(connection: Connection, user_id: str) -> bool:
    """Return whether a user is marked."""
    p = t.pending_recompute.c
    return connection.execute(select(p.user_id).where(p.user_id == user_id)).first() is not None


def marked(
    connection: Connection, limit: int, left_out: Sequence[str] = (), user_id: str | None = None
) -> list[RecomputeMark]:
    """Return marks by user ID.

    Args:
        connection: the records.
        limit: the largest number.
        left_out: the IDs of users to leave out.
        user_id: the only user; None for all.
    """
    p = t.pending_recompute.c
    statement = select(p.user_id, p.since, p.confirmed_for, p.released_by).order_by(p.user_id).limit(limit)
    if left_out:
        statement = statement.where(p.user_id.not_in(left_out))
    if user_id is not None:
        statement = statement.where(p.user_id == user_id)
    return [RecomputeMark(*row) for row in connection.execute(statement)]


def is_due(connection: Connection, now: Instant) -> bool:
    """Return whether an assignment of a user starts or ends by now."""
    return connection.execute(_due(now).limit(1)).first() is not None


def mark_due(connection: Connection, now: Instant) -> None:
    """Mark users with an assignment that starts or ends by now."""
    mark_selected(connection, _due(now), now)


def _due(now: Instant) -> Select[str]:
    u = t.user.c
    return select(u.id).where(u.next_change_at.is_not(None), u.next_change_at <= now)


def mark_users_within(connection: Connection, group_id: str, now: Instant) -> None:
    """Mark all users in a group, directly or through nested groups."""
    mark_selected(connection, users_within(group_id), now)


def mark_everyone(connection: Connection, now: Instant, cleared: tuple[str, str] | None = None) -> None:
    """Mark all users who have not left; `cleared` as in `mark_selected`."""
    mark_selected(connection, everyone(), now, cleared)


def mark_users(
    connection: Connection, users: Any, now: Instant, cleared: tuple[str, str] | None = None
) -> None:
    """Mark users by ID, or by a select of IDs; `cleared` as in `mark_selected`."""
    mark_selected(connection, select(t.user.c.id).where(t.user.c.id.in_(users)), now, cleared)


def mark_selected(
    connection: Connection, users: Select[Any], now: Instant, cleared: tuple[str, str] | None = None
) -> None:
    """Mark the users that a select of IDs yields.

    Args:
        cleared: (application ID, name of the operator) if the removals were confirmed. An earlier
            confirmation for a user who is still marked does not count any more, because it was for another
            change.
    """
    columns = ["user_id", "since", "confirmed_for", "released_by"]
    application_id, by = cleared or (None, None)
    statement = insert_unless_there(t.pending_recompute).from_select(
        columns, users.add_columns(literal(now), literal(application_id), literal(by))
    )
    new = statement.excluded
    values = {"since": new.since, "confirmed_for": new.confirmed_for, "released_by": new.released_by}
    connection.execute(statement.on_conflict_do_update(index_elements=["user_id"], set_=values))
