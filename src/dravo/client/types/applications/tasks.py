"""Provisioning tasks, their attempts, and errors by kind.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, UserRef


class Attempt(TypedDict):
    """One attempt of a task."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class Exchange(TypedDict):
    """A request of an attempt with its response."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    excerpt: str | None
    bulk_operations: int | None


class PageOfTasks(TypedDict):
    """A page of tasks."""

    items: list[TaskLine]
    total: int
    next: str | None


class ProvisioningSummary(TypedDict):
    """The numbers of pending tasks."""

    settled: bool
    recomputing: int
    waiting: int
    stopped: int
    manual: int
    failed: int
    held: int
    unresolved: int


class Task(TypedDict):
    """A task with its attempts, newest first."""

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
    tries: list[Attempt]


class TaskApproval(TypedDict):
    """A task with the version that the operator saw."""

    id: str
    version: int


class TaskError(TypedDict):
    """Open tasks of one application with the same error."""

    application: KeyAndLabel
    kind: str
    status: str
    number: int
    message: str
    hint: str


class TaskErrors(TypedDict):
    """The errors of open tasks."""

    items: list[TaskError]


class TaskLine(TypedDict):
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
