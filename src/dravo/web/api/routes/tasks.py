"""Tasks, the timeline, and the audit log."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app

from dravo.services.access import undo as access_undo
from dravo.services.changes.preview import Preview
from dravo.services.provisioning import summary as provisioning_summary
from dravo.services.provisioning import tasks
from dravo.services.provisioning.summary import ShownSummary
from dravo.services.provisioning.tasks import TaskApproval, TaskDetail, TaskError, TaskLine
from dravo.services.reporting import activity
from dravo.services.reporting.activity import ActivityLine
from dravo.services.results import Number
from dravo.services.security import audit_log
from dravo.services.security.audit_log import AuditLine
from dravo.store.pagination import ItemList, Page
from dravo.store.provisioning.tasks import TaskFilter
from dravo.web.api.auth import QUERY, api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.dates import instant_of
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.activity import ActivityQuery, AuditQuery, EntryPath
from dravo.web.api.schemas.applications.tasks import (
    ApproveTasksRequest,
    KindsQuery,
    ProvisioningSummaryQuery,
    ResolveRequest,
    RetryRequest,
    TasksQuery,
)
from dravo.web.api.schemas.common import ConfirmedRequest, IdPath

routes = api_blueprint("tasks")


@dataclass
class AuditVerification:
    """The result of verifying the audit log."""

    holds: bool
    broken_at: int | None


@routes.get("/provisioning/tasks", responses=responses("applications.tasks.PageOfTasks"))
@needs("tasks.read", of=QUERY)
def list_tasks(query: TasksQuery) -> Page[TaskLine]:
    """List provisioning tasks.

    Tasks, newest first.
    """
    only = TaskFilter(query.status, query.application, query.user, query.q)
    return tasks.list_tasks(app_context(), page_request(query), only)


@routes.get("/provisioning/tasks/<id>", responses=responses("applications.tasks.Task"))
@needs("tasks.read")
def get_task(path: IdPath) -> TaskDetail:
    """Get a provisioning task.

    Returns the task with its attempts and messages.
    """
    return tasks.one(app_context(), path.id)


@routes.post("/provisioning/tasks/<id>/retry", responses=responses("applications.tasks.Task"))
@needs("tasks.retry")
def again(path: IdPath) -> TaskDetail:
    """Retry a provisioning task.

    Held tasks need approval first.
    """
    return tasks.retry(app_context(), caller(), path.id)


@routes.get("/provisioning/errors", responses=responses("applications.tasks.TaskErrors"))
@needs("tasks.read", of=QUERY)
def kinds(query: KindsQuery) -> ItemList[TaskError]:
    """List errors of open tasks.

    Groups the open tasks by application and error.
    """
    return tasks.error_groups(app_context(), query.application)


@routes.get("/provisioning/summary", responses=responses("applications.tasks.ProvisioningSummary"))
@needs("tasks.read", of=QUERY)
def get_provisioning_summary(query: ProvisioningSummaryQuery) -> ShownSummary:
    """Count pending tasks.

    With `wait`, answers when nothing is pending or after this time.
    """
    # Each caller that waits takes one of the server's threads. A caller beyond the limit is answered at once
    # and can ask again.
    waits = current_app.config["SUMMARY_WAITS"]
    may_wait = query.wait > 0 and waits.acquire(blocking=False)
    try:
        summary = provisioning_summary.summarize(
            app_context(), query.application, query.wait if may_wait else 0
        )
    finally:
        if may_wait:
            waits.release()
    return ShownSummary(settled=summary.settled, **vars(summary.counts))


@routes.post("/provisioning/tasks/retry", responses=responses("common.Number"))
@needs("tasks.change")
def again_all(body: RetryRequest) -> Number:
    """Retry all tasks of an application.

    Retries failed and held tasks, optionally of one kind of error.
    """
    return tasks.retry_all(app_context(), caller(), body.application, body.kind)


@routes.post("/provisioning/tasks/approve", responses=responses("common.Number"))
@needs("holds.approve")
def approve_tasks(body: ApproveTasksRequest) -> Number:
    """Approve provisioning tasks.

    For an application whose tasks wait for approval. Refused if a task changed since it was listed.
    """
    approvals = [TaskApproval(each.id, each.version) for each in body.tasks]
    return tasks.approve(app_context(), caller(), body.application, approvals)


@routes.post("/provisioning/tasks/<id>/resolve", responses=responses("applications.tasks.Task"))
@needs("tasks.change")
def found(path: IdPath, body: ResolveRequest) -> TaskDetail:
    """Resolve a provisioning task.

    Records whether the account exists. Only for unresolved tasks.
    """
    return tasks.resolve(app_context(), caller(), path.id, body.found, body.remote_id)


@routes.get("/activity", responses=responses("activity.PageOfActivity"))
@needs("activity.read", of=QUERY)
def timeline(query: ActivityQuery) -> Page[ActivityLine]:
    """List activity.

    Requests, import runs, tasks, reconciliations and changes, newest first. Shows only kinds that the caller
    can read.
    """
    until = instant_of(query.until, "until") if query.until else None
    about = activity.SubjectFilter(
        query.kind, query.source, query.application, query.user, query.trouble, until
    )
    return activity.list_activity(app_context(), caller(), page_request(query), about)


@routes.get("/audit", responses=responses("activity.PageOfAuditEntries"))
@needs("audit.read")
def audit(query: AuditQuery) -> Page[AuditLine]:
    """List audit log entries.

    Changes by operators, newest first.
    """
    with app_context().database.reading() as connection:
        return audit_log.entries(connection, page_request(query), query.kind, query.object)


@routes.get("/audit/<id>/undo", responses=responses("access.assignments.Preview"))
@needs("audit.read")
def preview_undo(path: EntryPath) -> Preview:
    """Preview an undo.

    Only changes to assignments and access policies can be undone. Changes nothing.
    """
    return access_undo.preview(app_context(), path.id)


@routes.post("/audit/<id>/undo", responses={204: None})
@needs("assignments.change")
def undo(path: EntryPath, body: ConfirmedRequest) -> Response:
    """Undo a change.

    Only changes to assignments and access policies can be undone.
    """
    access_undo.undo(app_context(), caller(), path.id, sure_of(body))
    return Response(status=204)


@routes.get("/audit/verify", responses=responses("activity.AuditVerification"))
@needs("audit.read")
def verification() -> AuditVerification:
    """Verify the audit log.

    Checks the chain of entries and names the first broken entry.
    """
    with app_context().database.reading_unmasked() as connection:
        broken = audit_log.verify_chain(connection, app_context().keys)
    return AuditVerification(
        holds=broken is None,
        broken_at=broken,
    )
