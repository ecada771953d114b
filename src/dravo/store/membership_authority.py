"""Who decides about the members of a group, in SQL: see `core.identity.membership_authority`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, func, literal, or_, select, union_all, update

from dravo.core.identity.membership_authority import ALL, DRAVO
from dravo.core.identity.records import LOCAL
from dravo.store import tables as t

CHUNK = 500


def members_from() -> ColumnElement[Any]:
    """Return who decides about the members of the group in a select."""
    s = t.source.c
    of_source = select(s.members_from).where(s.id == t.group.c.source_id).correlate(t.group)
    return func.coalesce(t.group.c.members_from, of_source.scalar_subquery())


def record_counts() -> ColumnElement[bool]:
    """Return the condition that a record counts as a member of the group, both in the select."""
    return members_from().in_((ALL, t.record.c.connection_type))


def user_counts() -> ColumnElement[bool]:
    """Return the condition that a user whom an operator added counts as a member of the group in the
    select.
    """
    return or_(t.group.c.connection_type == LOCAL, members_from() == DRAVO)


def inner_group_counts() -> ColumnElement[bool]:
    """Return the condition that nested groups count in the group in the select."""
    return members_from().in_((ALL, t.group.c.connection_type))


def own_authorities(connection: Connection) -> dict[str, str]:
    """Return the authority of each present group that differs from its source, by group ID."""
    g = t.group.c
    found = connection.execute(
        select(g.id, g.members_from).where(g.members_from.is_not(None), g.deleted_at.is_(None))
    )
    return {row.id: str(row.members_from) for row in found}


@dataclass(frozen=True)
class ListedMember:
    """A user whom a group lists, by the records of the connection types that report the membership, or by an
    operator (`DRAVO`).
    """

    group_id: str
    user_id: str
    reported_by: str


@dataclass(frozen=True)
class AuthorityOfGroup:
    """A present group with its own authority (None where the source decides) and its connection type."""

    id: str
    connection_type: str
    own: str | None


def groups_of_source(connection: Connection, source_id: str) -> list[AuthorityOfGroup]:
    """Return the present groups of a source."""
    g = t.group.c
    statement = select(g.id, g.connection_type, g.members_from)
    found = connection.execute(statement.where(g.source_id == source_id, g.deleted_at.is_(None)))
    return [AuthorityOfGroup(*row) for row in found]


def listed_members(connection: Connection, group_ids: Sequence[str]) -> list[ListedMember]:
    """Return the direct members of some groups, also those who do not count because of the authority."""
    m, r, g = t.membership.c, t.record.c, t.group.c
    found: list[ListedMember] = []
    for start in range(0, len(group_ids), CHUNK):
        some = group_ids[start : start + CHUNK]
        present = (m.group_id.in_(some), m.until_at.is_(None), g.left_out.is_(None))
        by_record = (
            select(m.group_id, r.user_id, r.connection_type)
            .join(t.record, r.id == m.record_id)
            .join(t.group, g.id == m.group_id)
            .where(*present, m.record_id.is_not(None), r.user_id.is_not(None), r.left_out.is_(None))
        )
        by_user = (
            select(m.group_id, m.user_id, literal(DRAVO))
            .join(t.group, g.id == m.group_id)
            .where(*present, m.user_id.is_not(None))
        )
        found += [ListedMember(*row) for row in connection.execute(union_all(by_record, by_user))]
    return found


def inner_groups(connection: Connection, group_ids: Sequence[str]) -> list[tuple[str, str]]:
    """Return (inner group ID, group ID) of the groups that some groups list."""
    m = t.membership.c
    found: list[tuple[str, str]] = []
    for start in range(0, len(group_ids), CHUNK):
        where = (m.group_id.in_(group_ids[start : start + CHUNK]), m.until_at.is_(None))
        statement = select(m.inner_group_id, m.group_id).where(*where, m.inner_group_id.is_not(None))
        found += [(inner, outer) for inner, outer in connection.execute(statement)]
    return found


def set_of_group(connection: Connection, group_id: str, authority: str | None) -> None:
    """Set the authority of a group; None for that of its source."""
    connection.execute(update(t.group).where(t.group.c.id == group_id).values(members_from=authority))
