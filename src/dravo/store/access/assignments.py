"""Rows of assignments, and what assignments name."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, and_, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import groups
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries.applications import StoredRole

# The columns that tell two assignments apart.
TARGET = (
    "application_id",
    "role_id",
    "user_id",
    "group_id",
    "rule",
    "pattern",
    "expression",
    "source_id",
    "excludes",
)


@dataclass(frozen=True)
class StoredAssignment:
    """A row of the table of assignments, in the order of its columns.

    Attributes:
        rule, pattern, expression: the text of a condition over users, of a pattern over group names, or of an
            expression whose values are roles.
        source_id: the source whose attributes or groups count, or None.
        confirmed: IDs of confirmed users of a rule, or of confirmed groups of a pattern.
        future_users: whether users who match a rule later get the highest role without a confirmation.
        new_users_since: only users who were created since then are reached.
        from_day, until_day: the days from which the instants were computed, or None.
    """

    id: str
    application_id: str
    role_id: str | None
    plan_id: str | None
    user_id: str | None
    group_id: str | None
    rule: str | None
    pattern: str | None
    source_id: str | None
    confirmed: list[str] | None
    future_users: bool
    excludes: bool
    new_users_since: Instant | None
    from_at: Instant | None
    until_at: Instant | None
    from_day: str | None
    until_day: str | None
    note: str | None
    created_at: Instant
    created_by: str
    removed_at: Instant | None
    expression: str | None


def get(connection: Connection, assignment_id: str) -> StoredAssignment | None:
    """Return an assignment, also a deleted one, or None."""
    row = connection.execute(select(t.assignment).where(t.assignment.c.id == assignment_id)).first()
    return None if row is None else StoredAssignment(*row)


def direct_of_users(
    connection: Connection, application_id: str, user_ids: Sequence[str]
) -> list[StoredAssignment]:
    """Return the assignments to some users in an application, exclusions left out."""
    a = t.assignment.c
    where = (
        a.application_id == application_id,
        a.user_id.in_(user_ids),
        a.removed_at.is_(None),
        a.excludes.is_(False),
    )
    return [StoredAssignment(*row) for row in connection.execute(select(t.assignment).where(*where))]


def has_same(connection: Connection, row: Mapping[str, Any]) -> bool:
    """Return whether an assignment with the target of a row exists."""
    a = t.assignment.c
    same = [a[name].is_(None) if row[name] is None else a[name] == row[name] for name in TARGET]
    return connection.execute(select(a.id).where(a.removed_at.is_(None), *same)).first() is not None


def group_targets(
    connection: Connection, application_id: str
) -> set[tuple[str | None, str | None, str | None]]:
    """Return (group ID, rule, role ID) of all assignments of an application."""
    a = t.assignment.c
    where = (a.application_id == application_id, a.removed_at.is_(None))
    rows = connection.execute(select(a.group_id, a.rule, a.role_id).where(*where))
    return {(group_id, rule, role_id) for group_id, rule, role_id in rows}


def insert_assignment(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert an assignment."""
    connection.execute(insert(t.assignment).values(**row))


def update_assignment(connection: Connection, assignment_id: str, **values: Any) -> None:
    """Change columns of an assignment."""
    connection.execute(update(t.assignment).where(t.assignment.c.id == assignment_id).values(**values))


@dataclass(frozen=True)
class AssignmentKeys:
    """The keys of what an assignment names, as the audit log shows them."""

    application: str
    role: str | None
    plan: str | None


def keys_of(
    connection: Connection, application_id: str, role_id: str | None, plan_id: str | None
) -> AssignmentKeys:
    """Return the keys of an application, a role and a plan."""

    def key(table: Any, identifier: str | None) -> str | None:
        if identifier is None:
            return None
        return connection.execute(select(table.c.key).where(table.c.id == identifier)).scalar()

    return AssignmentKeys(
        key(t.application, application_id) or "", key(t.role, role_id), key(t.license_plan, plan_id)
    )


def users_with_same(
    connection: Connection,
    application_id: str,
    role_id: str | None,
    user_ids: Sequence[str],
    *,
    excludes: bool,
) -> list[str]:
    """Return those of some users who have a direct assignment to a role, or an exclusion."""
    a = t.assignment.c
    where = (
        a.application_id == application_id,
        a.role_id.is_(None) if role_id is None else a.role_id == role_id,
        a.excludes.is_(excludes),
        a.user_id.in_(user_ids),
        a.removed_at.is_(None),
    )
    return list(connection.execute(select(a.user_id).where(*where).distinct()).scalars())


