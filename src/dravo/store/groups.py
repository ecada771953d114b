"""Groups: reading, creating, changing and ending them, and their members."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Subquery,
    and_,
    bindparam,
    case,
    exists,
    func,
    insert,
    literal,
    or_,
    select,
    union_all,
    update,
)

from dravo.core.identity.membership_authority import ALL, DRAVO
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.membership_authority import members_from, record_counts, user_counts
from dravo.store.queries.source_rows import COLUMNS

CHUNK = 500

_ONE = select(*COLUMNS[t.group]).where(
    t.group.c.id == bindparam("id"),
    t.group.c.source_id == bindparam("source"),
    t.group.c.connection_type == bindparam("connection_type"),
    t.group.c.deleted_at.is_(None),
)
_WRITE = (
    update(t.group)
    .where(
        t.group.c.id == bindparam("group"),
        t.group.c.version == bindparam("seen"),
        t.group.c.deleted_at.is_(None),
    )
    .values(
        display_name=bindparam("name"),
        display_name_key=bindparam("name_key"),
        external_id=bindparam("external"),
        data=bindparam("content", type_=t.group.c.data.type),
        version=t.group.c.version + 1,
        modified_at=bindparam("at"),
        deleted_at=bindparam("gone"),
    )
)


@dataclass(frozen=True)
class StoredGroup:
    """A present group of a source, in the order of the select.

    Attributes:
        left_out: why it gives nothing, or None.
        waiting: what waits until its source is enabled, or None.
    """

    id: str
    display_name: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    left_out: str | None
    waiting: str | None


def get(connection: Connection, source_id: str, connection_type: str, group_id: str) -> StoredGroup | None:
    """Return one group that the source has, or None."""
    row = connection.execute(
        _ONE, {"id": group_id, "source": source_id, "connection_type": connection_type}
    ).first()
    return None if row is None else StoredGroup(*row)


def make(
    connection: Connection,
    group_id: str,
    source_id: str,
    connection_type: str,
    data: Mapping[str, Any],
    now: Instant,
) -> None:
    """Write a new group, as yet without members."""
    connection.execute(
        insert(t.group),
        {
            "id": group_id,
            "source_id": source_id,
            "connection_type": connection_type,
            "display_name": data["displayName"],
            "display_name_key": fold(data["displayName"]),
            "external_id": data.get("externalId"),
            "data": data,
            "version": 1,
            "created_at": now,
            "modified_at": now,
        },
    )


def write(
    connection: Connection,
    group_id: str,
    seen: int,
    data: Mapping[str, Any],
    now: Instant,
    *,
    gone: bool = False,
) -> bool:
    """Replace what a source reported about a group; False if the group changed since it was read."""
    given = {
        "group": group_id,
        "seen": seen,
        "name": data["displayName"],
        "name_key": fold(data["displayName"]),
        "external": data.get("externalId"),
        "content": data,
        "at": now,
        "gone": now if gone else None,
    }
    return connection.execute(_WRITE, given).rowcount == 1


def members_of(connection: Connection, group_ids: Sequence[str]) -> dict[str, list[tuple[str, str, str]]]:
    """Return for each group (ID, "User" or "Group", display name) of its members."""
    m = t.membership
    found: dict[str, list[tuple[str, str, str]]] = {group_id: [] for group_id in group_ids}
    for start in range(0, len(group_ids), CHUNK):
        some = group_ids[start : start + CHUNK]
        users = (
            select(m.c.group_id, m.c.record_id, literal("User"), t.user.c.display_name)
            .join(t.record, t.record.c.id == m.c.record_id)
            .join(t.user, t.user.c.id == t.record.c.user_id)
            .where(m.c.group_id.in_(some), m.c.until_at.is_(None), m.c.record_id.is_not(None))
        )
        groups = (
            select(m.c.group_id, m.c.inner_group_id, literal("Group"), t.group.c.display_name)
            .join(t.group, t.group.c.id == m.c.inner_group_id)
            .where(m.c.group_id.in_(some), m.c.until_at.is_(None), m.c.inner_group_id.is_not(None))
        )
        for group_id, member_id, kind, name in connection.execute(users.union_all(groups)):
            found[group_id].append((member_id, kind, name))
    return found


def members(connection: Connection, group_id: str) -> list[tuple[str, str, str]]:
    """Return (ID, "User" or "Group", display name) of a group's members."""
    return members_of(connection, [group_id])[group_id]


_LISTED_RECORDS = select(t.membership.c.record_id).where(
    t.membership.c.group_id == bindparam("group"),
    t.membership.c.until_at.is_(None),
    t.membership.c.record_id.is_not(None),
)
_LISTED_GROUPS = select(t.membership.c.inner_group_id).where(
    t.membership.c.group_id == bindparam("group"),
    t.membership.c.until_at.is_(None),
    t.membership.c.inner_group_id.is_not(None),
)


