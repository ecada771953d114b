"""Manual tasks: accounts of tracked-only applications that operators manage by hand.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.provisioning_settings import ChangedAttribute
    from dravo.client.types.common import UserRef


class BadListLine(TypedDict):
    """A line that cannot be read."""

    line: str
    message: str
    hint: str


class ListColumns(TypedDict):
    """Headings of the columns, where Dravo does not find them by their usual names."""

    user_name: str | None
    email: str | None
    roles: str | None
    active: str | None


class ListComparison(TypedDict):
    """The result of a comparison."""

    columns: dict[str, str]
    read: int
    counts: dict[str, int]
    items: list[ListDifference]
    bad_lines: list[BadListLine]
    can_be_marked: int
    marked: int


class ListDifference(TypedDict):
    """An account that differs."""

    kind: str
    name: str
    line: int | None
    desired: str
    listed: str


class ManualTask(TypedDict):
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
    since: str
    done_at: str | None
    message: str | None


class PageOfManualTasks(TypedDict):
    """A page of manual tasks."""

    items: list[ManualTask]
    total: int
    next: str | None


class TaskMark(TypedDict):
    """A task with the version that the operator saw."""

    id: str
    version: int | None
