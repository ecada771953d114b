"""Manual tasks: accounts of tracked-only applications that operators manage by hand."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.applications.provisioning_settings import ChangedAttribute
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, SearchQuery, UserRef

Action = Literal["create", "change", "deactivate", "delete"]


class ManualTasksQuery(SearchQuery):
    """Filters for manual tasks."""

    status: Literal["open", "done"] = Field("open", description="Status: open (default) or done.")
    action: Action | None = Field(
        None, description="Only open tasks with this action: create, change, deactivate or delete."
    )


class ManualTaskExportQuery(Model):
    """Which open manual tasks to export."""

    action: Action | None = Field(None, description="Only tasks with this action.")


class ManualTask(Model):
    """An account to create, change or remove by hand, or one that was."""

    id: str = Field(description="ID of the task.")
    version: int = Field(description="Version of the desired state; needed to mark the task as done.")
    status: Literal["open", "done"] = Field(description="Status: open or done.")
    action: Action | None = Field(
        description="What an operator does: create, change, deactivate or delete; null for nothing."
    )
    desired_state: str = Field(description="Desired state of the account, in words.")
    user: UserRef = Field(description="The user of the account.")
    email: str | None = Field(description="Email address of the user.")
    roles: list[str] = Field(description="Labels of the roles; of an account to delete, its present roles.")
    plan: str | None = Field(description="Label of the license plan, or null.")
    changes: list[ChangedAttribute] = Field(description="Attributes to change in an existing account.")
    since: str = Field(description="Time since which the account waits.")
    done_at: str | None = Field(description="Time at which the task was marked as done, or null.")
    message: str | None = Field(description="Who marked the task as done, or null.")


class PageOfManualTasks(Page[ManualTask]):
    """A page of manual tasks."""


class TaskMark(RequestModel):
    """A task with the version that the operator saw."""

    id: Text = Field(description="ID of the task.")
    version: int | None = Field(
        None, description="Version of the listed task. If it changed, the request is refused with 409."
    )


class MarkDoneRequest(RequestModel):
    """Tasks to mark as done."""

    tasks: list[TaskMark] = Field(min_length=1, max_length=1_000, description="The tasks, at most 1,000.")


class MarkOpenRequest(RequestModel):
    """Tasks that were marked as done by mistake."""

    tasks: list[Text] = Field(min_length=1, max_length=1_000, description="IDs of the tasks.")


class ListColumns(RequestModel):
    """Headings of the columns, where Dravo does not find them by their usual names."""

    user_name: Text | None = Field(None, description="Heading of the column with user names.")
    email: Text | None = Field(None, description="Heading of the column with email addresses.")
    roles: Text | None = Field(None, description="Heading of the column with roles.")
    active: Text | None = Field(None, description="Heading of the column that tells inactive accounts.")


class CompareListRequest(RequestModel):
    """A CSV export of the application's accounts."""

    content: str = Field(max_length=10_000_000, description="The CSV file in base64.")
    columns: ListColumns | None = Field(None, description="Headings of the columns.")
    mark_done: bool = Field(
        False, description="Whether to mark open tasks as done whose account is in the list as it should be."
    )


class BadListLine(Model):
    """A line that cannot be read."""

    line: str = Field(description="Number of the line.")
    message: str = Field(description="What is wrong, in a sentence.")
    hint: str


class ListDifference(Model):
    """An account that differs."""

    kind: Literal["missing", "unexpected", "roles", "status"] = Field(
        description="Kind: missing (in the list), unexpected (no user here), roles or status."
    )
    name: str = Field(description="Name of the user, or the user name in the list.")
    line: int | None = Field(description="Line of the list, or null.")
    desired: str = Field(description="Desired roles or status, in words.")
    listed: str = Field(description="Roles or status in the list, in words.")


class ListComparison(Model):
    """The result of a comparison."""

    columns: dict[str, str] = Field(description="Headings that were used, by what they mean.")
    read: int = Field(description="Number of lines that were read.")
    counts: dict[str, int] = Field(
        description="Number of accounts by kind: missing, unexpected, roles, status and same."
    )
    items: list[ListDifference] = Field(description="The first 5,000 differences.")
    bad_lines: list[BadListLine] = Field(description="The first 100 lines that cannot be read.")
    can_be_marked: int = Field(description="Number of open tasks that `mark_done` would mark as done.")
    marked: int = Field(description="Number of tasks that were marked as done.")
