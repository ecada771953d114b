"""Users and their access, now or at a past instant: for the access matrix, reviews and comparisons."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, CursorResult, Select, and_, exists, or_, select, true

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, PartlyCountedPage, page, partly_counted_page
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref
from dravo.store.queries.search import user_has
from dravo.store.queries.users import UserLine, user_line

DIRECT_ONLY, INACTIVE_ASSIGNED, HIGHEST = "direct_only", "inactive_assigned", "highest_role"
CHUNK = 500


@dataclass(frozen=True)
class AccessScope:
    """Which users and which access to read.

    Attributes:
        words: text in a name or user name, with `emails` also in an email.
        application_id: only access to this application.
        role: with an application, the key of a role.
        only: `DIRECT_ONLY`, `INACTIVE_ASSIGNED`, `HIGHEST` or None.
        highest: the IDs of the highest roles, for `HIGHEST`.
        at: a past instant; None for now.
        now: the present instant.
    """

    now: Instant
    words: str | None = None
    emails: bool = True
    application_id: str | None = None
    role: str | None = None
    only: str | None = None
    highest: Collection[str] = ()
    at: Instant | None = None

    def users(self) -> list[ColumnElement[bool]]:
        """Return the conditions for searched users."""
        return [user_has(self.words, emails=self.emails)] if self.words else []

    def within(self, columns: Any) -> list[ColumnElement[bool]]:
        """Return the conditions that access or assignments are of the application and the role."""
        if self.application_id is None:
            return []
        conditions = [columns.application_id == self.application_id]
        if self.role:
            r = t.role.c
            role = select(r.id).where(r.application_id == self.application_id, r.key == self.role)
            conditions.append(columns.role_id == role.scalar_subquery())
        return conditions

    def access(self) -> list[ColumnElement[bool]]:
        """Return the conditions for access by application, role and "highest role"."""
        highest = [t.access.c.role_id.in_(self.highest)] if self.only == HIGHEST else []
        return [*self.within(t.access.c), *highest]


def held_at(at: Instant | None) -> ColumnElement[bool]:
    """Return the condition that access exists at an instant."""
    x = t.access.c
    if at is None:
        return x.until_at.is_(None)
    return and_(x.from_at <= at, or_(x.until_at.is_(None), x.until_at > at))


def columns(connection: Connection, most: int) -> list[KeyAndLabel]:
    """Return the applications by label."""
    p = t.application.c
    statement = select(p.key, p.label).order_by(p.label, p.id).limit(most)
    return [KeyAndLabel(*row) for row in connection.execute(statement)]


def list_users(
    connection: Connection, scope: AccessScope, page_request: PageRequest, count_to: int
) -> PartlyCountedPage[UserLine]:
    """Return a page of the users in a scope by name."""
    keys = [t.user.c.display_name_key, t.user.c.id]
    statement = _users_statement(scope)
    return partly_counted_page(connection, statement, keys, page_request, user_line, count_to=count_to)


def every_user(connection: Connection, scope: AccessScope, at_once: int) -> CursorResult[Any]:
    """Return a cursor over all users in a scope by name; `user_line` reads its rows."""
    u = t.user.c
    statement = _users_statement(scope).add_columns(u.display_name_key).order_by(u.display_name_key, u.id)
    return connection.execute(statement.execution_options(yield_per=at_once))


def _users_statement(scope: AccessScope) -> Select[Any]:
    """Return the select of the users in a scope: everyone with access, unless a search asks for others."""
    u, x = t.user.c, t.access.c
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
    ).where(*scope.users())
    if scope.only == INACTIVE_ASSIGNED:
        return statement.where(*_inactive_assigned(scope))
    narrowed = scope.access()
    if scope.only == DIRECT_ONLY:
        by_rule = exists().where(x.user_id == u.id, held_at(scope.at), *narrowed, x.direct_only.is_(False))
        # The partial index needs "= 1" instead of "IS 1".
        some = (
            select(x.user_id)
            .where(held_at(scope.at), *narrowed, x.direct_only == true())
            .distinct()
            .subquery()
        )
        return statement.join(some, some.c.user_id == u.id).where(~by_rule)
    if narrowed:
        # Few users match: finding them first and sorting after that is faster.
        return statement.where(u.id.in_(select(x.user_id).where(held_at(scope.at), *narrowed)))
    if not scope.words:
        # Users without access are not in the matrix, unless they are searched by name.
        statement = statement.where(exists().where(x.user_id == u.id, held_at(scope.at)))
    return statement


def _inactive_assigned(scope: AccessScope) -> list[ColumnElement[bool]]:
    """Return the conditions that a user was inactive at the instant of a scope, and assigned within it."""
    u, a, at = t.user.c, t.assignment.c, scope.at or scope.now
    assigned = [
        a.user_id == u.id,
        a.excludes.is_(False),
        a.created_at <= at,
        or_(a.removed_at.is_(None), a.removed_at > at),
        or_(a.from_at.is_(None), a.from_at <= at),
        or_(a.until_at.is_(None), a.until_at > at),
    ]
    assigned += scope.within(a)
    return [u.active.is_(False), u.inactive_since <= at, exists().where(*assigned)]


def roles_of_users(
    connection: Connection, user_ids: Sequence[str], at: Instant | None
) -> dict[str, dict[str, list[str]]]:
    """Return by user ID and key of the application the labels of the roles, the highest first."""
    x, p, r = t.access.c, t.application.c, t.role.c
    found: defaultdict[str, dict[str, list[str]]] = defaultdict(dict)
    for start in range(0, len(user_ids), CHUNK):
        statement = (
            select(x.user_id, p.key, r.label)
            .join(t.application, p.id == x.application_id)
            .join(t.role, r.id == x.role_id)
            .where(x.user_id.in_(user_ids[start : start + CHUNK]), held_at(at))
            .order_by(r.rank.desc(), r.key)
        )
        for user_id, key, label in connection.execute(statement):
            found[user_id].setdefault(key, []).append(label)
    return found


@dataclass(frozen=True)
class HeldAccess:
    """Access in its stored form; `reasons` are snapshots of why it exists."""

    user_id: str
    application_id: str
    role_id: str
    from_at: Instant
    reasons: list[dict[str, Any]]


def access_in_scope(connection: Connection, scope: AccessScope, most: int) -> list[HeldAccess]:
    """Return current access in a scope, by application and name."""
    u, x = t.user.c, t.access.c
    direct = [x.direct_only == true()] if scope.only == DIRECT_ONLY else []
    statement = (
        select(x.user_id, x.application_id, x.role_id, x.from_at, x.reasons)
        .join(t.user, u.id == x.user_id)
        .where(held_at(None), *scope.users(), *scope.access(), *direct)
        .order_by(x.application_id, u.display_name_key, x.id)
        .limit(most)
    )
    return [HeldAccess(*row) for row in connection.execute(statement)]


# Comparisons


@dataclass(frozen=True)
class AccessPeriod:
    """Access of one user with its period."""

    from_at: Instant
    until_at: Instant | None
    reasons: list[dict[str, Any]]
    role_id: str
    application_key: str
    application_label: str
    role: str


def users_who_changed(
    connection: Connection,
    since: Instant,
    until: Instant,
    page_request: PageRequest,
    application_id: str | None = None,
) -> Page[UserRef]:
    """Return a page of users with other roles at one instant than at an earlier one, by name."""
    u, x = t.user.c, t.access.c
    where = [x.user_id == u.id]
    if application_id is not None:
        where.append(x.application_id == application_id)
    # Few users changed, and only some of these have other roles at the end.
    differs = or_(_held_at_one_only(where, since, until), _held_at_one_only(where, until, since))
    statement = select(u.id, u.user_name, u.display_name).where(
        exists().where(*where, _moved(since, until)), differs
    )
    return page(connection, statement, [u.display_name_key, u.id], page_request, user_ref)


def _held_at_one_only(where: list[ColumnElement[bool]], one: Instant, other: Instant) -> ColumnElement[bool]:
    """Return the condition that a user had a role at one instant and not at the other."""
    x, y = t.access.c, t.access.alias("other")
    same = (y.c.user_id == x.user_id, y.c.application_id == x.application_id, y.c.role_id == x.role_id)
    held = and_(y.c.from_at <= other, or_(y.c.until_at.is_(None), y.c.until_at > other))
    return exists().where(*where, held_at(one), ~exists().where(*same, held))


def _moved(since: Instant, until: Instant) -> ColumnElement[bool]:
    x = t.access.c
    return or_(and_(x.from_at > since, x.from_at <= until), and_(x.until_at > since, x.until_at <= until))


def periods_of_user(
    connection: Connection,
    user_id: str,
    since: Instant | None = None,
    until: Instant | None = None,
    application: str | None = None,
) -> list[AccessPeriod]:
    """Return the access of a user by application, the highest role first.

    Args:
        since, until: access that existed at `since`, or began or ended until `until`; without them current
            access.
        application: only of the application with this key.
    """
    x, p, r = t.access.c, t.application.c, t.role.c
    when = held_at(None) if since is None or until is None else or_(held_at(since), _moved(since, until))
    statement = (
        select(x.from_at, x.until_at, x.reasons, x.role_id, p.key, p.label, r.label)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, when)
    )
    if application:
        statement = statement.where(p.key == application)
    order = (r.rank.desc(), r.key) if since is None else (p.label, r.rank.desc(), x.from_at)
    return [AccessPeriod(*row) for row in connection.execute(statement.order_by(*order))]
