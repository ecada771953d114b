"""Manual tasks: accounts of tracked-only applications that operators create, change or remove by hand."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.instants import Instant
from dravo.core.provisioning.manual import CHANGE, DEACTIVATE, DELETE, action_of
from dravo.services.applications.settings import account_changes
from dravo.services.context import AppContext
from dravo.services.csv_export import Streamed, csv_line
from dravo.services.lookups import application_by_key
from dravo.services.results import ChangedAttribute, Number
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import manual as stored
from dravo.store.provisioning.manual import ListedManualTask, ManualTaskFilter
from dravo.store.queries.applications import Application
from dravo.store.queries.references import UserRef

MOST_AT_ONCE = 1_000
CHUNK = 500


@dataclass
class ManualTask:
    """An account to create, change or remove by hand, or one that was."""

    id: str
    version: int
    status: str
    action: str | None
    desired_state: str
    user: UserRef
    email: str | None
    roles: list[str]
    plan: str | None
    changes: list[ChangedAttribute]
    since: Instant
    done_at: Instant | None
    message: str | None


@dataclass(frozen=True)
class TaskMark:
    """A task to mark as done, with the version of the desired state that the operator saw; None for any."""

    id: str
    version: int | None = None


def list_tasks(
    ctx: AppContext, key: str, page_request: PageRequest, only: ManualTaskFilter
) -> Page[ManualTask]:
    """Return a page of the manual tasks of an application: open ones by name, completed ones newest first.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        return stored.list_tasks(connection, application.id, page_request, only, _line)


def _line(row: ListedManualTask) -> ManualTask:
    done = row.closed_at is not None
    last = row.last_applied
    action = row.manual_action if done else action_of(last, row.desired)
    shown = last if action == DELETE and last is not None else row.desired
    return ManualTask(
        id=row.id,
        version=row.version if done else row.desired_version,
        status="done" if done else "open",
        action=action,
        desired_state=row.desired_state,
        user=UserRef(row.user_id, row.display_name, row.user_name),
        email=masking.email(row.email) if masking.hidden() else row.email,
        roles=[] if done else [role["display"] for role in shown.get("roles", ())],
        plan=None if done else shown.get("plan", {}).get("display"),
        changes=_changes(last, row.desired) if action in (CHANGE, DEACTIVATE) and not done else [],
        since=row.created_at,
        done_at=row.closed_at,
        message=row.message,
    )


def _changes(before: Any, desired: dict[str, Any]) -> list[ChangedAttribute]:
    """Return the attributes to change, without external IDs, as far as the caller may see them."""
    return [
        ChangedAttribute(each.attribute, masking.HIDDEN, masking.HIDDEN)
        if (masking.is_masked(each.attribute) or masking.names_hidden())
        and each.attribute not in ("active", "roles", "entitlements")
        else each
        for each in account_changes(before, desired)
        if each.attribute != "externalId"
    ]


def mark_done(ctx: AppContext, caller: Caller, key: str, marks: Sequence[TaskMark]) -> Number:
    """Mark manual tasks as done: the accounts count as in sync.

    Raises:
        NotFound: if none of them is open.
        StalePreview: if the desired state of one changed since it was listed; nothing is marked then.
    """
    _check_number(marks)
    with ctx.database.writing() as connection:
        application = tracked(connection, key)
        found = stored.some_open(connection, application.id, [each.id for each in marks])
        if not found:
            raise NotFound("These tasks are not open.", "List the manual tasks again.")
        for each in marks:
            task = found.get(each.id)
            if task is not None and each.version not in (None, task.desired_version):
                raise StalePreview(
                    f"The account of {task.display_name} must look different by now.",
                    "Look at the list again, then mark the tasks. Nothing was marked.",
                )
        write_done(ctx, connection, caller, application, list(found.values()))
    return Number(len(found))


def write_done(
    ctx: AppContext,
    connection: Connection,
    caller: Caller,
    application: Application,
    tasks: Sequence[ListedManualTask],
) -> None:
    """Write that tasks are done, with an entry of the audit log."""
    stored.complete(connection, tasks, f"Done by hand by {caller.name}.", clock.now())
    event = _event("marked accounts as done", application, len(tasks))
    record_change(connection, ctx.keys, caller, clock.now(), event)


def mark_open(ctx: AppContext, caller: Caller, key: str, task_ids: Sequence[str]) -> Number:
    """Take back that manual tasks are done; each must be the last task of its account.

    Raises:
        NotFound: if operators completed none of them.
        InvalidInput: if an account has a later task.
    """
    _check_number(task_ids)
    with ctx.database.writing() as connection:
        application = tracked(connection, key)
        found = stored.some_completed(connection, application.id, task_ids)
        if not found:
            raise NotFound("These tasks were not marked as done.", "List the completed manual tasks again.")
        if not all(each.is_last for each in found):
            raise InvalidInput(
                "An account has a later task, so an earlier one cannot be opened again.",
                "Mark the later task of this account.",
                "tasks",
            )
        stored.reopen_completed(connection, found)
        event = _event("marked accounts as not done", application, len(found))
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return Number(len(found))


def _check_number(marks: Sequence[object]) -> None:
    if not marks:
        raise InvalidInput("No task is named.", "Name at least one task.", "tasks")


def tracked(connection: Connection, key: str) -> Application:
    """Return a tracked-only application.

    Raises:
        NotFound; InvalidInput: if Dravo provisions its accounts.
    """
    application = application_by_key(connection, key)
    if not application.tracked_only:
        raise InvalidInput(
            f"Dravo provisions the accounts of '{application.label}'.",
            "Manual tasks are for applications that are tracked only.",
        )
    return application


def _event(action: str, application: Application, number: int) -> AuditEvent:
    details = {"application": application.key, "number": number}
    return AuditEvent(action, "application", application.id, details=details)


HEADINGS = ("action", "user", "user name", "email", "roles", "plan", "changes", "since", "task", "version")


def export(ctx: AppContext, key: str, only: ManualTaskFilter) -> Streamed:
    """Return the manual tasks of an application as CSV, some hundred at a time, all from one transaction.

    Raises:
        NotFound: before the first piece.
    """
    connection = ctx.database.apart()
    try:
        application = application_by_key(connection, key)
        rows = stored.every_task(connection, application.id, only, CHUNK)
    except BaseException:
        connection.close()
        raise
    return Streamed(connection, rows, _pieces(rows.partitions(CHUNK)))


def _pieces(pieces: Any) -> Iterator[bytes]:
    yield csv_line(HEADINGS)
    for some in pieces:
        for row in some:
            task = _line(ListedManualTask(*row))
            yield csv_line(
                [
                    task.action or "nothing",
                    task.user.display_name,
                    task.user.user_name,
                    task.email or "",
                    "; ".join(task.roles),
                    task.plan or "",
                    "; ".join(f"{each.attribute}: {_text(each.after)}" for each in task.changes),
                    task.since,
                    task.id,
                    str(task.version),
                ]
            )


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_text(each) for each in value)
    if isinstance(value, dict):
        return _text(value.get("display") or value.get("value") or value.get("formatted"))
    return "" if value is None else str(value)
