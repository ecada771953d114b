"""Marks users for recomputing their access, after a change that affects many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, func, literal, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.memberships import everyone, users_within
from dravo.store.sqlite import insert_unless_there


@dataclass(frozen=True)
class RecomputeMark:
    """The mark of a user; `confirmed_for` and `released_by` if the removals were confirmed, `run_id` if an
    import run counts what ends.
    """

    user_id: str
    since: Instant
    confirmed_for: str | None
    released_by: str | None
    run_id: str | None


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
    columns = (p.user_id, p.since, p.confirmed_for, p.released_by, p.run_id)
    statement = select(*columns).order_by(p.user_id).limit(limit)
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


def mark_users_within(connection: Connection, group_id: str, now: Instant, run_id: str | None = None) -> None:
    """Mark all users in a group, directly or through nested groups; `run_id` as in `mark_selected`."""
    mark_selected(connection, users_within(group_id), now, run_id=run_id)


def mark_everyone(connection: Connection, now: Instant, cleared: tuple[str, str] | None = None) -> None:
    """Mark all users who have not left; `cleared` as in `mark_selected`."""
    mark_selected(connection, everyone(), now, cleared)


def mark_users(
    connection: Connection,
    users: Any,
    now: Instant,
    cleared: tuple[str, str] | None = None,
    run_id: str | None = None,
) -> None:
    """Mark users by ID, or by a select of IDs; `cleared` and `run_id` as in `mark_selected`."""
    mark_selected(connection, select(t.user.c.id).where(t.user.c.id.in_(users)), now, cleared, run_id)


def mark_selected(
    connection: Connection,
    users: Select[Any],
    now: Instant,
    cleared: tuple[str, str] | None = None,
    run_id: str | None = None,
) -> None:
    """Mark the users that a select of IDs yields.

    Args:
        cleared: (application ID, name of the operator) if the removals were confirmed. An earlier
            confirmation for a user who is still marked does not count any more, because it was for another
            change.
        run_id: the import run that counts what ends. It stays if another change marks the user again.
    """
    columns = ["user_id", "since", "confirmed_for", "released_by", "run_id"]
    application_id, by = cleared or (None, None)
    statement = insert_unless_there(t.pending_recompute).from_select(
        columns, users.add_columns(literal(now), literal(application_id), literal(by), literal(run_id))
    )
    new = statement.excluded
    values = {
        "since": new.since,
        "confirmed_for": new.confirmed_for,
        "released_by": new.released_by,
        "run_id": func.coalesce(new.run_id, t.pending_recompute.c.run_id),
    }
    connection.execute(statement.on_conflict_do_update(index_elements=["user_id"], set_=values))
