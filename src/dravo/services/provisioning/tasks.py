"""Provisioning tasks for users: list, retry one or all of a kind, and resolve unknown outcomes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.client import Exchange, shown_exchanges
from dravo.services.provisioning.health import NOT_ANSWERING
from dravo.services.results import Number
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.pagination import ItemList, Page, PageRequest
from dravo.store.provisioning import pilots
from dravo.store.provisioning import tasks as stored
from dravo.store.provisioning.tasks import UNKNOWN, ListedTask, TaskFilter
from dravo.store.queries import applications as application_rows
from dravo.store.queries.references import KeyAndLabel, UserRef
from dravo.store.task_status import MANUAL, WAITING


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
    approved_by: str | None


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


class _Lines:
    """Makes lines of stored tasks; reads the members of each pilot once."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._pilots: dict[str, frozenset[str]] = {}

    def __call__(self, row: ListedTask) -> TaskLine:
        """Return the line of a task."""
        return _line(row, outside_pilot=self._is_outside(row))

    def _is_outside(self, row: ListedTask) -> bool:
        group_id = row.pilot_group_id
        if group_id is None or row.status != WAITING:
            return False
        if group_id not in self._pilots:
            self._pilots[group_id] = pilots.members_of(self._connection, group_id)
        return row.user_id not in self._pilots[group_id]


def _line(row: ListedTask, *, outside_pilot: bool) -> TaskLine:
    waits_for = None
    if row.status == MANUAL:
        waits_for = "an operator, because the application is tracked only"
    if row.status == WAITING:
        if row.paused_at:
            waits_for = "the application is paused"
        elif not row.enabled:
            waits_for = "the application is disabled"
        elif row.unapproved:
            waits_for = "an operator's approval"
        elif outside_pilot:
            waits_for = "the user is not in the pilot group"
        elif row.failures >= NOT_ANSWERING:
            waits_for = "the application does not respond"
    return TaskLine(
        id=row.id,
        user=UserRef(row.user_id, row.display_name, row.user_name),
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
        approved_by=row.approved_by,
    )


def list_tasks(ctx: AppContext, page_request: PageRequest, only: TaskFilter) -> Page[TaskLine]:
    """Return a page of tasks, newest first."""
    with ctx.database.reading() as connection:
        return stored.list_tasks(connection, page_request, only, _Lines(connection))


def one(ctx: AppContext, task_id: str) -> TaskDetail:
    """Return one task with its last hundred attempts.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = stored.one(connection, task_id)
        if row is None:
            raise NotFound(f"There is no task with the ID '{task_id}'.")
        line = _Lines(connection)(row)
        attempts = stored.last_attempts(connection, task_id, 100)
    return TaskDetail(
        **vars(line),
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
        row = stored.get(connection, task_id)
        if row is None:
            raise NotFound(f"There is no task with the ID '{task_id}'.")
        target = task_id
        if application_rows.by_id(connection, row.application_id).tracked_only:
            raise InvalidInput(
                "The application is tracked only, so Dravo cannot retry the task.",
                "Bring about the change in the application, then mark the task as done.",
            )
        if row.held_at is not None and row.closed_at is None:
            raise InvalidInput(
                "The removal limit holds this task.",
                "Approve or discard the held removals of the application.",
            )
        if row.closed_at is not None:
            target = stored.reopen(connection, row.account_id, now)
        stored.update_task(connection, target, status=WAITING, next_attempt_at=now, message=None, hint=None)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("retried", "task", target, details={"application": row.application_id}),
        )
    return one(ctx, target)


@dataclass(frozen=True)
class TaskApproval:
    """A task to approve, in the version that the operator saw."""

    id: str
    version: int


def approve(ctx: AppContext, caller: Caller, application: str, approvals: Sequence[TaskApproval]) -> Number:
    """Approve tasks of an application that asks for approval; Dravo then starts them.

    Raises:
        NotFound: if the application does not exist.
        InvalidInput: if it asks for no approval.
        StalePreview: if a task changed since it was listed, or no longer waits; nothing is approved then.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = application_by_key(connection, application)
        if not row.approve_tasks:
            raise InvalidInput(
                f"'{row.label}' asks for no approval of tasks.", "Turn on `approve_tasks` to approve tasks."
            )
        versions = {each.id: each.version for each in approvals}
        number = stored.approve(connection, row.id, versions, caller.name, now)
        if number != len(versions):
            raise StalePreview(
                "A task changed or is no longer waiting.",
                "List the tasks again, then approve them. Nothing was approved.",
            )
        details = {"application": application, "number": number}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("approved tasks", "application", row.id, details=details),
        )
    return Number(number)


def error_groups(ctx: AppContext, application: str | None = None) -> ItemList[TaskError]:
    """Return the errors of open tasks: for each application and kind of error their number and one
    message.
    """
    with ctx.database.reading() as connection:
        rows = stored.error_groups(connection, application)
    return ItemList(
        [
            TaskError(
                application=KeyAndLabel(row.application_key, row.application_label),
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
    with ctx.database.writing() as connection:
        row = application_by_key(connection, application)
        number = stored.retry_of_application(connection, row.id, now, kind)
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
        row = stored.get(connection, task_id)
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
        stored.update_account(connection, row.account_id, outcome_unknown_since=None)
        values = {"status": WAITING, "next_attempt_at": now, "message": None, "hint": None, "kind": None}
        stored.update_task(connection, task_id, **values)
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
    if stored.is_linked_elsewhere(connection, application_id, remote_id, account_id):
        raise InvalidInput(
            f"The account '{remote_id}' belongs to another user.",
            "Find the user in the list of accounts of the application.",
        )
    stored.update_account(connection, account_id, remote_id=remote_id, origin=origin, applied=None)
