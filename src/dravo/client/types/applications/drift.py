"""Reconciliation and drift.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.provisioning_settings import ChangedAttribute
    from dravo.client.types.common import UserRef


class ComparedAccount(TypedDict):
    """An account of the application, or one that should be there."""

    id: str
    status: str
    name: str
    user: UserRef | None
    remote_id: str | None
    desired: str
    listed: str
    differences: list[str]


class DriftLine(TypedDict):
    """A difference between an application and its desired state."""

    id: str
    kind: str
    status: str
    name: str
    user: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str
    message: str | None
    hint: str | None


class FoundAccount(TypedDict):
    """What is done with an account without a user."""

    id: str
    name: str
    action: str
    user: UserRef | None
    role: str | None
    message: str
    hint: str


class FoundAccounts(TypedDict):
    """What is done with accounts without a user."""

    linked: int
    created: int
    left: int
    items: list[FoundAccount]


class MadeUser(TypedDict):
    """The user created for an account."""

    user: str


class PageOfComparedAccounts(TypedDict):
    """A page of accounts."""

    items: list[ComparedAccount]
    total: int
    next: str | None


class PageOfDrift(TypedDict):
    """A page of differences."""

    items: list[DriftLine]
    total: int
    next: str | None


class PageOfRuns(TypedDict):
    """A page of runs."""

    items: list[Run]
    total: int
    next: str | None


class RepairLine(TypedDict):
    """What a repair does to one account or group."""

    id: str
    kind: str
    name: str
    effect: str


class RepairPreview(TypedDict):
    """The result of a repair."""

    number: int
    items: list[RepairLine]


class Run(TypedDict):
    """A reconciliation with its progress and result."""

    id: str
    status: str
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    groups: int
    read: int
    counts: dict[str, int]
    message: str | None
    hint: str | None
