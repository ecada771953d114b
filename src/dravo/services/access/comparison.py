"""Compares access: of two users, and of two instants."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from typing import Any

from sqlalchemy import Connection, and_, exists, or_, select

from dravo.core.access.reasons import chain, named
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.services.access.matrix import held_at
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, find_users
from dravo.store import tables as t
from dravo.store.pagination import PageRequest, page
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.users import user_ref

# Two instants


def changes(
    ctx: AppContext, application: str | None, since: Instant, until: Instant, page_request: PageRequest
) -> dict[str, Any]:
    """Return a page of users with other roles at one instant than at an earlier one, with the reasons.

    Returns:
        items of {"user", "application", "what": "joined", "left" or "changed", "before", "after", "reasons"};
            the total counts users.

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
            line
            for user in found["items"]
            for line in _changes_of(connection, user, application, since, until)
        ]
    return {"items": items, "total": found["total"], "next": found["next"]}


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
    connection: Connection, user: dict[str, Any], application: str | None, since: Instant, until: Instant
) -> Iterator[dict[str, Any]]:
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(x.from_at, x.until_at, x.reasons, x.role_id, p.key, p.label, r.label.label("role"))
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user["id"], or_(held_at(since), _moved(since, until)))
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
        yield {
            "id": f"{user['id']}:{key}",
            "user": user,
            "application": {"key": key, "label": label},
            "what": "joined" if not before else "left" if not after else "changed",
            "before": before,
            "after": after,
            "at": max(
                row.until_at if row.until_at and row.until_at <= until else row.from_at for row in moved
            ),
            "reasons": list(dict.fromkeys(f"{row.role}: {named(row.reasons[-1])}" for row in moved)),
        }


def _holds(row: Any, at: Instant) -> bool:
    return bool(row.from_at <= at and (row.until_at is None or row.until_at > at))


def compare(ctx: AppContext, one: str, two: str) -> dict[str, Any]:
    """Return two users with their roles in every application, and their groups; differences come first.

    Args:
        one, two: IDs, user names, emails or external IDs.

    Returns:
        {"users": [one, two], "applications": [{"application", "same", "sides": [[{"role", "because"}],
            [...]]}], "groups": [{"group", "source", "sides": [bool, bool]}]}.

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
        same = {each["role"] for each in sides[0]} == {each["role"] for each in sides[1]}
        applications.append({"application": {"key": key[0], "label": key[1]}, "same": same, "sides": sides})
    together = []
    for group_id, (group, source) in {**groups[0], **groups[1]}.items():
        together.append({"group": group, "source": source, "sides": [group_id in side for side in groups]})
    return {
        "users": [user_queries.user_line(user) for user in found],
        "applications": sorted(applications, key=lambda each: (each["same"], each["application"]["label"])),
        "groups": sorted(together, key=lambda each: (all(each["sides"]), each["group"]["name"].casefold())),
    }


def _access(connection: Connection, user_id: str) -> dict[tuple[str, str], list[dict[str, Any]]]:
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
    found: defaultdict[tuple[str, str], list[dict[str, Any]]] = defaultdict(list)
    for row in connection.execute(statement):
        found[row.key, row.label].append(
            {"role": row.role, "because": [chain(each) for each in row.reasons if each["until"] is None]}
        )
    return found


def _groups(connection: Connection, user_id: str) -> dict[str, tuple[dict[str, Any], Any]]:
    listed = group_queries.memberships_of(connection, user_id)
    return {each["group"]["id"]: (each["group"], each["source"]) for each in listed if each["until"] is None}
