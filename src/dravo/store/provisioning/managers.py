"""Managers in applications: the account of a user names the account of the user's manager (RFC 7643, section
4.3).

The manager is looked up when an account is sent. Users whose own account or records changed are marked, and
the accounts of their reports are sent again where they name another manager than they should.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, delete, exists, select, update

from dravo.core.identity.merging import ManagerReference
from dravo.core.identity.names import user_name_key
from dravo.core.identity.records import LOCAL
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import MANAGER, PRESENT, manager_account
from dravo.store import tables as t
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.provisioning import tasks
from dravo.store.provisioning.tasks import StoredAccount
from dravo.store.sqlite import insert_unless_there
from dravo.store.users import managers as user_managers

CHUNK = 500


@dataclass(frozen=True)
class ManagerAccount:
    """The account of a manager in one application."""

    account_id: str
    user_id: str
    remote_id: str

    def for_report(self, account_id: str) -> ManagerAccount | None:
        """Return the account that a report's account names: none for users who are their own manager."""
        return None if account_id == self.account_id else self


def reference_of(desired: Mapping[str, Any]) -> ManagerReference | None:
    """Return the manager of a desired account as the source names them; None without one."""
    named = desired.get(MANAGER)
    return None if named is None else ManagerReference(named["source"], named["value"])


def key_of(source_id: str, value: str) -> str:
    """Return the value of a manager, or an identifier of a record, as both are compared."""
    return f"{source_id}:{user_name_key(value)}"


def account_of(
    connection: Connection, application_id: str, reference: ManagerReference
) -> ManagerAccount | None:
    """Return the account of a manager that exists in an application, or None.

    It may be the account of the report itself: see `ManagerAccount.for_report`.
    """
    user_id = user_managers.resolve(connection, reference)
    if user_id is None:
        return None
    a = t.account.c
    row = connection.execute(
        select(a.id, a.user_id, a.remote_id).where(
            a.user_id == user_id, a.application_id == application_id, a.remote_id.is_not(None)
        )
    ).first()
    return None if row is None else ManagerAccount(*row)


def note_sent(
    connection: Connection, account_id: str, reference: ManagerReference | None, sent: str | None
) -> None:
    """Note which manager an account was sent with; `sent` is the ID of the manager's account, or None."""
    values = {
        "manager_key": None if reference is None else key_of(reference.source_id, reference.value),
        "manager_account_id": sent,
    }
    connection.execute(update(t.account).where(t.account.c.id == account_id).values(**values))


# Prepared, because it runs for every account that is created.
_ANY_MANAGER = PreparedStatement(select(t.account.c.id).where(t.account.c.manager_key.is_not(None)).limit(1))


def mark(connection: Connection, user_ids: Sequence[str], now: Instant) -> None:
    """Have the accounts of the reports of some users looked at, if any account names a manager."""
    if _ANY_MANAGER.first(connection, {}) is None:
        return
    rows = [{"user_id": user_id, "since": now} for user_id in user_ids]
    made = insert_unless_there(t.pending_manager)
    connection.execute(made.on_conflict_do_update(set_={"since": made.excluded.since}), rows)


def mark_owner(connection: Connection, account_id: str, now: Instant) -> None:
    """Have the accounts of the reports of an account's user looked at."""
    owner = connection.execute(select(t.account.c.user_id).where(t.account.c.id == account_id)).scalar()
    if owner is not None:
        mark(connection, [owner], now)


def marked(connection: Connection, most: int) -> list[tuple[str, Instant]]:
    """Return marked users, with the time of their mark."""
    p = t.pending_manager.c
    return [
        (user_id, since)
        for user_id, since in connection.execute(select(p.user_id, p.since).order_by(p.user_id).limit(most))
    ]


def remove_marks(connection: Connection, marks: Iterable[tuple[str, Instant]]) -> None:
    """Remove marks, unless they were set again meanwhile."""
    p = t.pending_manager.c
    rows = [{"user": user_id, "seen": since} for user_id, since in marks]
    if rows:
        statement = delete(t.pending_manager).where(
            p.user_id == bindparam("user"), p.since == bindparam("seen")
        )
        connection.execute(statement, rows)


def outdated_reports(connection: Connection, user_ids: Sequence[str]) -> list[StoredAccount]:
    """Return the accounts that should name another manager, of all whose manager is or was one of these
    users.

    Accounts with an open task are left out: their manager is looked up when they are sent.
    """
    a, d, r = t.account.c, t.task.c, t.record.c
    own = connection.execute(select(a.id).where(a.user_id.in_(user_ids))).scalars().all()
    if not own:
        return []
    names = select(r.source_id, r.id, r.native_id, r.external_id, r.reference, r.user_name_key)
    keys = {
        key_of(source_id, name)
        for source_id, *identifiers in connection.execute(names.where(r.user_id.in_(user_ids)))
        for name in identifiers
        if name
    }
    local = select(t.source.c.id).where(t.source.c.connection_type == LOCAL)
    keys |= {
        key_of(source_id, user_id)
        for source_id in connection.execute(local).scalars()
        for user_id in user_ids
    }
    idle = ~exists().where(d.account_id == a.id, d.closed_at.is_(None))
    reports: dict[str, StoredAccount] = {}
    for condition in (*_parts(a.manager_key, sorted(keys)), *_parts(a.manager_account_id, own)):
        for row in connection.execute(select(t.account).where(condition, idle)):
            reports[row.id] = StoredAccount(*row)
    managers: dict[tuple[str, ManagerReference], ManagerAccount | None] = {}
    return [each for each in reports.values() if _is_outdated(connection, each, managers)]


def _is_outdated(
    connection: Connection,
    report: StoredAccount,
    managers: dict[tuple[str, ManagerReference], ManagerAccount | None],
) -> bool:
    """Whether an account should name another manager than it does; `managers` keeps what was looked up."""
    reference = reference_of(report.desired) if report.desired["want"] == PRESENT else None
    if reference is None:
        return False
    known = (report.application_id, reference)
    if known not in managers:
        managers[known] = account_of(connection, *known)
    account = managers[known]
    manager = account.for_report(report.id) if account is not None else None
    return manager_account(report.applied or {}) != (manager.remote_id if manager is not None else None)


def _parts(column: Any, values: Sequence[str]) -> list[Any]:
    return [column.in_(values[start : start + CHUNK]) for start in range(0, len(values), CHUNK)]


def send_again(connection: Connection, reports: Iterable[StoredAccount], now: Instant) -> None:
    """Open a task for each of some accounts, unless it changed meanwhile."""
    a, d, u = t.account.c, t.task.c, t.user.c
    for report in reports:
        seen = (
            a.id == report.id,
            a.desired_version == report.desired_version,
            ~exists().where(d.account_id == a.id, d.closed_at.is_(None)),
        )
        version = report.desired_version + 1
        changed = update(t.account).where(*seen).values(desired_version=version, pending_since=now)
        if connection.execute(changed).rowcount == 1:
            connection.execute(update(t.user).where(u.id == report.user_id).values(revision=u.revision + 1))
            tasks.open_task(connection, report, version, now, removes=False)