def application_key(connection: Connection, assignment_id: str) -> str | None:
    """Return the key of the application of an assignment, or None."""
    a, p = t.assignment.c, t.application.c
    statement = select(p.key).join(t.assignment, a.application_id == p.id).where(a.id == assignment_id)
    return connection.execute(statement).scalar()


@dataclass(frozen=True)
class ListedAssignment:
    """An assignment with the names of what it names, in the order of the select; `matching_users` is the
    number of direct members of its group.
    """

    id: str
    from_at: Instant | None
    until_at: Instant | None
    from_day: str | None
    until_day: str | None
    note: str | None
    created_at: Instant
    created_by: str
    user_id: str | None
    group_id: str | None
    rule: str | None
    pattern: str | None
    expression: str | None
    confirmed: list[str] | None
    future_users: bool
    excludes: bool
    new_users_since: Instant | None
    application_key: str
    application_label: str
    role_key: str | None
    role_label: str | None
    rank: int | None
    plan_key: str | None
    plan_label: str | None
    display_name: str | None
    user_name: str | None
    group_name: str | None
    external_id: str | None
    group_deleted_at: Instant | None
    source_key: str | None
    source_label: str | None
    matching_users: int | None


@dataclass(frozen=True)
class AssignmentFilter:
    """Which assignments to list.

    Attributes:
        ids: assignments by their IDs.
        application_key, application_id: an application.
        group_id, user_id: the target.
        direct: only assignments to users, or only others; None for both.
    """

    ids: Collection[str] | None = None
    application_key: str | None = None
    application_id: str | None = None
    group_id: str | None = None
    user_id: str | None = None
    direct: bool | None = None


def list_assignments(
    connection: Connection,
    page_request: PageRequest,
    only: AssignmentFilter,
    show: Callable[[ListedAssignment], Item],
) -> Page[Item]:
    """Return a page of assignments, oldest first.

    Args:
        show: returns the item of a `ListedAssignment`.
    """
    a, p = t.assignment.c, t.application.c
    statement = _statement()
    for column, value in (
        (p.key, only.application_key),
        (a.application_id, only.application_id),
        (a.group_id, only.group_id),
        (a.user_id, only.user_id),
    ):
        if value:
            statement = statement.where(column == value)
    if only.ids is not None:
        statement = statement.where(a.id.in_(only.ids))
    if only.direct is not None:
        statement = statement.where(a.user_id.is_not(None) if only.direct else a.user_id.is_(None))
    return page(connection, statement, [a.id], page_request, shown_as(ListedAssignment, show))


def _statement() -> Select[Any]:
    a, p, r, n, u, g, s = (
        t.assignment.c,
        t.application.c,
        t.role.c,
        t.license_plan.c,
        t.user.c,
        t.group.c,
        t.source.c,
    )
    return (
        select(
            a.id,
            a.from_at,
            a.until_at,
            a.from_day,
            a.until_day,
            a.note,
            a.created_at,
            a.created_by,
            a.user_id,
            a.group_id,
            a.rule,
            a.pattern,
            a.expression,
            a.confirmed,
            a.future_users,
            a.excludes,
            a.new_users_since,
            p.key.label("application_key"),
            p.label.label("application_label"),
            r.key.label("role_key"),
            r.label.label("role_label"),
            r.rank,
            n.key.label("plan_key"),
            n.label.label("plan_label"),
            u.display_name,
            u.user_name,
            g.display_name.label("group_name"),
            g.external_id,
            g.deleted_at,
            s.key.label("source_key"),
            s.label.label("source_label"),
            groups.size_of(a.group_id).label("matching_users"),
        )
        .join(t.application, p.id == a.application_id)
        .outerjoin(t.role, r.id == a.role_id)
        .outerjoin(t.license_plan, n.id == a.plan_id)
        .outerjoin(t.user, u.id == a.user_id)
        .outerjoin(t.group, g.id == a.group_id)
        .outerjoin(t.source, s.id == func.coalesce(g.source_id, a.source_id))
        .where(a.removed_at.is_(None))
    )


