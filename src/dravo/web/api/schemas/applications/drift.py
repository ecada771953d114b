"""Reconciliation and drift."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.applications.provisioning_settings import ChangedAttribute
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, PageQuery


class DriftQuery(PageQuery):
    """Filters for differences."""

    kind: (
        Literal[
            "missing",
            "unexpected",
            "attributes",
            "role",
            "status",
            "group_missing",
            "group_name",
            "group_members",
            "group_unexpected",
        ]
        | None
    ) = None
    status: Literal["open", "repairing", "ignored"] | None = None


class DriftRequest(RequestModel):
    """Differences by ID."""

    ids: list[Text] = Field(min_length=1, max_length=1_000, description="IDs of the differences.")


class IgnoreRequest(DriftRequest):
    """Differences to ignore or to stop ignoring."""

    ignored: bool = True


class LinkRequest(RequestModel):
    """The user to link an account to."""

    user: Text


class CreateUserFromAccountRequest(RequestModel):
    """The role of a new user; omitted for the role of the account."""

    role: Text | None = None
    confirm: Text | None = Field(
        None, description="Typed name of the account; required if the user would get more access."
    )


class Run(Model):
    """A reconciliation with its progress and result."""

    id: str = Field(description="ID of the run.")
    status: str = Field(description="Status: waiting, running, done, stopped or failed.")
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    groups: int = Field(description="Number of compared groups.")
    read: int
    counts: dict[str, int]
    message: str | None = Field(description="Why the run was stopped or failed, or null.")
    hint: str | None


class PageOfRuns(Page[Run]):
    """A page of runs."""


class DriftLine(Model):
    """A difference between an application and its desired state."""

    id: str = Field(description="ID of the difference.")
    kind: str = Field(description="Kind of difference, such as missing, attributes or role.")
    status: str = Field(description="Status: open, repairing, repaired or ignored.")
    name: str = Field(description="Name of the user or group.")
    user: str | None = Field(description="ID of the user, or null.")
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str


class PageOfDrift(Page[DriftLine]):
    """A page of differences."""


class RepairLine(Model):
    """What a repair does to one account or group."""

    id: str = Field(description="ID of the difference.")
    kind: str = Field(description="Kind of difference.")
    name: str = Field(description="Name of the user or group.")
    effect: str


class RepairPreview(Model):
    """The result of a repair."""

    number: int = Field(description="Number of differences to repair.")
    items: list[RepairLine]


class MadeUser(Model):
    """The user created for an account."""

    user: str
