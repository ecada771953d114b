"""Provisioning tasks for users: list, retry one or all of a kind, and resolve unknown outcomes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, func, insert, select, update

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import describe
from dravo.core.provisioning.removal_limit import takes_away
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.client import Exchange, shown_exchanges
from dravo.services.provisioning.health import NOT_ANSWERING
from dravo.services.provisioning.queue import UNKNOWN
from dravo.services.results import Number
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import ItemList, Page, PageRequest, page
from dravo.store.plan_writer import FAILED, HELD, WAITING
from dravo.store.queries import search as text_search
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref


@dataclass
class TaskLine:
    """A task as in lists."""

    id: str
    user: UserRef
    application: KeyAndLabel
    account: str
    status: str
    desired_state: str
    version: int
    attempts: int
    created_at: str
    next_attempt_at: str | None
    closed_at: str | None
    message: str | None
    hint: str | None
    waits_for: str | None
    kind: str | None


@dataclass
class Attempt:
    """One attempt of a task."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


@dataclass
class TaskDetail(TaskLine):
    """A task with its last attempts."""

    tries: list[Attempt]


@dataclass
class TaskError:
    """Open tasks of one application with the same error."""

    application: KeyAndLabel
    kind: str
    status: str
    number: int
    message: str
    hint: str


def _statement() -> Any:
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
            d.kind,
        )
        .join(t.account, a.id == d.account_id)
        .join(t.user, u.id == d.user_id)
        .join(t.application, p.id == d.application_id)
    )


def _line(row: Any) -> TaskLine:
    waits_for = None
    if row.status == WAITING:
        if row.paused_at:
            waits_for = "the application is paused"
        elif not row.enabled:
            waits_for = "the application is disabled"
        elif row.failures >= NOT_ANSWERING:
            waits_for = "the application does not respond"
    return TaskLine(
        id=row.id,
        user=user_ref(row, "user_id"),
        application=KeyAndLabel(row.application_key, row.application_label),
        account=row.account_id,
        status=row.status,
        desired_state=row.desired_state,
        version=row.version,
        attempts=row.attempts,
        created_at=row.created_at,
        next_attempt_at=row.next_attempt_at,
        closed_at=row.closed_at,
        message=masking.text(row.message or (row.trouble if waits_for else None)),
        hint=row.hint or (row.trouble_hint if waits_for else None),
        waits_for=waits_for,
        kind=row.kind,
    )


def list_tasks(
    ctx: AppContext,
    page_request: PageRequest,
    status: str | None = None,
    application: str | None = None,
    user_id: str | None = None,
    words: str | None = None,
) -> Page[TaskLine]:
    """Return a page of tasks, newest first; `status` may be "open" for all that are not closed."""
    d = t.task.c
    statement = _statement()
    if status == "open":
        statement = statement.where(d.closed_at.is_(None))
    elif status:
        statement = statement.where(d.status == status)
    if application:
        statement = statement.where(t.application.c.key == application)
    if user_id:
        statement = statement.where(d.user_id == user_id)
    if words:
        statement = statement.where(text_search.name_has(words))
    with ctx.database.reading() as connection:
        return page(connection, statement, [d.id.desc()], page_request, _line)


def one(ctx: AppContext, task_id: str) -> TaskDetail:
    """Return one task with its last hundred attempts.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = connection.execute(_statement().where(t.task.c.id == task_id)).first()
        if row is None:
            raise NotFound(f"There is no task with the ID '{task_id}'.")
        n = t.task_attempt.c
        attempts = connection.execute(
            select(t.task_attempt).where(n.task_id == task_id).order_by(n.id.desc()).limit(100)
        ).all()
    return TaskDetail(
        **vars(_line(row)),
        tries=[
            Attempt(
                version=each.version,
                started_at=each.started_at,
                ended_at=each.ended_at,
                outcome=each.outcome,
                message=masking.text(each.message),
                exchanges=shown_exchanges(each.exchanges),
            )
            for each in attempts
        ],
    )


def retry(ctx: AppContext, caller: Caller, task_id: str) -> TaskDetail:
    """Retry a task at once; a finished task is opened again, to check and repair the account.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = connection.execute(select(t.task).where(t.task.c.id == task_id)).first()
        if row is None:
            raise NotFound(f"There is no task with the ID '{task_id}'.")
        target = task_id
        if row.held_at is not None and row.closed_at is None:
            raise InvalidInput(
                "The removal limit holds this task.",
                "Approve or discard the held removals of the application.",
            )
        if row.closed_at is not None:
            target = reopen(connection, row.account_id, now)
        connection.execute(
            update(t.task)
            .where(t.task.c.id == target)
            .values(status=WAITING, next_attempt_at=now, message=None, hint=None)
        )
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("retried", "task", target, details={"application": row.application_id}),
        )
    return one(ctx, target)


