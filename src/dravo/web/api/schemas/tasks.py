"""Provisioning tasks, their attempts, and errors by kind."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Named, Page, SearchQuery, UserRef


class TroubleKind(Model):
    """Open tasks of one application that failed by one kind of trouble: how many, and one in its own words."""

    application: Named
    kind: str
    status: str
    number: int
    message: str
    hint: str


class TroubleKinds(Model):
    """What open tasks failed by."""

    items: list[TroubleKind]


class ProvisioningSummary(Model):
    """How much provisioning is pending: tasks for accounts, and groups that are provisioned."""

    settled: bool = Field(description="Whether nothing is pending: no user is being recomputed, and no task is waiting that Dravo processes itself.")
    recomputing: int = Field(description="Users whose access is being recomputed.")
    waiting: int = Field(description="Tasks that Dravo processes by itself, with those that wait for a retry.")
    stopped: int = Field(description="Tasks that wait until their application is enabled, connected or resumed.")
    failed: int = Field(description="Tasks that the application refused.")
    held: int = Field(description="Tasks that are held until an operator approves them or changes a setting.")
    unresolved: int = Field(description="Tasks whose outcome Dravo could not learn; an operator resolves them.")


class TasksQuery(SearchQuery):
    """Which tasks."""

    application: str | None = None
    user: str | None = Field(None, description="By id.")
    status: Literal["open", "waiting", "failed", "held", "done", "discarded"] | None = None


class KindsQuery(Model):
    """Of which application; without one, of all."""

    application: str | None = None


class ProvisioningSummaryQuery(Model):
    """Of which application, and how long to wait."""

    application: str | None = Field(None, description="The key of an application; without it, all applications are counted.")
    wait: float = Field(0, ge=0, le=60, description="Answer only when nothing is pending, or after this many seconds (0 to 60).")


class RetryRequest(RequestModel):
    """Which tasks to try again: of an application, and of one kind of trouble if that is said."""

    application: Text
    kind: Text | None = None


class ResolveRequest(RequestModel):
    """What was found where it could not be known whether an account was made."""

    found: Literal["exists", "missing"]
    remote_id: Text | None = None


class Exchange(Model):
    """One request of an attempt, and how it was answered; without bodies and secrets."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    said: str | None
    together: int | None = Field(None, description="how many changes went in one request, where it did not go by itself")


class Attempt(Model):
    """One attempt of a task."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class TaskLine(Model):
    """A task as in lists."""

    id: str
    user: UserRef
    application: Named
    account: str
    status: str
    aim: str
    version: int
    attempts: int
    created_at: str
    next_attempt_at: str | None
    closed_at: str | None
    message: str | None
    hint: str | None
    waits_for: str | None
    kind: str | None


class Task(TaskLine):
    """A task with its attempts, newest first."""

    tries: list[Attempt]


class PageOfTasks(Page[TaskLine]):
    """A page of tasks."""
