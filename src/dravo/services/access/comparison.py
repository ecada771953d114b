"""Compares access: of two users, and of two instants."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.access.reasons import chain, named
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, find_users
from dravo.store.access import matrix as stored
from dravo.store.access.matrix import AccessPeriod
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.references import GroupRef, KeyAndLabel, UserRef
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
    with ctx.database.reading() as connection:
        application_id = application_by_key(connection, application).id if application else None
        found = stored.users_who_changed(connection, since, until, page_request, application_id)
        items = [
            line for user in found.items for line in _changes_of(connection, user, application, since, until)
        ]
    return Page(items, found.total, found.next)


def _changes_of(
    connection: Connection, user: UserRef, application: str | None, since: Instant, until: Instant
) -> Iterator[AccessDifference]:
    by_application: defaultdict[tuple[str, str], list[AccessPeriod]] = defaultdict(list)
    for row in stored.periods_of_user(connection, user.id, since, until, application):
        by_application[row.application_key, row.application_label].append(row)
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


def _holds(row: AccessPeriod, at: Instant) -> bool:
    return row.from_at <= at and (row.until_at is None or row.until_at > at)


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
            ComparedApplication(application=KeyAndLabel(key[0], key[1]), same=same, sides=sides)
        )
    together = []
    for group_id, (group, source) in {**groups[0], **groups[1]}.items():
        together.append(
            ComparedGroup(group=group, source=source, sides=[group_id in side for side in groups])
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
    found: defaultdict[tuple[str, str], list[ComparedRole]] = defaultdict(list)
    for row in stored.periods_of_user(connection, user_id):
        found[row.application_key, row.application_label].append(
            ComparedRole(
                role=row.role,
                because=[chain(each) for each in row.reasons if each["until"] is None],
            )
        )
    return found


def _groups(connection: Connection, user_id: str) -> dict[str, tuple[GroupRef, KeyAndLabel | None]]:
    listed = group_queries.memberships_of(connection, user_id)
    return {each.group.id: (each.group, each.source) for each in listed if each.until is None}
