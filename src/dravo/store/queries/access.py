"""Reads current and ended access as the API shows it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, func, select, true, union

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries.accounts import AccountLine, accounts_of_users
from dravo.store.queries.references import GroupRef, KeyAndLabel, RoleRef, UserRef, key_and_label, user_ref
from dravo.store.queries.search import name_has


@dataclass(frozen=True)
class AccessFilter:
    """Which access to list.

    Attributes:
        application_key, role_key: an application, and one of its roles.
        user_id: a user.
        group_id: a group that assigns the role.
        words: text in the name of the user.
        ended: list access that ended, instead of current access.
    """

    application_key: str | None = None
    role_key: str | None = None
    user_id: str | None = None
    group_id: str | None = None
    words: str | None = None
    ended: bool = False


@dataclass
class Reason:
    """A reason for access.

    Attributes:
        kind: "direct", "group", "everyone", "rule", "pattern", "fallback" or "retained".
        through: the names of the groups between the user and the group of the assignment.
        by, note: the operator and the note of the assignment.
    """

    kind: str
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: KeyAndLabel | None
    through: list[str]
    since: Instant
    until: Instant | None
    by: str | None = None
    note: str | None = None


@dataclass(frozen=True)
class SeatOfAccess:
    """The seat of an access; without `since`, the user is on the waiting list."""

    plan: KeyAndLabel
    requested_at: Instant
    since: Instant | None


@dataclass
class AccessLine:
    """A role of a user in an application, with its reasons, its account and its seat."""

    id: str
    user: UserRef
    application: KeyAndLabel
    role: RoleRef
    since: Instant
    until: Instant | None
    reasons: list[Reason]
    account: AccountLine | None = None
    seat: SeatOfAccess | None = None


def access(
    connection: Connection,
    page_request: PageRequest,
    only: AccessFilter,
) -> Page[AccessLine]:
    """Return a page of access, by user, each with its reasons, its account and its seat."""
    x, u, p, r = t.access.c, t.user.c, t.application.c, t.role.c
    statement = (
        select(
            x.id,
            x.reasons,
            x.from_at,
            x.until_at,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.id.label("application_id"),
            p.key.label("application_key"),
            p.label.label("application_label"),
            r.key.label("role_key"),
            r.label.label("role_label"),
            r.rank,
        )
        .join(t.user, u.id == x.user_id)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.until_at.is_not(None) if only.ended else x.until_at.is_(None))
    )
    if only.application_key:
        statement = statement.where(p.key == only.application_key)
    if only.role_key:
        statement = statement.where(r.key == only.role_key)
    if only.user_id:
        statement = statement.where(x.user_id == only.user_id)
    if only.group_id:
        named = select(t.assignment.c.role_id).where(t.assignment.c.group_id == only.group_id)
        statement = statement.where(x.role_id.in_(named))
    if only.words:
        statement = statement.where(name_has(only.words))
    if only.ended:
        found = page(connection, statement, [x.until_at.desc(), x.id.desc()], page_request, _access_line)
    else:
        found = page(connection, statement, [u.display_name_key, x.id], page_request, _access_line)
    _join_accounts(connection, found.items)
    _join_assignments(connection, found.items)
    _join_seats(connection, found.items)
    return found


def number_of_users(connection: Connection, application_id: str) -> int:
    """Return how many users an application has, including those who are losing access; former users do not
    count.
    """
    d, x = t.task.c, t.access.c
    having = select(x.user_id).where(x.application_id == application_id, x.until_at.is_(None))
    losing = select(d.user_id).where(
        d.application_id == application_id, d.removes == true(), d.closed_at.is_(None)
    )
    return int(
        connection.execute(select(func.count()).select_from(union(having, losing).subquery())).scalar_one()
    )


def _access_line(row: Any) -> AccessLine:
    return AccessLine(
        id=row.id,
        user=user_ref(row, "user_id"),
        application=KeyAndLabel(row.application_key, row.application_label),
        role=RoleRef(row.role_key, row.role_label, row.rank),
        since=row.from_at,
        until=row.until_at,
        reasons=[
            Reason(
                kind=reason["kind"],
                assignment=reason["assignment"],
                rule=reason["rule"],
                group=GroupRef(reason["group"], reason["group_name"]) if reason["group"] else None,
                source=key_and_label(reason["source"], reason["source_label"]),
                through=reason["through_names"],
                since=reason["from"],
                until=reason["until"],
            )
            for reason in row.reasons
        ],
    )


def _join_accounts(connection: Connection, items: list[AccessLine]) -> None:
    """Add to each access its account."""
    users = {item.user.id for item in items}
    if not users:
        return
    by_user = {(each.user.id, each.application.key): each for each in accounts_of_users(connection, users)}
    for item in items:
        item.account = by_user.get((item.user.id, item.application.key))


def _join_seats(connection: Connection, items: list[AccessLine]) -> None:
    """Add to each access its seat, or its place on the waiting list."""
    s, p = t.seat.c, t.license_plan.c
    users = list({item.user.id for item in items})
    statement = (
        select(s.user_id, s.requested_at, s.from_at, p.key, p.label, t.application.c.key.label("application"))
        .join(t.license_plan, p.id == s.plan_id)
        .join(t.application, t.application.c.id == s.application_id)
        .where(s.user_id.in_(users), s.until_at.is_(None))
        .order_by(s.from_at.is_not(None))
    )
    found = {
        (row.user_id, row.application): SeatOfAccess(
            KeyAndLabel(row.key, row.label), row.requested_at, row.from_at
        )
        for row in connection.execute(statement)
    }
    for item in items:
        item.seat = None if item.until else found.get((item.user.id, item.application.key))


def _join_assignments(connection: Connection, items: list[AccessLine]) -> None:
    """Add to each reason the operator and the note of its assignment."""
    ids = {reason.assignment for item in items for reason in item.reasons}
    if not ids:
        return
    a = t.assignment.c
    known = {
        row.id: row for row in connection.execute(select(a.id, a.created_by, a.note).where(a.id.in_(ids)))
    }
    for item in items:
        for reason in item.reasons:
            row = known.get(reason.assignment)
            if row is not None:
                reason.by, reason.note = row.created_by, row.note