def reopen(connection: Connection, account_id: str, now: Instant) -> str:
    """Have an account checked again: its applied state counts as unknown, so that all of it is compared."""
    from_there = select(t.account).where(t.account.c.id == account_id)
    account = connection.execute(from_there).one()
    # Earlier lists may contain the state that is to be repaired.
    connection.execute(update(t.account).where(t.account.c.id == account_id).values(lists_valid_from=now))
    d = t.task.c
    present = connection.execute(
        select(d.id).where(and_(d.account_id == account_id, d.closed_at.is_(None)))
    ).scalar()
    if present:
        woken = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None, "kind": None}
        connection.execute(update(t.task).where(d.id == present, d.held_at.is_(None)).values(**woken))
        return str(present)
    connection.execute(
        update(t.account)
        .where(t.account.c.id == account_id)
        .values(
            applied=None, applied_version=0, desired_version=account.desired_version + 1, pending_since=now
        )
    )
    connection.execute(
        update(t.user).where(t.user.c.id == account.user_id).values(revision=t.user.c.revision + 1)
    )
    task_id = new_id()
    connection.execute(
        insert(t.task).values(
            id=task_id,
            account_id=account_id,
            application_id=account.application_id,
            user_id=account.user_id,
            status=WAITING,
            version=account.desired_version + 1,
            desired_state=describe(account.desired),
            attempts=0,
            created_at=now,
            next_attempt_at=now,
            # Retrying must not let a removal through that was held and then discarded by an operator.
            removes=takes_away(account.last_applied, account.desired),
        )
    )
    return task_id


def error_groups(ctx: AppContext, application: str | None = None) -> ItemList[TaskError]:
    """Return the errors of open tasks: for each application and kind of error their number and one
    message.
    """
    d, p = t.task.c, t.application.c
    statement = (
        select(
            p.key,
            p.label,
            d.kind,
            d.status,
            func.count().label("number"),
            func.min(d.message).label("message"),
            func.min(d.hint).label("hint"),
        )
        .join(t.application, p.id == d.application_id)
        .where(d.closed_at.is_(None), d.status.in_((FAILED, HELD)))
        .group_by(p.key, p.label, d.kind, d.status)
        .order_by(p.label, func.count().desc())
    )
    if application:
        statement = statement.where(p.key == application)
    with ctx.database.reading() as connection:
        rows = connection.execute(statement).all()
    return ItemList(
        [
            TaskError(
                application=KeyAndLabel(row.key, row.label),
                kind=row.kind or "",
                status=row.status,
                number=row.number,
                message=masking.text(row.message) or "",
                hint=row.hint or "",
            )
            for row in rows
        ]
    )


def retry_all(ctx: AppContext, caller: Caller, application: str, kind: str | None) -> Number:
    """Retry all failed and held tasks of an application, or those with one kind of error.

    Raises:
        NotFound: if the application does not exist.
    """
    now = clock.now()
    d = t.task.c
    with ctx.database.writing() as connection:
        row = application_by_key(connection, application)
        where = [d.application_id == row.id, d.closed_at.is_(None), d.status.in_((FAILED, HELD))]
        if kind is not None:
            where.append(func.coalesce(d.kind, "") == kind)
        # Tasks with an unknown outcome wait for an operator: a blind retry could create a duplicate.
        where.append(func.coalesce(d.kind, "") != UNKNOWN)
        # Held removals are approved or discarded, not retried.
        where.append(d.held_at.is_(None))
        number = connection.execute(
            update(t.task).where(*where).values(status=WAITING, next_attempt_at=now, message=None, hint=None)
        ).rowcount
        details = {"application": application, "kind": kind, "number": number}
        record_change(
            connection, ctx.keys, caller, now, AuditEvent("retried", "application", row.id, details=details)
        )
    return Number(number)


def resolve(ctx: AppContext, caller: Caller, task_id: str, found: str, remote_id: str | None) -> TaskDetail:
    """Record an outcome that Dravo could not learn: whether an account was created.

    Args:
        found: "there" with the remote ID, or "not there", so that Dravo creates the account.

    Raises:
        NotFound, InvalidInput.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = connection.execute(select(t.task).where(t.task.c.id == task_id)).first()
        if row is None:
            raise NotFound(f"There is no task with the ID '{task_id}'.")
        if row.kind != UNKNOWN or row.closed_at is not None:
            raise InvalidInput("This task is not unresolved.", "Read the message of the task, then retry it.")
        if found == "exists":
            if not remote_id or not remote_id.strip():
                raise InvalidInput(
                    "The account ID is missing.",
                    "Enter the ID of the account in the application.",
                    "remote_id",
                )
            bind(connection, row.application_id, row.account_id, remote_id.strip())
        connection.execute(
            update(t.account).where(t.account.c.id == row.account_id).values(outcome_unknown_since=None)
        )
        values = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None, "kind": None}
        connection.execute(update(t.task).where(t.task.c.id == task_id).values(**values))
        details = {"application": row.application_id, "found": found}
        record_change(
            connection, ctx.keys, caller, now, AuditEvent("resolved task", "task", task_id, details=details)
        )
    return one(ctx, task_id)


def bind(
    connection: Connection, application_id: str, account_id: str, remote_id: str, origin: str = "adopted"
) -> None:
    """Record which account belongs to a user; the account is checked again.

    Raises:
        InvalidInput: if the account belongs to another user.
    """
    a = t.account.c
    other = connection.execute(
        select(a.id).where(a.application_id == application_id, a.remote_id == remote_id, a.id != account_id)
    ).first()
    if other is not None:
        raise InvalidInput(
            f"The account '{remote_id}' belongs to another user.",
            "Find the user in the list of accounts of the application.",
        )
    connection.execute(
        update(t.account).where(a.id == account_id).values(remote_id=remote_id, origin=origin, applied=None)
    )
