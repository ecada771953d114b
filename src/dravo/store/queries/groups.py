"""Reads groups and their members as the API shows them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Select, and_, func, or_, select

from dravo.core.identity.membership_authority import DRAVO
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL
from dravo.core.instants import Instant
from dravo.store import groups as store_groups
from dravo.store import memberships
from dravo.store import tables as t
from dravo.store.membership_authority import members_from, record_counts, user_counts
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries.references import GroupRef, KeyAndLabel, key_and_label
from dravo.store.queries.search import contains
from dravo.store.queries.users import UserLine, user_line


@dataclass(frozen=True)
class NamedGroup:
    """A group in short, with the key of its source."""

    id: str
    source_id: str | None
    connection_type: str
    display_name: str
    external_id: str | None
    source_key: str | None


def groups_named(
    connection: Connection, name: str, source_id: str | None = None, limit: int = 10
) -> list[NamedGroup]:
    """Return groups that have a name, an ID or an external ID, in all sources or in one."""
    g, s = t.group.c, t.source.c
    statement = (
        select(g.id, g.source_id, g.connection_type, g.display_name, g.external_id, s.key)
        .outerjoin(t.source, s.id == g.source_id)
        .where(
            g.deleted_at.is_(None),
            (g.id == name) | (g.external_id == name) | (g.display_name_key == fold(name)),
        )
    )
    if source_id is not None:
        statement = statement.where(s.id == source_id)
    return [NamedGroup(*row) for row in connection.execute(statement.limit(limit))]


def local_groups(connection: Connection) -> list[tuple[str, str]]:
    """Return (ID, name) of all local groups, by name."""
    g = t.group.c
    statement = select(g.id, g.display_name).where(g.connection_type == LOCAL, g.deleted_at.is_(None))
    return [(row.id, row.display_name) for row in connection.execute(statement.order_by(g.display_name_key))]


@dataclass(frozen=True)
class UserGroup:
    """A membership of a user, present or past."""

    group: GroupRef
    source: KeyAndLabel | None
    since: Instant
    until: Instant | None


@dataclass(frozen=True)
class GroupLine:
    """A group as lists show it; `members` counts direct members."""

    id: str
    name: str
    external_id: str | None
    source: KeyAndLabel | None
    members: int
    assignments: int
    modified_at: Instant


@dataclass(frozen=True)
class GroupNearby:
    """A nested or containing group."""

    id: str
    name: str
    source: KeyAndLabel | None


@dataclass(frozen=True)
class GroupDetail(GroupLine):
    """A group with its nested and containing groups, and the number of its users by any nesting.

    Attributes:
        members_from: who decides about its members.
        own_members_from: the same where the group differs from its source, or None.
        description: what a local group is for; "" for nothing.
    """

    local: bool
    description: str
    members_from: str
    own_members_from: str | None
    users_with_nested_groups: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


def memberships_of(connection: Connection, user_id: str) -> list[UserGroup]:
    """Return every membership that a user has or had, the present ones first."""
    m, g, s = t.membership.c, t.group.c, t.source.c
    mine = select(t.record.c.id).where(t.record.c.user_id == user_id)
    statement = (
        select(g.id, g.display_name, g.external_id, m.from_at, m.until_at, s.key, s.label)
        .select_from(t.membership)
        .join(t.group, g.id == m.group_id)
        .outerjoin(t.source, s.id == g.source_id)
        .outerjoin(t.record, t.record.c.id == m.record_id)
        .where(
            or_(m.record_id.in_(mine), m.user_id == user_id),
            m.waiting.is_distinct_from("add"),
            or_(
                m.until_at.is_not(None),
                and_(m.record_id.is_not(None), record_counts()),
                and_(m.user_id.is_not(None), user_counts()),
            ),
        )
        .order_by(m.until_at.is_not(None), m.from_at.desc())
        .limit(500)
    )
    return [
        UserGroup(
            group=GroupRef(row.id, row.display_name, row.external_id),
            source=key_and_label(row.key, row.label),
            since=row.from_at,
            until=row.until_at,
        )
        for row in connection.execute(statement)
    ]


def _groups_statement() -> Select[Any]:
    """Return the select of present groups, each with its source, how many it lists and how many assignments
    name it.
    """
    g, s = t.group.c, t.source.c
    size = store_groups.size_of(g.id)
    roles = (
        select(func.count())
        .select_from(t.assignment)
        .where(t.assignment.c.group_id == g.id, t.assignment.c.removed_at.is_(None))
        .scalar_subquery()
    )
    return (
        select(
            g.id,
            g.display_name,
            g.external_id,
            g.modified_at,
            s.key,
            s.label,
            size.label("size"),
            roles.label("roles"),
        )
        .outerjoin(t.source, s.id == g.source_id)
        .where(g.deleted_at.is_(None), g.left_out.is_(None))
    )


def groups(
    connection: Connection,
    page_request: PageRequest,
    words: str | None,
    source_key: str | None,
    given: Mapping[str, int],
    *,
    mapped: bool | None = None,
) -> Page[GroupLine]:
    """Return a page of groups by name.

    Args:
        words: text in the name, or an ID.
        source_key: only groups of this source.
        given: by group ID, the number of its assignments, those of patterns included.
        mapped: only groups with assignments, or only groups without.
    """
    g, statement = t.group.c, _groups_statement()
    if mapped is not None:
        known = list(given)
        statement = statement.where(g.id.in_(known) if mapped else g.id.not_in(known))
    if words:
        statement = statement.where(
            or_(contains(g.display_name_key, words), g.id == words, g.external_id == words)
        )
    if source_key:
        statement = statement.where(t.source.c.key == source_key)
    return page(
        connection,
        statement,
        [g.display_name_key, g.id],
        page_request,
        lambda row: replace(group_line(row), assignments=given.get(row.id, 0)),
    )


def group_line(row: Any) -> GroupLine:
    """Return a group as lists show it."""
    return GroupLine(
        id=row.id,
        name=row.display_name,
        external_id=row.external_id,
        source=key_and_label(row.key, row.label),
        members=row.size,
        assignments=row.roles,
        modified_at=row.modified_at,
    )


def group(connection: Connection, group_id: str) -> GroupLine | None:
    """Return one group as lists show it, or None."""
    row = connection.execute(_groups_statement().where(t.group.c.id == group_id)).first()
    return group_line(row) if row else None


def group_detail(connection: Connection, group_id: str) -> GroupDetail | None:
    """Return one group with the groups that it lists itself, those that list it, and how many users are in
    it by any nesting; or None.
    """
    found = group(connection, group_id)
    if found is None:
        return None
    g, s, m = t.group.c, t.source.c, t.membership.c

    def nearby(other: Any, here: Any) -> list[GroupNearby]:
        statement = (
            select(g.id, g.display_name, s.key, s.label)
            .join(t.membership, other == g.id)
            .outerjoin(t.source, s.id == g.source_id)
            .where(
                here == group_id, m.until_at.is_(None), m.inner_group_id.is_not(None), g.deleted_at.is_(None)
            )
            .order_by(g.display_name_key, g.id)
            .limit(500)
        )
        return [
            GroupNearby(row.id, row.display_name, key_and_label(row.key, row.label))
            for row in connection.execute(statement)
        ]

    row = connection.execute(
        select(g.connection_type, g.members_from, members_from(), g.description).where(g.id == group_id)
    ).one()
    connection_type, own, authority, description = row
    return GroupDetail(
        **vars(found),
        local=connection_type == LOCAL,
        description=description or "",
        members_from=DRAVO if connection_type == LOCAL else authority,
        own_members_from=own,
        users_with_nested_groups=memberships.how_many_within(connection, group_id),
        inner=nearby(m.inner_group_id, m.group_id),
        around=nearby(m.group_id, m.inner_group_id),
    )


def group_members(connection: Connection, group_id: str, page_request: PageRequest) -> Page[UserLine]:
    """Return a page of a group's direct members."""
    u, listed = t.user.c, store_groups.listed([group_id])
    statement = select(
        u.id,
        u.user_name,
        u.display_name,
        u.email,
        u.active,
        u.left_at,
        u.inactive_since,
        u.created_at,
        u.modified_at,
        u.invited_at,
    ).join(listed, listed.c.user_id == u.id)
    return page(connection, statement, [u.display_name_key, u.id], page_request, user_line)