def listed_records(connection: Connection, group_id: str) -> set[str]:
    """Return the ids of the records that a group lists."""
    return set(connection.execute(_LISTED_RECORDS, {"group": group_id}).scalars())


def listed_groups(connection: Connection, group_id: str) -> set[str]:
    """Return the ids of the groups that a group lists."""
    return set(connection.execute(_LISTED_GROUPS, {"group": group_id}).scalars())


def which_are_listed(connection: Connection, group_id: str, ids: Sequence[str]) -> set[str]:
    """Return those of some ids, of records or groups, that a group lists; reads no other member."""
    m = t.membership
    found: set[str] = set()
    for start in range(0, len(ids), CHUNK):
        some = ids[start : start + CHUNK]
        for column in (m.c.record_id, m.c.inner_group_id):
            found.update(
                connection.execute(
                    # The condition implies that the column is not null. Stated explicitly, the planner would
                    # scan that range.
                    select(column).where(m.c.group_id == group_id, m.c.until_at.is_(None), column.in_(some))
                ).scalars()
            )
    return found


def which_exist(
    connection: Connection, source_id: str, connection_type: str, ids: Sequence[str]
) -> tuple[set[str], set[str]]:
    """Return those of some ids that are records, and those that are groups, of one source and present."""
    found: tuple[set[str], set[str]] = (set(), set())
    for start in range(0, len(ids), CHUNK):
        some = ids[start : start + CHUNK]
        for known, table in zip(found, (t.record, t.group), strict=True):
            where = (
                table.c.id.in_(some),
                table.c.source_id == source_id,
                table.c.connection_type == connection_type,
                table.c.deleted_at.is_(None),
            )
            known.update(connection.execute(select(table.c.id).where(*where)).scalars())
    return found


def which_are_present(connection: Connection, ids: Collection[str]) -> tuple[set[str], set[str]]:
    """Return those of some IDs that are records, and those that are groups, and not deleted."""
    found: tuple[set[str], set[str]] = (set(), set())
    wanted = sorted(ids)
    for start in range(0, len(wanted), CHUNK):
        some = wanted[start : start + CHUNK]
        for known, table in zip(found, (t.record, t.group), strict=True):
            where = (table.c.id.in_(some), table.c.deleted_at.is_(None))
            known.update(connection.execute(select(table.c.id).where(*where)).scalars())
    return found


def leave_out(connection: Connection, group_id: str, reason: str | None) -> None:
    """Note why a group gives nothing; None for one that counts."""
    connection.execute(update(t.group).where(t.group.c.id == group_id).values(left_out=reason))


def left_out(connection: Connection, group_ids: Sequence[str]) -> set[str]:
    """Return those of some groups that give nothing."""
    found: set[str] = set()
    g = t.group.c
    for start in range(0, len(group_ids), CHUNK):
        where = (g.id.in_(group_ids[start : start + CHUNK]), g.left_out.is_not(None))
        found.update(connection.execute(select(g.id).where(*where)).scalars())
    return found


_LISTED_USERS = select(t.membership.c.user_id).where(
    t.membership.c.group_id == bindparam("group"),
    t.membership.c.until_at.is_(None),
    t.membership.c.user_id.is_not(None),
)


def listed_users(connection: Connection, group_id: str) -> list[str]:
    """Return the IDs of the users in a local group."""
    return list(connection.execute(_LISTED_USERS, {"group": group_id}).scalars())


def groups_of_user(connection: Connection, user_id: str) -> list[str]:
    """Return the IDs of the groups in which a user counts that an operator added."""
    m = t.membership.c
    statement = (
        select(m.group_id)
        .join(t.group, t.group.c.id == m.group_id)
        .where(m.user_id == user_id, m.until_at.is_(None), m.user_id.is_not(None), user_counts())
    )
    return list(connection.execute(statement).scalars())


def end_group(connection: Connection, group_id: str, now: Instant) -> None:
    """End a group's own list and take it off the lists of others."""
    m = t.membership
    around = select(m.c.group_id).where(
        m.c.inner_group_id == group_id, m.c.until_at.is_(None), m.c.inner_group_id.is_not(None)
    )
    connection.execute(
        update(t.group).where(t.group.c.id.in_(around)).values(version=t.group.c.version + 1, modified_at=now)
    )
    connection.execute(update(m).where(m.c.group_id == group_id, m.c.until_at.is_(None)).values(until_at=now))
    connection.execute(
        update(m)
        .where(m.c.inner_group_id == group_id, m.c.until_at.is_(None), m.c.inner_group_id.is_not(None))
        .values(until_at=now)
    )


