"""Provisioning tasks, their attempts, and errors by kind."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyAndLabel, Page, SearchQuery, UserRef


class TaskError(Model):
    """Open tasks of one application with the same error."""

    application: KeyAndLabel
    kind: str = Field(description="Kind of error.")
    status: str = Field(description="Status: waiting, failed or held.")
    number: int = Field(description="Number of open tasks with this error.")
    message: str = Field(description="Error in a sentence.")
    hint: str


class TaskErrors(Model):
    """The errors of open tasks."""

    items: list[TaskError]


class ProvisioningSummary(Model):
    """The numbers of pending tasks."""

    settled: bool = Field(
        description="Whether nothing is pending: no user is being recomputed, and no task is waiting "
        "that Dravo processes itself."
    )
    recomputing: int = Field(description="Users whose access is being recomputed.")
    waiting: int = Field(
        description="Tasks that Dravo processes automatically, with those that wait for a retry."
    )
    stopped: int = Field(
        description="Tasks that wait until their application is enabled, connected or resumed."
    )
    manual: int = Field(description="Tasks of tracked-only applications, which operators carry out.")
    failed: int = Field(description="Tasks that the application refused.")
    held: int = Field(description="Tasks that are held until an operator approves them or changes a setting.")
    unresolved: int = Field(
        description="Tasks whose outcome Dravo could not learn; an operator resolves them."
    )


class TasksQuery(SearchQuery):
    """Filters for tasks."""

    application: str | None = None
    user: str | None = Field(None, description="ID.")
    status: Literal["open", "waiting", "approval", "manual", "failed", "held", "done", "discarded"] | None = (
        None
    )


class KindsQuery(Model):
    """An application, or all."""

    application: str | None = None


class ProvisioningSummaryQuery(Model):
    """An application, and how long to wait."""

    application: str | None = Field(
        None, description="The key of an application; without it, all applications are counted."
    )
    wait: float = Field(
        0,
        ge=0,
        le=60,
        description="Answer only when nothing is pending, or after this many seconds (0 to 60).",
    )


class TaskApproval(RequestModel):
    """A task with the version that the operator saw."""

    id: Text = Field(description="ID of the task.")
    version: int = Field(description="Version of the listed task.")


class ApproveTasksRequest(RequestModel):
    """Tasks to approve."""

    application: Text
    tasks: list[TaskApproval] = Field(min_length=1, max_length=1_000, description="The tasks, at most 1,000.")


class RetryRequest(RequestModel):
    """The tasks to retry."""

    application: Text
    kind: Text | None = Field(None, description="Only tasks with this kind of error.")


class ResolveRequest(RequestModel):
    """The outcome of an unresolved task."""

    found: Literal["exists", "missing"]
    remote_id: Text | None = None


class Exchange(Model):
    """A request of an attempt with its response."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None = Field(description="HTTP status of the response, or null without a response.")
    milliseconds: int
    excerpt: str | None
    bulk_operations: int | None = Field(None, description="Number of changes in a bulk request, or null.")


class Attempt(Model):
    """One attempt of a task."""

    version: int
    started_at: str
    ended_at: str
    outcome: str = Field(description="Result of the attempt, such as done, failed or waiting.")
    message: str | None = Field(description="Error of the attempt in a sentence, or null.")
    exchanges: list[Exchange]


class TaskLine(Model):
    """A task as in lists."""

    id: str = Field(description="ID of the task.")
    user: UserRef = Field(description="The user of the account.")
    application: KeyAndLabel = Field(description="The application to which the change is sent.")
    account: str
    status: str = Field(description="Status: waiting, manual, failed, held, done or discarded.")
    desired_state: str
    version: int = Field(description="Version of the desired state that the task sends.")
    attempts: int
    created_at: str
    next_attempt_at: str | None
    closed_at: str | None
    message: str | None = Field(description="Last error of the task in a sentence, or null.")
    hint: str | None
    waits_for: str | None
    kind: str | None = Field(description="Kind of error, or null.")
    approved_by: str | None = Field(description="Name of the operator who approved the task last, or null.")


class Task(TaskLine):
    """A task with its attempts, newest first."""

    tries: list[Attempt]


class PageOfTasks(Page[TaskLine]):
    """A page of tasks."""
