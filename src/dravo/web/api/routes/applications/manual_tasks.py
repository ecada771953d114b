"""Manual tasks of tracked-only applications, and the change to provisioned and back."""

from __future__ import annotations

from flask import Response

from dravo.services.applications import account_list_comparison, manual_tasks, tracking
from dravo.services.applications.account_list_comparison import ListComparison
from dravo.services.applications.manual_tasks import ManualTask, TaskMark
from dravo.services.changes.effects import PreviewedEffects
from dravo.services.results import Number
from dravo.services.uploads import file_content
from dravo.store.pagination import Page
from dravo.store.provisioning.manual import ManualTaskFilter
from dravo.web.api.auth import PATH, api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.downloads import file_response
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.applications.manual_tasks import (
    CompareListRequest,
    ManualTaskExportQuery,
    ManualTasksQuery,
    MarkDoneRequest,
    MarkOpenRequest,
)
from dravo.web.api.schemas.applications.provisioning_settings import TrackedOnlyRequest
from dravo.web.api.schemas.common import KeyPath
from dravo.web.bodies import LARGEST_BODY

routes = api_blueprint("manual_tasks")


@routes.get(
    "/applications/<key>/manual-tasks", responses=responses("applications.manual_tasks.PageOfManualTasks")
)
@needs("tasks.read", of=PATH)
def list_manual_tasks(path: KeyPath, query: ManualTasksQuery) -> Page[ManualTask]:
    """List manual tasks.

    Accounts of a tracked-only application to create, change or remove by hand.
    """
    only = ManualTaskFilter(query.status == "done", query.action, query.q)
    return manual_tasks.list_tasks(app_context(), path.key, page_request(query), only)


@routes.get("/applications/<key>/manual-tasks/export", responses={200: None})
@needs("tasks.read", of=PATH)
def export_manual_tasks(path: KeyPath, query: ManualTaskExportQuery) -> Response:
    """Export manual tasks.

    Streams all open tasks as CSV.
    """
    pieces = manual_tasks.export(app_context(), path.key, ManualTaskFilter(action=query.action))
    return file_response(pieces, "manual-tasks", "csv")


@routes.post("/applications/<key>/manual-tasks/done", responses=responses("common.Number"))
@needs("accounts.change", of=PATH)
def mark_manual_tasks_done(path: KeyPath, body: MarkDoneRequest) -> Number:
    """Mark manual tasks as done.

    The accounts then count as in sync. Refused if a task changed since it was listed.
    """
    marks = [TaskMark(each.id, each.version) for each in body.tasks]
    return manual_tasks.mark_done(app_context(), caller(), path.key, marks)


@routes.post("/applications/<key>/manual-tasks/open", responses=responses("common.Number"))
@needs("accounts.change", of=PATH)
def mark_manual_tasks_open(path: KeyPath, body: MarkOpenRequest) -> Number:
    """Reopen manual tasks.

    For tasks that were marked as done by mistake. Each must be the last task of its account.
    """
    return manual_tasks.mark_open(app_context(), caller(), path.key, body.tasks)


@routes.post(
    "/applications/<key>/manual-tasks/comparison",
    responses=responses("applications.manual_tasks.ListComparison"),
)
@needs("accounts.change", of=PATH, largest=LARGEST_BODY)
def compare_account_list(path: KeyPath, body: CompareListRequest) -> ListComparison:
    """Compare with a list of accounts.

    Takes a CSV export of the application's accounts. Changes nothing without `mark_done`.
    """
    content = file_content(body.content, "content")
    columns = body.columns.model_dump(exclude_none=True) if body.columns else {}
    return account_list_comparison.compare(
        app_context(), caller(), path.key, content, columns, mark=body.mark_done
    )


@routes.post(
    "/applications/<key>/tracked-only/preview", responses=responses("access.assignments.ChangeEffects")
)
@needs("applications.read", of=PATH)
def preview_tracked_only(path: KeyPath, body: TrackedOnlyRequest) -> PreviewedEffects:
    """Preview tracking or provisioning accounts.

    Returns the effects in sentences. Change `tracked_only` of the application to apply them.
    """
    return tracking.preview_switch(app_context(), path.key, tracked_only=body.tracked_only).shown()
