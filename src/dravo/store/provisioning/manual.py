"""Accounts of tracked-only applications: tasks that an operator carries out, and the change between an
application whose accounts are provisioned and one whose accounts are managed by hand.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    CursorResult,
    Select,
    and_,
    bindparam,
    case,
    func,
    insert,
    literal,
    null,
    or_,
    select,
    update,
)

from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import PRESENT, describe
from dravo.core.provisioning.manual import CHANGE, CREATE, DEACTIVATE, DELETE, action_of
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries.search import name_has
from dravo.store.task_status import DONE, MANUAL, WAITING

CHUNK = 500


@dataclass(frozen=True)
class ListedManualTask:
    """A task that an operator carries out, with its user, in the order of the select.

    Attributes:
        desired: the state to reach.
        last_applied: the state that the account was last known to have, or None.
        message, manual_action: of a completed task, who completed it, and what this operator did.
    """

    id: str
    version: int
    status: str
    created_at: Instant
    closed_at: Instant | None
    message: str | None
    desired_state: str
    manual_action: str | None
    user_id: str
    display_name: str
    user_name: str
    email: str | None
    account_id: str
    desired: dict[str, Any]
    desired_version: int
    last_applied: dict[str, Any] | None


def action() -> ColumnElement[str]:
    """Return what an open task needs, as a column: as `action_of` in the core."""
    a = t.account.c
    exists = func.coalesce(func.json_extract(a.last_applied, "$.want"), "") == PRESENT
    wanted = func.json_extract(a.desired, "$.want") == PRESENT
    was_active = func.coalesce(func.json_extract(a.last_applied, "$.active"), 0) == 1
    is_active = func.coalesce(func.json_extract(a.desired, "$.active"), 0) == 1
    return case(
        (~wanted, literal(DELETE)),
        (~exists, literal(CREATE)),
        (and_(was_active, ~is_active), literal(DEACTIVATE)),
        else_=literal(CHANGE),
    )


@dataclass(frozen=True)
class ManualTaskFilter:
    """Which manual tasks to list.

    Attributes:
        done: the completed ones instead of the open ones.
        action: only open tasks that need this, see `ACTIONS` of the core.
        words: text in the name of the user.
    """

    done: bool = False
    action: str | None = None
    words: str | None = None


def _statement(application_id: str, only: ManualTaskFilter) -> Select[Any]:
    d, a, u = t.task.c, t.account.c, t.user.c
    statement = (
        select(
            d.id,
            d.version,
            d.status,
            d.created_at,
            d.closed_at,
            d.message,
            d.desired_state,
            d.manual_action,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            u.email,
            a.id.label("account_id"),
            a.desired,
            a.desired_version,
            a.last_applied,
        )
        .join(t.account, a.id == d.account_id)
        .join(t.user, u.id == d.user_id)
        .where(d.application_id == application_id)
    )
    if only.done:
        statement = statement.where(d.status == DONE, d.manual_action.is_not(None))
    else:
        statement = statement.where(d.closed_at.is_(None), d.status == MANUAL)
        if only.action:
            statement = statement.where(action() == only.action)
    return statement.where(name_has(only.words)) if only.words else statement


def list_tasks(
    connection: Connection,
    application_id: str,
    page_request: PageRequest,
    only: ManualTaskFilter,
    show: Callable[[ListedManualTask], Item],
) -> Page[Item]:
    """Return a page of the manual tasks of an application: open ones by name, completed ones newest first."""
    statement = _statement(application_id, only)
    order = [t.task.c.id.desc()] if only.done else [t.user.c.display_name_key, t.task.c.id]
    return page(connection, statement, order, page_request, shown_as(ListedManualTask, show))


def every_task(
    connection: Connection, application_id: str, only: ManualTaskFilter, at_once: int
) -> CursorResult[Any]:
    """Return a cursor over the manual tasks of an application; `ListedManualTask` takes its rows."""
    order = t.user.c.display_name_key, t.task.c.id
    return connection.execute(
        _statement(application_id, only).order_by(*order).execution_options(yield_per=at_once)
    )


def count_open(connection: Connection, application_id: str) -> dict[str, int]:
    """Return how many open manual tasks of an application need each action."""
    d = t.task.c
    statement = (
        select(action(), func.count())
        .select_from(t.task.join(t.account, t.account.c.id == d.account_id))
        .where(d.application_id == application_id, d.closed_at.is_(None), d.status == MANUAL)
        .group_by(action())
    )
    return {str(what): int(number) for what, number in connection.execute(statement)}


def some_open(
    connection: Connection, application_id: str, task_ids: Sequence[str]
) -> dict[str, ListedManualTask]:
    """Return those of some tasks that are open manual tasks of an application, by ID."""
    found = {}
    statement = _statement(application_id, ManualTaskFilter())
    for start in range(0, len(task_ids), CHUNK):
        for row in connection.execute(statement.where(t.task.c.id.in_(task_ids[start : start + CHUNK]))):
            found[row.id] = ListedManualTask(*row)
    return found


def complete(connection: Connection, tasks: Sequence[ListedManualTask], message: str, now: Instant) -> None:
    """Note that operators brought accounts to their desired state."""
    a, d = t.account.c, t.task.c
    accounts = update(t.account).where(a.id == bindparam("account"))
    applied: dict[str, Any] = {
        "applied": bindparam("state"),
        "last_applied": bindparam("state"),
        "applied_version": bindparam("state_version"),
        "applied_at": now,
        "outcome_unknown_since": None,
    }
    closed: dict[str, Any] = {
        "status": DONE,
        "closed_at": now,
        "version": bindparam("state_version"),
        "desired_state": bindparam("words"),
        "next_attempt_at": None,
        "message": message,
        "hint": None,
        "kind": None,
        "manual_action": bindparam("what"),
        "applied_before": bindparam("former"),
    }
    rows: list[dict[str, Any]] = [
        {
            "task": each.id,
            "account": each.account_id,
            "state": each.desired,
            "state_version": each.desired_version,
            "words": describe(each.desired),
            "what": action_of(each.last_applied, each.desired),
            "former": each.last_applied,
        }
        for each in tasks
    ]
    present = [row for row in rows if row["state"]["want"] == PRESENT]
    gone = [row for row in rows if row["state"]["want"] != PRESENT]
    if present:
        connection.execute(accounts.values(**applied), _only(present, "account", "state", "state_version"))
    if gone:
        without_id = accounts.values(**applied, remote_id=None, origin=None)
        connection.execute(without_id, _only(gone, "account", "state", "state_version"))
    if rows:
        statement = update(t.task).where(d.id == bindparam("task")).values(**closed)
        connection.execute(statement, _only(rows, "task", "state_version", "words", "what", "former"))


def _only(rows: Sequence[dict[str, Any]], *names: str) -> list[dict[str, Any]]:
    return [{name: row[name] for name in names} for row in rows]


@dataclass(frozen=True)
class CompletedTask:
    """A task that an operator completed, and the state before."""

    id: str
    account_id: str
    applied_before: dict[str, Any] | None
    is_last: bool


def some_completed(
    connection: Connection, application_id: str, task_ids: Sequence[str]
) -> list[CompletedTask]:
    """Return those of some tasks of an application that operators completed; `is_last` if the account has no
    later task.
    """
    d, later = t.task.c, t.task.alias()
    newer = (
        select(func.count())
        .select_from(later)
        .where(later.c.account_id == d.account_id, later.c.id > d.id)
        .scalar_subquery()
    )
    where = (d.application_id == application_id, d.status == DONE, d.manual_action.is_not(None))
    statement = select(d.id, d.account_id, d.applied_before, newer == 0).where(*where)
    found = []
    for start in range(0, len(task_ids), CHUNK):
        some = d.id.in_(task_ids[start : start + CHUNK])
        found += [CompletedTask(*row) for row in connection.execute(statement.where(some))]
    return found


def reopen_completed(connection: Connection, tasks: Sequence[CompletedTask]) -> None:
    """Open tasks again that were completed by mistake; the accounts are as before."""
    for each in tasks:
        connection.execute(
            update(t.task)
            .where(t.task.c.id == each.id)
            .values(status=MANUAL, closed_at=None, message=None, manual_action=None, applied_before=None)
        )
        connection.execute(
            update(t.account)
            .where(t.account.c.id == each.account_id)
            .values(
                applied=each.applied_before,
                last_applied=each.applied_before,
                applied_version=t.account.c.desired_version - 1,
            )
        )


@dataclass(frozen=True)
class ManagedAccount:
    """An account of a tracked-only application with its user, in the order of the select; `task_id` is the ID
    of its open task, or None.
    """

    account_id: str
    desired: dict[str, Any]
    last_applied: dict[str, Any] | None
    display_name: str
    user_name: str
    email: str | None
    task_id: str | None


def every_account(connection: Connection, application_id: str) -> Iterator[ManagedAccount]:
    """Yield the accounts of an application."""
    d, a, u = t.task.c, t.account.c, t.user.c
    statement = (
        select(a.id, a.desired, a.last_applied, u.display_name, u.user_name, u.email, d.id.label("task_id"))
        .join(t.user, u.id == a.user_id)
        .outerjoin(t.task, and_(d.account_id == a.id, d.closed_at.is_(None)))
        .where(a.application_id == application_id)
        .execution_options(yield_per=CHUNK)
    )
    for row in connection.execute(statement):
        yield ManagedAccount(*row)


# From provisioned to tracked only, and back


def number_open(connection: Connection, application_id: str) -> int:
    """Return how many tasks of an application are open."""
    d = t.task.c
    where = (d.application_id == application_id, d.closed_at.is_(None))
    return int(connection.execute(select(func.count()).select_from(t.task).where(*where)).scalar_one())


def to_manual(connection: Connection, application_id: str) -> None:
    """Leave the open tasks of an application to operators."""
    d = t.task.c
    connection.execute(
        update(t.task)
        .where(d.application_id == application_id, d.closed_at.is_(None))
        .values(status=MANUAL, next_attempt_at=None, message=None, hint=None, kind=None, held_at=None)
    )


def _to_find(application_id: str) -> tuple[ColumnElement[bool], ...]:
    """Return the conditions for accounts that exist, and that Dravo has not found in the application."""
    a, d = t.account.c, t.task.c
    no_task = ~select(d.id).where(d.account_id == a.id, d.closed_at.is_(None)).exists()
    there = func.json_extract(a.desired, "$.want") == PRESENT
    known = or_(a.last_applied.is_not(None), func.json_extract(a.desired, "$.active") == 1)
    return a.application_id == application_id, a.remote_id.is_(None), there, known, no_task


def number_to_find(connection: Connection, application_id: str) -> int:
    """Return how many accounts Dravo has to find in an application that becomes provisioned."""
    statement = select(func.count()).select_from(t.account).where(*_to_find(application_id))
    return int(connection.execute(statement).scalar_one())


def to_provisioned(connection: Connection, application_id: str, now: Instant) -> None:
    """Leave the open tasks of an application to Dravo, and open one for each account to find there."""
    a, d, u = t.account.c, t.task.c, t.user.c
    connection.execute(
        update(t.task)
        .where(d.application_id == application_id, d.closed_at.is_(None))
        .values(status=WAITING, next_attempt_at=now)
    )
    columns = (a.id, a.user_id, a.desired, a.desired_version)
    rows = connection.execute(select(*columns).where(*_to_find(application_id))).all()
    # An account that was managed by hand is known by its user name only, so that all of it is compared.
    unknown = {"applied": null(), "applied_version": 0}
    connection.execute(
        update(t.account).where(a.application_id == application_id, a.remote_id.is_(None)).values(**unknown)
    )
    tasks = []
    for start in range(0, len(rows), CHUNK):
        some = rows[start : start + CHUNK]
        connection.execute(
            update(t.account)
            .where(a.id.in_([row.id for row in some]))
            .values(desired_version=a.desired_version + 1, pending_since=now)
        )
        connection.execute(
            update(t.user).where(u.id.in_([row.user_id for row in some])).values(revision=u.revision + 1)
        )
        tasks += [
            {
                "id": new_id(),
                "account_id": row.id,
                "application_id": application_id,
                "user_id": row.user_id,
                "status": WAITING,
                "version": row.desired_version + 1,
                "desired_state": describe(row.desired),
                "attempts": 0,
                "created_at": now,
                "next_attempt_at": now,
                "removes": False,
            }
            for row in some
        ]
    if tasks:
        connection.execute(insert(t.task), tasks)
