"""Pilots of applications: only the accounts of the members of one group are provisioned."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import ColumnElement, Connection, Select, and_, exists, func, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.memberships import users_within
from dravo.store.provisioned_groups import is_differing
from dravo.store.task_status import DONE, WAITING


def accounts_of(application_id: str, group_id: str) -> Select[str]:
    """Return the select of the accounts in a pilot: those of the members of its group, by any nesting."""
    a = t.account.c
    members = users_within(group_id, counting=True)
    return select(a.id).where(a.application_id == application_id, a.user_id.in_(members))


def waits_inside(application_id: str, group_id: str) -> ColumnElement[bool]:
    """Return the condition that a task waits and its account is in a pilot.

    The tasks are found by the few accounts: far more tasks may wait for the end of the pilot. Without the
    function around the status, the database would read all of those by the index of waiting tasks.
    """
    d = t.task.c
    return and_(
        d.account_id.in_(accounts_of(application_id, group_id)),
        d.closed_at.is_(None),
        func.coalesce(d.status, "") == WAITING,
    )


def includes(connection: Connection, group_id: str, user_id: str) -> bool:
    """Return whether a user is in the group of a pilot."""
    members = users_within(group_id, counting=True).subquery()
    return (
        connection.execute(select(members.c.user_id).where(members.c.user_id == user_id)).first() is not None
    )


def members_of(connection: Connection, group_id: str) -> frozenset[str]:
    """Return the IDs of the users in the group of a pilot."""
    return frozenset(connection.execute(users_within(group_id, counting=True)).scalars())


def account_ids(connection: Connection, application_id: str, group_id: str) -> frozenset[str]:
    """Return the IDs of the accounts in a pilot."""
    return frozenset(connection.execute(accounts_of(application_id, group_id)).scalars())


@dataclass(frozen=True)
class Pilot:
    """The pilot of an enabled application."""

    application_id: str
    group_id: str


def list_pilots(connection: Connection, application_id: str | None = None) -> list[Pilot]:
    """Return the pilots, of one application or of all."""
    p = t.application.c
    statement = select(p.id, p.pilot_group_id).where(p.enabled.is_(True), p.pilot_group_id.is_not(None))
    if application_id is not None:
        statement = statement.where(p.id == application_id)
    return [Pilot(*row) for row in connection.execute(statement)]


def number_outside(connection: Connection, pilot: Pilot) -> int:
    """Return how many tasks wait for the end of a pilot, because their users are not in its group."""
    d, p = t.task.c, t.application.c
    # Tasks without an approval are counted by themselves.
    approved = or_(p.approve_tasks.is_(False), d.approved_version == d.version)
    number = select(func.count()).select_from(t.task.join(t.application, p.id == d.application_id))
    everyone = number.where(d.application_id == pilot.application_id, d.status == WAITING, approved)
    inside = number.where(waits_inside(pilot.application_id, pilot.group_id), approved)
    return int(connection.execute(everyone).scalar_one() - connection.execute(inside).scalar_one())


def wake_groups(connection: Connection, now: Instant) -> None:
    """Have provisioned groups be sent again to which a user who joined a pilot has to be added, or from which
    one has to be removed.
    """
    g, m, a = t.provisioned_group.c, t.provisioned_member.c, t.account.c
    for pilot in list_pilots(connection):
        inside = a.id.in_(accounts_of(pilot.application_id, pilot.group_id))
        member = exists().where(m.provisioned_group_id == g.id, m.account_id == a.id, is_differing(), inside)
        connection.execute(
            update(t.provisioned_group)
            .where(g.application_id == pilot.application_id, g.status == DONE, member)
            .values(status=WAITING, next_attempt_at=now)
        )


@dataclass(frozen=True)
class DueWork:
    """What an application waits for: accounts to create, to change, and removals (held ones not counted)."""

    created: int
    changed: int
    removed: int


def due_work(connection: Connection, application_id: str, group_id: str | None) -> DueWork:
    """Count the waiting tasks of an application, with a group only those of its members."""
    d, a = t.task.c, t.account.c
    those = (
        and_(d.application_id == application_id, d.status == WAITING)
        if group_id is None
        else waits_inside(application_id, group_id)
    )
    created = and_(a.remote_id.is_(None), d.removes.is_(False))
    statement = (
        select(
            func.count().filter(created),
            func.count().filter(a.remote_id.is_not(None), d.removes.is_(False)),
            func.count().filter(d.removes.is_(True)),
        )
        .select_from(t.task.join(t.account, a.id == d.account_id))
        .where(those)
    )
    return DueWork(*connection.execute(statement).one())


def scheduled(connection: Connection, now: Instant) -> list[str]:
    """Return the IDs of disabled applications whose start time has passed."""
    p = t.application.c
    where = (p.enabled_from.is_not(None), p.enabled_from <= now)
    return list(connection.execute(select(p.id).where(*where)).scalars())