def rules(connection: Connection) -> list[str]:
    """Return the conditions of all rules and all expressions, deleted ones included."""
    a = t.assignment.c
    return [
        text
        for column in (a.rule, a.expression)
        for text in connection.execute(select(column).where(column.is_not(None)).distinct()).scalars()
    ]


def has_expression(connection: Connection, row: Mapping[str, Any]) -> bool:
    """Return whether an application has an assignment by the same expression, and for the same source."""
    a = t.assignment.c
    source = a.source_id.is_(None) if row["source_id"] is None else a.source_id == row["source_id"]
    where = (a.application_id == row["application_id"], a.expression == row["expression"], source)
    return connection.execute(select(a.id).where(*where, a.removed_at.is_(None)).limit(1)).first() is not None


def groups_of_source(connection: Connection, source_key: str) -> list[tuple[str, str, str | None]]:
    """Return (ID, name, external ID) of the groups of a source by name."""
    g, s = t.group.c, t.source.c
    statement = (
        select(g.id, g.display_name, g.external_id)
        .join(t.source, s.id == g.source_id)
        .where(s.key == source_key, g.deleted_at.is_(None))
        .order_by(g.display_name_key)
    )
    return [(group_id, name, external_id) for group_id, name, external_id in connection.execute(statement)]


def number_of_direct_members(connection: Connection, group_ids: Sequence[str]) -> int:
    """Return how many users are direct members of at least one of some groups."""
    statement = select(func.count(groups.listed(group_ids).c.user_id.distinct()))
    return int(connection.execute(statement).scalar_one())


@dataclass(frozen=True)
class PossibleAssignment:
    """A group or rule that gives a role."""

    id: str
    rule: str | None
    group_id: str | None
    group_name: str | None
    source_key: str | None
    source_label: str | None
    role_key: str | None
    role_label: str | None
    rank: int | None


def giving_roles(connection: Connection, application_id: str, most: int) -> list[PossibleAssignment]:
    """Return the groups and rules that give a role in an application, by rank."""
    a, g, s, r = t.assignment.c, t.group.c, t.source.c, t.role.c
    statement = (
        select(a.id, a.rule, g.id, g.display_name, s.key, s.label, r.key, r.label, r.rank)
        .select_from(t.assignment)
        .outerjoin(t.role, r.id == a.role_id)
        .outerjoin(t.group, g.id == a.group_id)
        .outerjoin(t.source, s.id == g.source_id)
        .where(
            a.application_id == application_id,
            a.removed_at.is_(None),
            a.excludes.is_(False),
            g.deleted_at.is_(None),
        )
        .where(a.group_id.is_not(None) | a.rule.is_not(None))
        .order_by(r.rank, g.display_name_key)
        .limit(most)
    )
    return [PossibleAssignment(*row) for row in connection.execute(statement)]


def users_with_role(connection: Connection, role_id: str) -> frozenset[str]:
    """Return the IDs of the users who have a role."""
    x = t.access.c
    statement = select(x.user_id).where(x.role_id == role_id, x.until_at.is_(None)).distinct()
    return frozenset(connection.execute(statement).scalars())


def roles_of_user(connection: Connection, application_id: str, user_id: str) -> list[StoredRole]:
    """Return the roles that a user has in an application now, the highest first."""
    x, r = t.access.c, t.role.c
    statement = (
        select(t.role)
        .join(t.access, x.role_id == r.id)
        .where(x.application_id == application_id, x.user_id == user_id, x.until_at.is_(None))
        .order_by(r.rank.desc(), r.key)
    )
    return [StoredRole(*row) for row in connection.execute(statement)]


def confirm_present_users(connection: Connection, application_id: str) -> None:
    """Confirm the users of rules and expressions for the highest role of an application: they keep the role,
    and later users wait.
    """
    a, r = t.assignment.c, t.role.c
    top = connection.execute(
        select(r.id).where(r.application_id == application_id).order_by(r.rank.desc(), r.key).limit(1)
    ).scalar()
    of_rules = and_(
        a.role_id == top,
        a.rule.is_not(None),
        a.confirmed.is_(None),
        a.future_users.is_(False),
        a.excludes.is_(False),
    )
    of_expressions = and_(a.application_id == application_id, a.expression.is_not(None))
    where = (a.removed_at.is_(None), or_(of_rules, of_expressions))
    for row in connection.execute(select(a.id).where(*where)).all():
        having = users_with_role(connection, top) if top is not None else ()
        update_assignment(connection, row.id, confirmed=sorted(having))
