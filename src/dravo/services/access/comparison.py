"""Compares access: of two users, and of two instants."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, exists, or_, select

from dravo.core.access.reasons import chain, named
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.services.access.matrix import held_at
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, find_users
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.references import GroupRef, KeyAndLabel, UserRef, user_ref
from dravo.store.queries.users import UserLine

# Two instants


@dataclass
class AccessDifference:
    """A user whose roles in an application differ between two times."""

    id: str
    user: UserRef
    application: KeyAndLabel
    what: str
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


@dataclass
class ComparedRole:
    """A role of one of two users, with its reason."""

    role: str
    because: list[str]


@dataclass
class ComparedApplication:
    """The roles of two users in an application."""

    application: KeyAndLabel
    same: bool
    sides: list[list[ComparedRole]]


@dataclass
class ComparedGroup:
    """A group of one or both users."""

    group: GroupRef
    source: KeyAndLabel | None
    sides: list[bool]


@dataclass
class Comparison:
    """The comparison of two users; differences first."""

    users: list[UserLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


def changes(
    ctx: AppContext, application: str | None, since: Instant, until: Instant, page_request: PageRequest
) -> Page[AccessDifference]:
    """Return a page of users with other roles at one instant than at an earlier one, with the reasons.

    The total counts users.

    Raises:
        InvalidInput: if the first instant is not before the second.
        NotFound.
    """
    if since >= until:
        raise InvalidInput("The first time is not before the second.", "Swap `since` and `until`.", "since")
    u, x = t.user.c, t.access.c
    with ctx.database.reading() as connection:
        moved = _moved(since, until)
        where = [x.user_id == u.id]
        if application:
            where.append(x.application_id == application_by_key(connection, application).id)
        # Few users changed, and only some of these have other roles at the end.
        differs = or_(_held_at_one_only(where, since, until), _held_at_one_only(where, until, since))
        statement = select(u.id, u.user_name, u.display_name).where(exists().where(*where, moved), differs)
        found = page(connection, statement, [u.display_name_key, u.id], page_request, user_ref)
        items = [
            line for user in found.items for line in _changes_of(connection, user, application, since, until)
        ]
    return Page(items, found.total, found.next)


def _held_at_one_only(where: list[Any], one: Instant, other: Instant) -> Any:
    """Return the condition that a user had a role at one instant and not at the other."""
    x, y = t.access.c, t.access.alias("other")
    same = (y.c.user_id == x.user_id, y.c.application_id == x.application_id, y.c.role_id == x.role_id)
    held = and_(y.c.from_at <= other, or_(y.c.until_at.is_(None), y.c.until_at > other))
    return exists().where(*where, held_at(one), ~exists().where(*same, held))


def _moved(since: Instant, until: Instant) -> Any:
    x = t.access.c
    return or_(and_(x.from_at > since, x.from_at <= until), and_(x.until_at > since, x.until_at <= until))


def _changes_of(
    connection: Connection, user: UserRef, application: str | None, since: Instant, until: Instant
) -> Iterator[AccessDifference]:
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(x.from_at, x.until_at, x.reasons, x.role_id, p.key, p.label, r.label.label("role"))
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user.id, or_(held_at(since), _moved(since, until)))
        .order_by(p.label, r.rank.desc(), x.from_at)
    )
    if application:
        statement = statement.where(p.key == application)
    by_application: defaultdict[tuple[str, str], list[Any]] = defaultdict(list)
    for row in connection.execute(statement):
        by_application[row.key, row.label].append(row)
    for (key, label), rows in by_application.items():
        held, holds = ({row.role_id: row.role for row in rows if _holds(row, at)} for at in (since, until))
        if held.keys() == holds.keys():
            continue
        before, after = list(held.values()), list(holds.values())
        moved = [row for row in rows if _holds(row, since) != _holds(row, until)]
        yield AccessDifference(
            id=f"{user.id}:{key}",
            user=user,
            application=KeyAndLabel(key, label),
            what="joined" if not before else "left" if not after else "changed",
            before=before,
            after=after,
            at=max(row.until_at if row.until_at and row.until_at <= until else row.from_at for row in moved),
            reasons=list(dict.fromkeys(f"{row.role}: {named(row.reasons[-1])}" for row in moved)),
        )


def _holds(row: Any, at: Instant) -> bool:
    return bool(row.from_at <= at and (row.until_at is None or row.until_at > at))


def compare(ctx: AppContext, one: str, two: str) -> Comparison:
    """Return two users with their roles in every application, and their groups; differences come first.

    Args:
        one, two: IDs, user names, emails or external IDs.

    Raises:
        NotFound, InvalidInput: as `find_user`.
    """
    with ctx.database.reading() as connection:
        found = find_users(connection, [one, two])
        access = [_access(connection, user.id) for user in found]
        groups = [_groups(connection, user.id) for user in found]
    applications = []
    for key in {**access[0], **access[1]}:
        sides = [side.get(key, []) for side in access]
        same = {each.role for each in sides[0]} == {each.role for each in sides[1]}
        applications.append(
            ComparedApplication(
                application=KeyAndLabel(key[0], key[1]),
                same=same,
                sides=sides,
            )
        )
    together = []
    for group_id, (group, source) in {**groups[0], **groups[1]}.items():
        together.append(
            ComparedGroup(
                group=group,
                source=source,
                sides=[group_id in side for side in groups],
            )
        )
    return Comparison(
        users=[user_queries.user_line(user) for user in found],
        applications=sorted(applications, key=lambda each: (each.same, each.application.label)),
        groups=sorted(together, key=lambda each: (all(each.sides), each.group.name.casefold())),
    )


def _access(connection: Connection, user_id: str) -> dict[tuple[str, str], list[ComparedRole]]:
    """Return by (key, label) of an application the roles of a user, the highest first, each with its
    reasons.
    """
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(x.reasons, p.key, p.label, r.label.label("role"))
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, x.until_at.is_(None))
        .order_by(r.rank.desc(), r.key)
    )
    found: defaultdict[tuple[str, str], list[ComparedRole]] = defaultdict(list)
    for row in connection.execute(statement):
        found[row.key, row.label].append(
            ComparedRole(
                role=row.role,
                because=[chain(each) for each in row.reasons if each["until"] is None],
            )
        )
    return found


def _groups(connection: Connection, user_id: str) -> dict[str, tuple[GroupRef, KeyAndLabel | None]]:
    listed = group_queries.memberships_of(connection, user_id)
    return {each.group.id: (each.group, each.source) for each in listed if each.until is None}
