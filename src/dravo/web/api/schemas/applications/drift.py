"""Reconciliation and drift."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.applications.provisioning_settings import ChangedAttribute
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, PageQuery, SearchQuery, UserRef


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


class AdoptRequest(DriftRequest):
    """Accounts without a user to link to the users who match."""

    create_users: bool = Field(False, description="Whether to create users for accounts that match no user.")


class FoundAccount(Model):
    """What is done with an account without a user."""

    id: str = Field(description="ID of the difference.")
    name: str = Field(description="Name of the account.")
    action: Literal["link", "assign_and_link", "create_user", "leave"] = Field(
        description="What is done: link, assign_and_link (assign the account's role first), create_user or "
        "leave."
    )
    user: UserRef | None = Field(description="The user who matches, or null.")
    role: str | None = Field(description="Key of the role that the user gets, or null.")
    message: str = Field(description="Why the account is left to operators, in a sentence.")
    hint: str


class FoundAccounts(Model):
    """What is done with accounts without a user."""

    linked: int = Field(description="Number of accounts that are linked.")
    created: int = Field(description="Number of users who are created.")
    left: int = Field(description="Number of accounts that are left to operators.")
    items: list[FoundAccount]


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
    message: str | None = Field(description="Why the policy left the account to operators, or null.")
    hint: str | None


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


class AccountComparisonQuery(SearchQuery):
    """Filters for the accounts on both sides."""

    status: Literal["same", "different", "missing", "pending", "unexpected", "ignored"] | None = Field(
        None, description="Only accounts with this status."
    )


class ComparedAccount(Model):
    """An account of the application, or one that should be there."""

    id: str = Field(description="ID of the account; without a user, ID of the difference.")
    status: Literal["same", "different", "missing", "pending", "unexpected", "ignored"] = Field(
        description="Status: same, different, missing (there), pending, unexpected (no user) or ignored."
    )
    name: str = Field(description="Name of the user, or the user name in the application.")
    user: UserRef | None = Field(description="The user, or null.")
    remote_id: str | None
    desired: str = Field(description="Desired state in words; empty without a user.")
    listed: str = Field(
        description="State in the application in words, as applied or read last; empty without an account."
    )
    differences: list[str] = Field(
        description="Attributes that differ, with their values in the application."
    )


class PageOfComparedAccounts(Page[ComparedAccount]):
    """A page of accounts."""
