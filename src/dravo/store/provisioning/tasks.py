"""Provisioning tasks: listed, retried, reopened; accounts that they bring in sync."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, and_, delete, exists, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import describe
from dravo.core.provisioning.removal_limit import takes_away
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.provisioning import pilots
from dravo.store.queries import search as text_search
from dravo.store.task_status import FAILED, HELD, WAITING

UNKNOWN = "unknown"
# Removals start only after the removal limit released them.
NOT_HELD = or_(t.task.c.removes.is_(False), t.task.c.released_at.is_not(None))
# Where the application asks for it, an operator has approved the version of the task.
APPROVED = or_(t.application.c.approve_tasks.is_(False), t.task.c.approved_version == t.task.c.version)


@dataclass(frozen=True)
class StoredTask:
    """A row of the table of tasks, in the order of its columns.

    Attributes:
        version: the version of the desired state that the task brings about.
        kind: the kind of its last error, or None.
        removes: whether it takes roles, activity or the account away.
        released_at, released_by: when the removal was released, and the operator who approved it.
        held_at: since when the removal limit holds the task, or None.
        manual_action: what an operator did who carried it out, or None; then `applied_before` is the state
            before, or None.
        approved_version, approved_by: the version that an operator approved, or None.
    """

    id: str
    account_id: str
    application_id: str
    user_id: str
    status: str
    version: int
    desired_state: str
    attempts: int
    created_at: Instant
    next_attempt_at: Instant | None
    closed_at: Instant | None
    message: str | None
    hint: str | None
    kind: str | None
    removes: bool
    released_at: Instant | None
    released_by: str | None
    held_at: Instant | None
    manual_action: str | None
    applied_before: dict[str, Any] | None
    approved_version: int | None
    approved_by: str | None


@dataclass(frozen=True)
class StoredAccount:
    """A row of the table of accounts, in the order of its columns.

    Attributes:
        desired, desired_version: the state to reach, and its version.
        applied, applied_version: the state in the application; None if it is not known.
        outcome_unknown_since: since when it is not known whether the account was created.
        lists_valid_from: older lists of the application do not show the account as it is.
        to_empty: attributes that a repair empties.
        manager_key, manager_account_id: the manager that was sent, see the table.
    """

    id: str
    user_id: str
    application_id: str
    desired: dict[str, Any]
    desired_version: int
    pending_since: Instant
    applied: dict[str, Any] | None
    last_applied: dict[str, Any] | None
    applied_version: int
    applied_at: Instant | None
    remote_id: str | None
    origin: str | None
    outcome_unknown_since: Instant | None
    lists_valid_from: Instant | None
    to_empty: list[str] | None
    manager_key: str | None
    manager_account_id: str | None


@dataclass(frozen=True)
class ListedTask:
    """A task with its user and application, in the order of the select."""

    id: str
    status: str
    version: int
    attempts: int
    created_at: Instant
    next_attempt_at: Instant | None
    closed_at: Instant | None
    message: str | None
    hint: str | None
    account_id: str
    desired_state: str
    kind: str | None
    user_id: str
    display_name: str
    user_name: str
    application_key: str
    application_label: str
    paused_at: Instant | None
    enabled: bool
    trouble: str | None
    trouble_hint: str | None
    failures: int
    pilot_group_id: str | None
    unapproved: bool
    approved_by: str | None


@dataclass(frozen=True)
class StoredAttempt:
    """A row of the table of attempts, in the order of its columns."""

    id: int
    task_id: str
    version: int
    started_at: Instant
    ended_at: Instant
    outcome: str
    message: str | None
    exchanges: list[dict[str, Any]]


@dataclass(frozen=True)
class TaskFilter:
    """Which tasks to list.

    Attributes:
        status: a status, "open" for all that are not closed, or "approval" for those that wait for it.
        application: the key of an application.
        words: text in the name of the user.
    """

    status: str | None = None
    application: str | None = None
    user_id: str | None = None
    words: str | None = None


def _statement() -> Select[Any]:
    d, a, u, p = t.task.c, t.account.c, t.user.c, t.application.c
    return (
        select(
            d.id,
            d.status,
            d.version,
            d.attempts,
            d.created_at,
            d.next_attempt_at,
            d.closed_at,
            d.message,
            d.hint,
            d.account_id,
            d.desired_state,
            d.kind,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.key.label("application_key"),
            p.label.label("application_label"),
            p.paused_at,
            p.enabled,
            p.trouble,
            p.trouble_hint,
            p.failures,
            p.pilot_group_id,
            (~func.coalesce(APPROVED, False)).label("unapproved"),
            d.approved_by,
        )
        .join(t.account, a.id == d.account_id)
        .join(t.user, u.id == d.user_id)
        .join(t.application, p.id == d.application_id)
    )


def list_tasks(
    connection: Connection, page_request: PageRequest, only: TaskFilter, show: Callable[[ListedTask], Item]
) -> Page[Item]:
    """Return a page of tasks, newest first."""
    d, statement = t.task.c, _statement()
    if only.status == "open":
        statement = statement.where(d.closed_at.is_(None))
    elif only.status == "approval":
        statement = statement.where(d.status == WAITING, ~func.coalesce(APPROVED, False))
    elif only.status:
        statement = statement.where(d.status == only.status)
    if only.application:
        statement = statement.where(t.application.c.key == only.application)
    if only.user_id:
        statement = statement.where(d.user_id == only.user_id)
    if only.words:
        statement = statement.where(text_search.name_has(only.words))
    return page(connection, statement, [d.id.desc()], page_request, shown_as(ListedTask, show))


def one(connection: Connection, task_id: str) -> ListedTask | None:
    """Return a task with its user and application, or None."""
    row = connection.execute(_statement().where(t.task.c.id == task_id)).first()
    return None if row is None else ListedTask(*row)


def get(connection: Connection, task_id: str) -> StoredTask | None:
    """Return a task, or None."""
    row = connection.execute(select(t.task).where(t.task.c.id == task_id)).first()
    return None if row is None else StoredTask(*row)


def last_attempts(connection: Connection, task_id: str, most: int) -> list[StoredAttempt]:
    """Return the last attempts of a task, newest first."""
    n = t.task_attempt.c
    statement = select(t.task_attempt).where(n.task_id == task_id).order_by(n.id.desc()).limit(most)
    return [StoredAttempt(*row) for row in connection.execute(statement)]


def has_open_tasks(connection: Connection, application_id: str) -> bool:
    """Return whether an application has tasks that are not closed."""
    d = t.task.c
    statement = select(d.id).where(d.application_id == application_id, d.closed_at.is_(None)).limit(1)
    return connection.execute(statement).first() is not None


@dataclass(frozen=True)
class ErrorGroup:
    """Open tasks of one application with the same kind of error."""

    application_key: str
    application_label: str
    kind: str | None
    status: str
    number: int
    message: str | None
    hint: str | None


def error_groups(connection: Connection, application: str | None) -> list[ErrorGroup]:
    """Return the errors of open tasks by application, the most frequent first."""
    d, p = t.task.c, t.application.c
    statement = (
        select(p.key, p.label, d.kind, d.status, func.count(), func.min(d.message), func.min(d.hint))
        .join(t.application, p.id == d.application_id)
        .where(d.closed_at.is_(None), d.status.in_((FAILED, HELD)))
        .group_by(p.key, p.label, d.kind, d.status)
        .order_by(p.label, func.count().desc())
    )
    if application:
        statement = statement.where(p.key == application)
    return [ErrorGroup(*row) for row in connection.execute(statement)]


def update_task(connection: Connection, task_id: str, **values: Any) -> None:
    """Change columns of a task."""
    connection.execute(update(t.task).where(t.task.c.id == task_id).values(**values))


def retry_of_application(
    connection: Connection, application_id: str, now: Instant, kind: str | None = None
) -> int:
    """Have failed and held tasks of an application be tried again; return their number.

    Tasks with an unknown outcome wait for an operator, because a blind retry could create a duplicate. Held
    removals are approved or discarded.

    Args:
        kind: only tasks with this kind of error; None for all.
    """
    d = t.task.c
    where = [
        d.application_id == application_id,
        d.closed_at.is_(None),
        d.status.in_((FAILED, HELD)),
        func.coalesce(d.kind, "") != UNKNOWN,
        d.held_at.is_(None),
    ]
    if kind is not None:
        where.append(func.coalesce(d.kind, "") == kind)
    values = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None}
    return connection.execute(update(t.task).where(*where).values(**values)).rowcount


def approve(
    connection: Connection, application_id: str, versions: Mapping[str, int], by: str, now: Instant
) -> int:
    """Approve waiting tasks of an application, each in the version that was seen; return their number."""
    d = t.task.c
    number = 0
    for task_id, version in versions.items():
        where = (
            d.id == task_id,
            d.application_id == application_id,
            d.status == WAITING,
            d.version == version,
        )
        values = {"approved_version": version, "approved_by": by, "next_attempt_at": now}
        number += connection.execute(update(t.task).where(*where).values(**values)).rowcount
    return number


def account_by_id(connection: Connection, account_id: str) -> StoredAccount:
    """Return an account, which exists."""
    return StoredAccount(*connection.execute(select(t.account).where(t.account.c.id == account_id)).one())


def account_of_user(connection: Connection, application_id: str, user_id: str) -> StoredAccount | None:
    """Return the account of a user in an application, or None."""
    a = t.account.c
    where = (a.application_id == application_id, a.user_id == user_id)
    row = connection.execute(select(t.account).where(*where)).first()
    return None if row is None else StoredAccount(*row)


def update_account(connection: Connection, account_id: str, **values: Any) -> None:
    """Change columns of an account."""
    connection.execute(update(t.account).where(t.account.c.id == account_id).values(**values))


def is_linked_elsewhere(connection: Connection, application_id: str, remote_id: str, account_id: str) -> bool:
    """Return whether another user of an application has the account with a remote ID."""
    a = t.account.c
    where = (a.application_id == application_id, a.remote_id == remote_id, a.id != account_id)
    return connection.execute(select(a.id).where(*where)).first() is not None


def reopen(connection: Connection, account_id: str, now: Instant) -> str:
    """Have an account checked again: its applied state counts as unknown, so that all of it is compared.

    Returns:
        the ID of its open task.
    """
    account = account_by_id(connection, account_id)
    # Earlier lists may contain the state that is to be repaired.
    update_account(connection, account_id, lists_valid_from=now)
    d, u = t.task.c, t.user.c
    present = connection.execute(
        select(d.id).where(and_(d.account_id == account_id, d.closed_at.is_(None)))
    ).scalar()
    if present:
        woken = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None, "kind": None}
        connection.execute(update(t.task).where(d.id == present, d.held_at.is_(None)).values(**woken))
        return str(present)
    version = account.desired_version + 1
    update_account(
        connection, account_id, applied=None, applied_version=0, desired_version=version, pending_since=now
    )
    connection.execute(update(t.user).where(u.id == account.user_id).values(revision=u.revision + 1))
    # Retrying must not let a removal through that was held and then discarded by an operator.
    return open_task(
        connection, account, version, now, removes=takes_away(account.last_applied, account.desired)
    )


def open_task(
    connection: Connection, account: StoredAccount, version: int, now: Instant, *, removes: bool
) -> str:
    """Open a task for an account that has none; return its ID.

    Args:
        version: the version of the desired state that it brings about.
        removes: whether it takes something away: then the removal limit has to release it.
    """
    task_id = new_id()
    row = {
        "id": task_id,
        "account_id": account.id,
        "application_id": account.application_id,
        "user_id": account.user_id,
        "status": WAITING,
        "version": version,
        "desired_state": describe(account.desired),
        "attempts": 0,
        "created_at": now,
        "next_attempt_at": now,
        "removes": removes,
    }
    connection.execute(insert(t.task).values(**row))
    return task_id


# Tasks that are ready


@dataclass(frozen=True)
class ReadyApplication:
    """An application that can be sent tasks which are due."""

    id: str
    max_concurrency: int
    failures: int
    capabilities: Any
    pilot_group_id: str | None


def ready_applications(connection: Connection, now: Instant) -> list[ReadyApplication]:
    """Return the applications with due tasks that are enabled, connected, and neither paused nor waited
    for. In a pilot, the due tasks may all be of other users.
    """
    d, p = t.task.c, t.application.c
    statement = select(p.id, p.max_concurrency, p.failures, p.capabilities, p.pilot_group_id).where(
        p.enabled.is_(True),
        p.base_url.is_not(None),
        p.secret.is_not(None),
        p.paused_at.is_(None),
        or_(p.retry_at.is_(None), p.retry_at <= now),
        exists().where(
            d.application_id == p.id, d.status == WAITING, d.next_attempt_at <= now, NOT_HELD, APPROVED
        ),
    )
    return [ReadyApplication(*row) for row in connection.execute(statement)]


def due_tasks(
    connection: Connection, application_id: str, now: Instant, most: int, pilot_group_id: str | None = None
) -> list[tuple[str, str]]:
    """Return (task ID, account ID) of due tasks in their order; users who are being recomputed wait, in a
    pilot all who are not members of its group, and all without an approval that the application asks for.
    """
    d, p = t.task.c, t.application.c
    if pilot_group_id is None:
        those = and_(d.application_id == application_id, d.status == WAITING)
    else:
        those = pilots.waits_inside(application_id, pilot_group_id)
    statement = (
        select(d.id, d.account_id)
        .join(t.application, p.id == d.application_id)
        .where(
            those,
            d.next_attempt_at <= now,
            NOT_HELD,
            APPROVED,
            ~exists().where(t.pending_recompute.c.user_id == d.user_id),
        )
        .order_by(d.next_attempt_at)
        .limit(most)
    )
    return [(task_id, account_id) for task_id, account_id in connection.execute(statement)]


def number_to_create(connection: Connection, application_id: str) -> int:
    """Return how many accounts wait to be created in an application."""
    d, a = t.task.c, t.account.c
    waiting = (
        d.application_id == application_id,
        d.status == WAITING,
        d.closed_at.is_(None),
        a.remote_id.is_(None),
    )
    joined = t.task.join(t.account, a.id == d.account_id)
    return int(connection.execute(select(func.count()).select_from(joined).where(*waiting)).scalar_one())


def mark_in_flight_unknown(connection: Connection, now: Instant) -> None:
    """Mark the state of accounts and groups as unknown whose attempt was running when the worker ended."""
    a, d, g = t.account.c, t.task.c, t.provisioned_group.c
    being_worked_on = select(d.account_id).where(d.closed_at.is_(None), d.status == WAITING)
    there = (a.id.in_(being_worked_on), a.remote_id.is_not(None))
    connection.execute(update(t.account).where(*there).values(applied=None))
    not_there = (a.id.in_(being_worked_on), a.remote_id.is_(None))
    connection.execute(update(t.account).where(*not_there).values(outcome_unknown_since=now))
    connection.execute(update(t.provisioned_group).where(g.status == WAITING).values(applied_at=None))


def delete_attempts(connection: Connection, before: Instant) -> None:
    """Delete the attempts of tasks that were closed before an instant."""
    closed = select(t.task.c.id).where(t.task.c.closed_at < before)
    connection.execute(delete(t.task_attempt).where(t.task_attempt.c.task_id.in_(closed)))
