"""What an attempt reads and writes: prepared, because each task runs all of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection, bindparam, case, exists, insert, select, update

from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import MANAGER, manager_account, with_manager
from dravo.store import tables as t
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.provisioning import managers
from dravo.store.provisioning.managers import ManagerAccount
from dravo.store.provisioning.tasks import APPROVED, NOT_HELD
from dravo.store.task_status import DONE, WAITING


@dataclass(frozen=True)
class AttemptWork:
    """An account with its application and its task, in the order of the select."""

    account_id: str
    user_id: str
    desired: dict[str, Any]
    desired_version: int
    applied: dict[str, Any] | None
    remote_id: str | None
    origin: str | None
    application_id: str
    base_url: str | None
    secret: str | None = field(repr=False)
    create_accounts: bool
    update_accounts: bool
    adopt_by: list[str] | None
    capabilities: Any
    auth: Any
    rate_limit: int | None
    outcome_unknown_since: Instant | None
    lists_valid_from: Instant | None
    to_empty: list[str] | None
    failures: int
    answered_at: Instant | None
    enabled: bool
    pilot_group_id: str | None
    paused_at: Instant | None
    attempts: int
    # The account of the manager that was sent last, and the one that is sent now.
    sent_manager_id: str | None
    manager_account_id: str | None = None


_WORK = PreparedStatement(
    select(
        t.account.c.id,
        t.account.c.user_id,
        t.account.c.desired,
        t.account.c.desired_version,
        t.account.c.applied,
        t.account.c.remote_id,
        t.account.c.origin,
        t.application.c.id.label("application_id"),
        t.application.c.base_url,
        t.application.c.secret,
        t.application.c.create_accounts,
        t.application.c.update_accounts,
        t.application.c.adopt_by,
        t.application.c.capabilities,
        t.application.c.auth,
        t.application.c.rate_limit,
        t.account.c.outcome_unknown_since,
        t.account.c.lists_valid_from,
        t.account.c.to_empty,
        t.application.c.failures,
        t.application.c.answered_at,
        t.application.c.enabled,
        t.application.c.pilot_group_id,
        t.application.c.paused_at,
        t.task.c.attempts,
        t.account.c.manager_account_id,
    )
    .join(t.account, t.account.c.id == t.task.c.account_id)
    .join(t.application, t.application.c.id == t.task.c.application_id)
    .where(
        t.task.c.id == bindparam("task"),
        t.task.c.status == WAITING,
        NOT_HELD,
        APPROVED,
        ~exists().where(t.pending_recompute.c.user_id == t.task.c.user_id),
    )
)
_APPLY = PreparedStatement(
    update(t.account)
    .where(t.account.c.id == bindparam("account"))
    .values(
        applied=bindparam("desired", type_=t.account.c.applied.type),
        last_applied=bindparam("desired", type_=t.account.c.last_applied.type),
        # An account that became unmanaged meanwhile counts as in sync in its later version.
        applied_version=case(
            (t.account.c.applied_version > bindparam("version"), t.account.c.applied_version),
            else_=bindparam("version"),
        ),
        applied_at=bindparam("at"),
        remote_id=bindparam("remote"),
        outcome_unknown_since=None,
        to_empty=None,
        origin=bindparam("new_origin"),
    )
)
_DESIRED_VERSION = PreparedStatement(
    select(t.account.c.desired_version).where(t.account.c.id == bindparam("account"))
)
_CLOSE = PreparedStatement(
    update(t.task)
    .where(t.task.c.id == bindparam("task"), t.task.c.closed_at.is_(None))
    .values(
        attempts=bindparam("attempted"),
        message=None,
        hint=None,
        kind=None,
        status=DONE,
        closed_at=bindparam("ended"),
        next_attempt_at=None,
        version=bindparam("sent"),
    )
)
# A newer version is due. A task that was held meanwhile stays held.
_HELD = t.task.c.held_at.is_not(None)
_CONTINUE = PreparedStatement(
    update(t.task)
    .where(t.task.c.id == bindparam("task"), t.task.c.closed_at.is_(None))
    .values(
        attempts=bindparam("attempted"),
        version=bindparam("now_due"),
        next_attempt_at=bindparam("next"),
        status=case((_HELD, t.task.c.status), else_=WAITING),
        message=case((_HELD, t.task.c.message)),
        hint=case((_HELD, t.task.c.hint)),
        kind=case((_HELD, t.task.c.kind)),
    )
)
_INSERT_ATTEMPT = PreparedStatement(insert(t.task_attempt))


def work_of(connection: Connection, task_id: str) -> AttemptWork | None:
    """Return what a waiting task does; None if nothing is left to do, or the user is being recomputed."""
    row = _WORK.first(connection, {"task": task_id})
    return None if row is None else AttemptWork(*row)


def with_manager_account(connection: Connection, work: AttemptWork) -> AttemptWork:
    """Return the work with the account of the manager, as far as the manager has one."""
    manager = _manager_of(connection, work)
    if manager is None:
        return work
    return replace(
        work,
        desired=with_manager(work.desired, manager.remote_id),
        manager_account_id=manager.account_id,
    )


def desired_version(connection: Connection, account_id: str) -> int | None:
    """Return the version of the state to reach; None if the account was deleted with its application."""
    row = _DESIRED_VERSION.first(connection, {"account": account_id})
    return None if row is None else int(row.desired_version)


def apply_state(
    connection: Connection, work: AttemptWork, remote_id: str | None, origin: str | None, now: Instant
) -> None:
    """Note that an account has the state that an attempt sent, and have the accounts of reports follow."""
    _APPLY.change(
        connection,
        {
            "account": work.account_id,
            "desired": work.desired,
            "version": work.desired_version,
            "at": now,
            "remote": remote_id,
            "new_origin": origin,
        },
    )
    if MANAGER in work.desired or MANAGER in (work.applied or {}):
        _note_manager(connection, work, now)
    if remote_id != work.remote_id:
        managers.mark(connection, [work.user_id], now)


def _manager_of(connection: Connection, work: AttemptWork) -> ManagerAccount | None:
    """Return the account of the manager of an account, as it is now."""
    reference = managers.reference_of(work.desired)
    if reference is None:
        return None
    account = managers.account_of(connection, work.application_id, reference)
    return None if account is None else account.for_report(work.account_id)


def _note_manager(connection: Connection, work: AttemptWork, now: Instant) -> None:
    """Note the manager that was sent; where the manager's account changed during the attempt, the account is
    sent again.
    """
    reference = managers.reference_of(work.desired)
    managers.note_sent(connection, work.account_id, reference, work.manager_account_id)
    manager = _manager_of(connection, work)
    present = manager.remote_id if manager is not None else None
    if present != manager_account(work.desired):
        owner = manager.account_id if manager is not None else work.manager_account_id
        if owner is not None:
            managers.mark_owner(connection, owner, now)


def close_task(connection: Connection, task_id: str, work: AttemptWork, now: Instant) -> None:
    """Close a task that reached the state of its account."""
    _CLOSE.change(
        connection,
        {"task": task_id, "attempted": work.attempts + 1, "ended": now, "sent": work.desired_version},
    )


def continue_task(
    connection: Connection, task_id: str, work: AttemptWork, version: int, now: Instant
) -> None:
    """Have a task go on with a newer version of the state."""
    _CONTINUE.change(
        connection, {"task": task_id, "attempted": work.attempts + 1, "next": now, "now_due": version}
    )


def judge_removal_again(connection: Connection, task_id: str) -> None:
    """Have the removal limit judge a task again, because its change removes more by now."""
    d = t.task.c
    where = (d.id == task_id, d.removes.is_(False))
    connection.execute(update(t.task).where(*where).values(removes=True, released_at=None))


def note_error(connection: Connection, task_id: str, work: AttemptWork, values: dict[str, Any]) -> None:
    """Note an error of an attempt.

    The error concerns the version that was sent. A newer version is still to be tried, or is held; it stays
    unchanged.
    """
    d = t.task.c
    is_open = (d.id == task_id, d.closed_at.is_(None))
    connection.execute(update(t.task).where(*is_open).values(attempts=work.attempts + 1))
    same = (d.id == task_id, d.status == WAITING, d.version == work.desired_version, d.held_at.is_(None))
    connection.execute(update(t.task).where(*same).values(**values))


def insert_attempt(connection: Connection, row: dict[str, Any]) -> None:
    """Insert an attempt."""
    _INSERT_ATTEMPT.change(connection, row)
