"""Marks users for recomputing their access, after a change that affects many."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, literal, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.memberships import users_within
from dravo.store.sqlite import insert_unless_there


def mark_users_within(connection: Connection, group_id: str, now: Instant) -> None:
    """Mark everyone in a group, by any nesting, to be worked out again; set-based, as of this transaction."""
    mark_selected(connection, users_within(group_id, literal(now)))


def mark_users(
    connection: Connection, users: Any, now: Instant, cleared: tuple[str, str] | None = None
) -> None:
    """Mark users by ID, or by a select of IDs; `cleared` as in `mark_selected`."""
    mark_selected(connection, select(t.user.c.id, literal(now)).where(t.user.c.id.in_(users)), cleared)


def mark_selected(connection: Connection, users: Any, cleared: tuple[str, str] | None = None) -> None:
    """Mark the users that a select of (user id, instant) yields.

    Args:
        cleared: (application ID, name of the operator) if the removals were confirmed. An earlier
            confirmation for a user who is still marked does not count any more, because it was for another
            change.
    """
    columns = ["user_id", "since", "confirmed_for", "released_by"]
    application_id, by = cleared or (None, None)
    statement = insert_unless_there(t.pending_recompute).from_select(
        columns, users.add_columns(literal(application_id), literal(by))
    )
    new = statement.excluded
    values = {"since": new.since, "confirmed_for": new.confirmed_for, "released_by": new.released_by}
    connection.execute(statement.on_conflict_do_update(index_elements=["user_id"], set_=values))
