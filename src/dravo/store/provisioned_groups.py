"""Members of provisioned groups: desired and applied ones."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    and_,
    bindparam,
    delete,
    exists,
    insert,
    or_,
    select,
    update,
)

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.task_status import WAITING

# Maximum number of groups in one statement.
WAKE_AT_ONCE = 500

_PRESENT = PreparedStatement(
    select(
        t.provisioned_group.c.key,
        t.provisioned_member.c.provisioned_group_id,
        t.provisioned_member.c.desired,
        t.provisioned_member.c.applied_remote_id,
    )
    .join(t.provisioned_group, t.provisioned_group.c.id == t.provisioned_member.c.provisioned_group_id)
    .where(t.provisioned_member.c.account_id == bindparam("account"))
)


# (account ID, remote ID) of a member.
Member = tuple[str, str]


def follow(
    connection: Connection,
    application_id: str,
    account_id: str,
    keys: Iterable[str],
    remote_id: str | None,
    now: Instant,
) -> None:
    """Make an account a desired member of these provisioned groups, and of no others.

    Args:
        keys: "group:ID" or "role:ID", as in the desired account.
        remote_id: the account's remote ID; None if it was deleted, and its memberships with it.
    """
    wanted = set(keys) if remote_id is not None else set()
    present = {row.key: row for row in _PRESENT.every(connection, {"account": account_id})}
    if remote_id is None:
        connection.execute(
            delete(t.provisioned_member).where(t.provisioned_member.c.account_id == account_id)
        )
        return
    woken: list[str] = []
    for key in sorted(wanted):
        row = present.get(key)
        if row is None:
            group_id = _group(connection, application_id, key, now)
            connection.execute(
                insert(t.provisioned_member).values(
                    provisioned_group_id=group_id, account_id=account_id, desired=True
                )
            )
            woken.append(group_id)
        elif not row.desired or row.applied_remote_id != remote_id:
            _write(connection, row.provisioned_group_id, account_id, desired=True)
            woken.append(row.provisioned_group_id)
    for key, row in present.items():
        if key not in wanted and row.desired:
            _write(connection, row.provisioned_group_id, account_id, desired=False)
            woken.append(row.provisioned_group_id)
    if woken:
        wake(connection, t.provisioned_group.c.id.in_(woken), now)


def _write(connection: Connection, group_id: str, account_id: str, *, desired: bool) -> None:
    m = t.provisioned_member.c
    connection.execute(
        update(t.provisioned_member)
        .where(m.provisioned_group_id == group_id, m.account_id == account_id)
        .values(desired=desired)
    )


def _group(connection: Connection, application_id: str, key: str, now: Instant) -> str:
    """Return the ID of a provisioned group, created if it does not exist yet."""
    g = t.provisioned_group.c
    known = connection.execute(select(g.id).where(g.application_id == application_id, g.key == key)).scalar()
    if known is not None:
        return str(known)
    group_id = new_id()
    row = {
        "id": group_id,
        "application_id": application_id,
        "key": key,
        "status": WAITING,
        "attempts": 0,
        "next_attempt_at": now,
        "created_at": now,
    }
    connection.execute(insert(t.provisioned_group).values(**row))
    return group_id


def wake(connection: Connection, which: Any, now: Instant) -> None:
    """Mark groups that meet a condition for work."""
    values = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None}
    connection.execute(update(t.provisioned_group).where(which).values(**values))


def is_differing() -> ColumnElement[bool]:
    """Return the condition that a member, joined with its account, has to be added or removed."""
    m, a = t.provisioned_member.c, t.account.c
    missing = or_(m.applied_remote_id.is_(None), m.applied_remote_id != a.remote_id)
    return or_(
        and_(m.desired.is_(True), a.remote_id.is_not(None), missing),
        and_(m.desired.is_(False), m.applied_remote_id.is_not(None)),
    )


def differing(
    connection: Connection, group_id: str, only: Select[str] | None = None
) -> tuple[list[Member], list[Member]]:
    """Return (account ID, remote ID) of members to add, and of members to remove with the applied remote
    ID.

    Args:
        only: the select of the accounts that may be changed, in a pilot; None for all.
    """
    m, a = t.provisioned_member.c, t.account.c
    statement = (
        select(m.account_id, m.desired, m.applied_remote_id, a.remote_id)
        .join(t.account, a.id == m.account_id)
        .where(m.provisioned_group_id == group_id, is_differing())
    )
    if only is not None:
        statement = statement.where(m.account_id.in_(only))
    rows = connection.execute(statement).all()
    return [(row.account_id, row.remote_id) for row in rows if row.desired], [
        (row.account_id, row.applied_remote_id) for row in rows if not row.desired
    ]


def everyone(connection: Connection, group_id: str) -> list[Member]:
    """Return (account ID, remote ID) of all desired members."""
    m, a = t.provisioned_member.c, t.account.c
    statement = select(m.account_id, a.remote_id).join(t.account, a.id == m.account_id)
    rows = connection.execute(
        statement.where(m.provisioned_group_id == group_id, m.desired.is_(True), a.remote_id.is_not(None))
    )
    return [(row.account_id, row.remote_id) for row in rows]


def everyone_in_pilot(connection: Connection, group_id: str, only: Select[str]) -> list[Member]:
    """Return (account ID, remote ID) of the members of a group in a pilot: desired members who are in the
    pilot, and all others as they are in the application.
    """
    m = t.provisioned_member.c
    others = select(m.account_id, m.applied_remote_id).where(
        m.provisioned_group_id == group_id, m.applied_remote_id.is_not(None), m.account_id.not_in(only)
    )
    in_pilot = set(connection.execute(only).scalars())
    desired = [each for each in everyone(connection, group_id) if each[0] in in_pilot]
    return [*desired, *((account_id, remote_id) for account_id, remote_id in connection.execute(others))]


def inside(connection: Connection, group_id: str, *, in_doubt: bool) -> list[Member]:
    """Return (account ID, remote ID) of all applied members; with a doubt also of all desired ones."""
    m = t.provisioned_member.c
    rows = connection.execute(
        select(m.account_id, m.applied_remote_id).where(
            m.provisioned_group_id == group_id, m.applied_remote_id.is_not(None)
        )
    )
    known = [(row.account_id, row.applied_remote_id) for row in rows]
    return sorted({*known, *everyone(connection, group_id)}) if in_doubt else known


def ours(connection: Connection, application_id: str) -> frozenset[str]:
    """Return the remote IDs of all users provisioned to an application."""
    a = t.account.c
    found: frozenset[str] = frozenset(
        connection.execute(
            select(a.remote_id).where(a.application_id == application_id, a.remote_id.is_not(None))
        ).scalars()
    )
    return found


def agree(
    connection: Connection,
    group_id: str,
    added: Iterable[tuple[str, str]],
    removed: Iterable[tuple[str, str]],
) -> None:
    """Write added and removed members; members that are desired again meanwhile stay desired."""
    m = t.provisioned_member.c
    rows = [
        {"group": group_id, "account": account_id, "remote": remote_id} for account_id, remote_id in added
    ]
    if rows:
        where = (m.provisioned_group_id == bindparam("group"), m.account_id == bindparam("account"))
        connection.execute(
            update(t.provisioned_member).where(*where).values(applied_remote_id=bindparam("remote")), rows
        )
    gone = [{"group": group_id, "account": account_id} for account_id, _ in removed]
    if gone:
        where = (m.provisioned_group_id == bindparam("group"), m.account_id == bindparam("account"))
        connection.execute(
            update(t.provisioned_member).where(*where, m.desired.is_(True)).values(applied_remote_id=None),
            gone,
        )
        connection.execute(delete(t.provisioned_member).where(*where, m.desired.is_(False)), gone)


def forget(connection: Connection, group_id: str) -> None:
    """Write that a group was deleted there: its removed members go, and no membership counts as applied."""
    m = t.provisioned_member.c
    connection.execute(
        delete(t.provisioned_member).where(m.provisioned_group_id == group_id, m.desired.is_(False))
    )
    connection.execute(
        update(t.provisioned_member).where(m.provisioned_group_id == group_id).values(applied_remote_id=None)
    )


def ready(connection: Connection, now: Instant) -> list[tuple[str, str, int]]:
    """Return (ID, application ID, concurrent requests) of groups to provision now: no task of a user is due
    before them.
    """
    g, p, d = t.provisioned_group.c, t.application.c, t.task.c
    # In a pilot, tasks of other users are due all the time.
    first = exists().where(
        d.application_id == p.id,
        p.pilot_group_id.is_(None),
        d.status == WAITING,
        d.closed_at.is_(None),
        d.next_attempt_at <= now,
        # Tasks without an approval are due all the time, too.
        or_(p.approve_tasks.is_(False), d.approved_version == d.version),
    )
    statement = (
        select(g.id, g.application_id, p.max_concurrency)
        .join(t.application, p.id == g.application_id)
        .where(
            g.status == WAITING,
            g.next_attempt_at <= now,
            p.enabled.is_(True),
            p.base_url.is_not(None),
            p.secret.is_not(None),
            p.paused_at.is_(None),
            or_(p.retry_at.is_(None), p.retry_at <= now),
            ~first,
        )
        .order_by(g.next_attempt_at)
        .limit(256)
    )
    return [
        (group_id, application_id, most) for group_id, application_id, most in connection.execute(statement)
    ]


def wake_group(connection: Connection, group_id: str, now: Instant) -> None:
    """Have a group of a source or a local group be sent again, wherever it is provisioned."""
    wake_groups(connection, [group_id], now)


def wake_role(connection: Connection, role_id: str, now: Instant) -> None:
    """Have the group that a role is sent as be sent again."""
    wake(connection, t.provisioned_group.c.key == f"role:{role_id}", now)


def wake_groups(connection: Connection, group_ids: Sequence[str], now: Instant) -> None:
    """Have several groups be sent again, wherever they are provisioned."""
    for start in range(0, len(group_ids), WAKE_AT_ONCE):
        keys = [f"group:{group_id}" for group_id in group_ids[start : start + WAKE_AT_ONCE]]
        wake(connection, t.provisioned_group.c.key.in_(keys), now)
