"""Members of groups, direct and nested. A membership is a row, so that a change costs only what changes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, Select, Subquery, bindparam, func, insert, literal, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.groups import CHUNK, listed
from dravo.store.membership_authority import inner_group_counts
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.sqlite import insert_unless_there


def add_users(connection: Connection, group_id: str, user_ids: Iterable[str], now: Instant) -> None:
    """Add users to a local group; users who have left meanwhile are skipped."""
    wanted = list(user_ids)
    for start in range(0, len(wanted), CHUNK):
        u = t.user.c
        some = select(literal(group_id), u.id, literal(now)).where(
            u.id.in_(wanted[start : start + CHUNK]), u.left_at.is_(None)
        )
        connection.execute(insert(t.membership).from_select(["group_id", "user_id", "from_at"], some))


def end_users(connection: Connection, group_id: str, user_ids: Sequence[str], now: Instant) -> None:
    """Take users off a local group's list."""
    m = t.membership.c
    for start in range(0, len(user_ids), CHUNK):
        some = user_ids[start : start + CHUNK]
        where = (m.group_id == group_id, m.until_at.is_(None), m.user_id.in_(some))
        connection.execute(update(t.membership).where(*where).values(until_at=now))


def end_added_users(connection: Connection, group_ids: Sequence[str], now: Instant) -> None:
    """End the memberships of users that operators added to some groups."""
    m = t.membership.c
    for start in range(0, len(group_ids), CHUNK):
        where = (m.group_id.in_(group_ids[start : start + CHUNK]), m.until_at.is_(None))
        connection.execute(update(t.membership).where(*where, m.user_id.is_not(None)).values(until_at=now))


def take_over_members(connection: Connection, group_ids: Sequence[str], now: Instant) -> None:
    """Add the users who count as direct members of some groups, as if operators had added each."""
    u = t.user.c
    for start in range(0, len(group_ids), CHUNK):
        found = listed(group_ids[start : start + CHUNK])
        members = (
            select(found.c.group_id, found.c.user_id, literal(now))
            .join(t.user, u.id == found.c.user_id)
            .where(u.left_at.is_(None))
            .distinct()
        )
        connection.execute(insert(t.membership).from_select(["group_id", "user_id", "from_at"], members))


def end_memberships_of_user(connection: Connection, user_id: str, now: Instant) -> None:
    """Take a user off the lists of local groups."""
    m = t.membership.c
    where = (m.user_id == user_id, m.until_at.is_(None), m.user_id.is_not(None))
    connection.execute(update(t.membership).where(*where).values(until_at=now))


_ADD_MEMBERS = PreparedStatement(insert_unless_there(t.membership).on_conflict_do_nothing())


def add_members(
    connection: Connection, group_id: str, records: Iterable[str], groups: Iterable[str], now: Instant
) -> None:
    """Add records and groups to a group; existing members stay as they are."""
    rows = [
        {"group_id": group_id, "record_id": each, "inner_group_id": None, "from_at": now} for each in records
    ]
    rows += [
        {"group_id": group_id, "record_id": None, "inner_group_id": each, "from_at": now} for each in groups
    ]
    _ADD_MEMBERS.change_many(connection, rows)


def end_members(connection: Connection, group_id: str, ids: Sequence[str], now: Instant) -> None:
    """Take records and groups off a group's list."""
    m = t.membership
    for start in range(0, len(ids), CHUNK):
        some = ids[start : start + CHUNK]
        for column in (m.c.record_id, m.c.inner_group_id):
            connection.execute(
                update(m)
                .where(m.c.group_id == group_id, m.c.until_at.is_(None), column.in_(some))
                .values(until_at=now)
            )


_END_RECORD = (
    update(t.membership)
    .where(
        t.membership.c.record_id == bindparam("record"),
        t.membership.c.until_at.is_(None),
        t.membership.c.record_id.is_not(None),
    )
    .values(until_at=bindparam("now"))
)


_RAISE_LISTING = (
    update(t.group)
    .where(
        t.group.c.id.in_(
            select(t.membership.c.group_id).where(
                t.membership.c.record_id == bindparam("record"),
                t.membership.c.until_at.is_(None),
                t.membership.c.record_id.is_not(None),
            )
        )
    )
    .values(version=t.group.c.version + 1, modified_at=bindparam("now"))
)


def end_memberships_of_record(connection: Connection, record_id: str, now: Instant) -> None:
    """End all memberships of a record, and raise the versions of its groups."""
    connection.execute(_RAISE_LISTING, {"record": record_id, "now": now})
    connection.execute(_END_RECORD, {"record": record_id, "now": now})


def _each(found: Subquery) -> Select[str]:
    # Without a condition, SQLite would read ON CONFLICT of the insert as a part of the join.
    return select(found.c.user_id).where(found.c.user_id.is_not(None)).distinct()


def users_within(group_id: str, *, counting: bool = False) -> Select[str]:
    """Return the select of everyone in a group, by any nesting; by default also of members who do not count,
    because they may count after a change.
    """
    m = t.membership
    within = select(literal(group_id).label("id")).cte("within", recursive=True)
    inner = select(m.c.inner_group_id).where(
        m.c.group_id == within.c.id, m.c.until_at.is_(None), m.c.inner_group_id.is_not(None)
    )
    if counting:
        inner = inner.join(t.group, t.group.c.id == m.c.group_id).where(inner_group_counts())
    within = within.union(inner)
    found = listed(select(within.c.id), counting=counting)
    return _each(found)


def users_in_groups_of(source_ids: Any) -> Select[str]:
    """Return the select of everyone who is in any group of some sources."""
    found = listed(
        select(t.group.c.id).where(t.group.c.source_id.in_(source_ids), t.group.c.deleted_at.is_(None)),
        counting=False,
    )
    return _each(found)


def with_inner_groups(connection: Connection, group_ids: Sequence[str]) -> set[str]:
    """Return those of some groups that list groups."""
    m = t.membership.c
    statement = select(m.group_id).where(
        m.group_id.in_(group_ids), m.until_at.is_(None), m.inner_group_id.is_not(None)
    )
    return set(connection.execute(statement.distinct()).scalars())


def how_many_within(connection: Connection, group_id: str) -> int:
    """Return how many users are in a group, by any nesting."""
    return int(
        connection.execute(
            select(func.count()).select_from(users_within(group_id, counting=True).subquery())
        ).scalar_one()
    )


def everyone() -> Select[str]:
    """Return the select of all users who have not left."""
    return select(t.user.c.id).where(t.user.c.left_at.is_(None))


def some_users(user_ids: Iterable[str]) -> Select[str]:
    """Return the select of those of some users who exist."""
    return select(t.user.c.id).where(t.user.c.id.in_(list(user_ids)))


def users_of_target(row: Mapping[str, Any]) -> Select[str]:
    """Return the select of all users whom an assignment can touch.

    Args:
        row: the columns of the assignment's table.
    """
    found: Select[str]
    if row["user_id"] is not None:
        return select(t.user.c.id).where(t.user.c.id == row["user_id"])
    if row["group_id"] is not None:
        found = users_within(row["group_id"])
    elif row["pattern"] is not None:
        found = users_in_groups_of((row["source_id"],))
    else:
        found = everyone()
    return found