@dataclass(frozen=True)
class OwnedGroup:
    """A present group with the label of its source; `left_out` if the source policy does not accept it."""

    id: str
    source_id: str
    connection_type: str
    display_name: str
    data: dict[str, Any]
    version: int
    left_out: bool
    source_label: str
    description: str


def owned_group(connection: Connection, group_id: str) -> OwnedGroup | None:
    """Return a present group with the label of its source, or None."""
    g, s = t.group.c, t.source.c
    statement = (
        select(
            g.id,
            g.source_id,
            g.connection_type,
            g.display_name,
            g.data,
            g.version,
            g.left_out.is_not(None),
            s.label,
            func.coalesce(g.description, ""),
        )
        .join(t.source, s.id == g.source_id)
        .where(g.id == group_id, g.deleted_at.is_(None))
    )
    row = connection.execute(statement).first()
    return None if row is None else OwnedGroup(*row)


def name_keys_in_use(
    connection: Connection, source_id: str, name_keys: Collection[str], own_id: str = ""
) -> set[str]:
    """Return those of some names, in the form in which they are compared, that groups of a source have.

    Args:
        own_id: a group that does not count.
    """
    g = t.group.c
    where = (
        g.source_id == source_id,
        g.display_name_key.in_(name_keys),
        g.deleted_at.is_(None),
        g.id != own_id,
    )
    return set(connection.execute(select(g.display_name_key).where(*where)).scalars())