_GROUPS_OF_RECORDS = (
    select(t.membership.c.record_id, t.group.c.id, t.group.c.display_name)
    .join(t.group, t.group.c.id == t.membership.c.group_id)
    .where(
        t.membership.c.record_id.in_(bindparam("ids", expanding=True)),
        t.membership.c.until_at.is_(None),
        t.membership.c.record_id.is_not(None),
    )
    .order_by(t.membership.c.id)
)
_COUNTING_GROUPS_OF_RECORDS = _GROUPS_OF_RECORDS.join(
    t.record, t.record.c.id == t.membership.c.record_id
).where(record_counts())


def groups_of_record(connection: Connection, record_id: str) -> list[tuple[str, str]]:
    """Return (group id, name) of the groups that list one record."""
    return groups_of_records(connection, [record_id])[record_id]


def ids_of_record(connection: Connection, record_id: str) -> list[str]:
    """Return the IDs of the groups in which one record counts as a member."""
    found = groups_of_records(connection, [record_id], counting=True)[record_id]
    return [group_id for group_id, _ in found]


def groups_of_records(
    connection: Connection, record_ids: Sequence[str], *, counting: bool = False
) -> dict[str, list[tuple[str, str]]]:
    """Return (group id, name) for each record, of the groups that list it; `counting` as in `listed`."""
    found: dict[str, list[tuple[str, str]]] = {record_id: [] for record_id in record_ids}
    statement = _COUNTING_GROUPS_OF_RECORDS if counting else _GROUPS_OF_RECORDS
    for start in range(0, len(record_ids), CHUNK):
        for record_id, group_id, name in connection.execute(
            statement, {"ids": record_ids[start : start + CHUNK]}
        ):
            found[record_id].append((group_id, name))
    return found


def listed(group_ids: Any, *, counting: bool = True) -> Subquery:
    """Return (user ID, group ID) of direct members of some groups, by a record or by the user.

    Args:
        group_ids: for `IN`: IDs, or a select of them.
        counting: only members that the authority of the group reports and the source policy accepts.
    """
    m = t.membership.c
    by_record = (
        select(t.record.c.user_id, m.group_id)
        .join(t.membership, m.record_id == t.record.c.id)
        .where(m.group_id.in_(group_ids), m.until_at.is_(None), m.record_id.is_not(None))
    )
    by_user = select(m.user_id, m.group_id).where(
        m.group_id.in_(group_ids), m.until_at.is_(None), m.user_id.is_not(None)
    )
    if counting:
        of_group = t.group.c.id == m.group_id
        accepted = t.group.c.left_out.is_(None)
        by_record = by_record.join(t.group, of_group).where(
            record_counts(), accepted, t.record.c.left_out.is_(None)
        )
        by_user = by_user.join(t.group, of_group).where(user_counts(), accepted)
    return union_all(by_record, by_user).subquery("listed")


def size_of(group_id: Any) -> ColumnElement[int]:
    """Return the number of direct members of the group in a select as a column; each index counts its own."""
    m, r = t.membership.c, t.record.c
    by_record, by_user = (
        select(func.count())
        .select_from(t.membership)
        .where(m.group_id == group_id, m.until_at.is_(None), column.is_not(None))
        for column in (m.record_id, m.user_id)
    )
    of_one = by_record.join(t.record, r.id == m.record_id).where(r.connection_type == members_from())
    return case(
        (t.group.c.connection_type == LOCAL, by_user.scalar_subquery()),
        (members_from() == ALL, by_record.scalar_subquery()),
        (members_from() == DRAVO, by_user.scalar_subquery()),
        else_=of_one.correlate(t.group).scalar_subquery(),
    )


def reaches_nobody() -> ColumnElement[bool]:
    """Return the condition that a group is deleted, or has neither users nor groups."""
    m = t.membership.c
    inner = exists().where(m.group_id == t.group.c.id, m.until_at.is_(None), m.inner_group_id.is_not(None))
    return or_(t.group.c.deleted_at.is_not(None), and_(size_of(t.group.c.id) == 0, ~inner))


@dataclass(frozen=True)
class NamedGroup:
    """A group with its name and the IDs that its source knows it by."""

    id: str
    name: str
    ids: tuple[str, ...]


def named_of_source(connection: Connection, source_id: str) -> list[NamedGroup]:
    """Return the groups of a source that are not deleted, by name."""
    g = t.group.c
    statement = (
        select(g.id, g.display_name, g.external_id, g.native_id)
        .where(g.source_id == source_id, g.deleted_at.is_(None))
        .order_by(g.display_name_key, g.id)
    )
    return [
        NamedGroup(row.id, row.display_name, tuple(each for each in (row.id, *row[2:]) if each))
        for row in connection.execute(statement)
    ]


def set_description(connection: Connection, group_id: str, description: str) -> None:
    """Store what a local group is for; "" for nothing."""
    connection.execute(
        update(t.group).where(t.group.c.id == group_id).values(description=description or None)
    )
