"""Access requests of users.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, RoleRef, UserRef


class AccessRequestLine(TypedDict):
    """An access request of a user."""

    id: str
    status: str
    user: UserRef
    application: KeyAndLabel
    role: RoleRef | None
    reason: str
    requested_at: str
    decided_at: str | None
    decided_by: str | None
    answer: str | None
    assignment: str | None


class OfferedApplication(TypedDict):
    """An application that you can request."""

    key: str
    label: str
    roles: list[OfferedRole]


class OfferedRole(TypedDict):
    """A role that you can request."""

    key: str
    label: str
    description: str | None


class OwnRequestLine(TypedDict):
    """One of your access requests."""

    id: str
    status: str
    application: KeyAndLabel
    role: str | None
    reason: str
    requested_at: str
    decided_at: str | None
    answer: str | None


class OwnRequests(TypedDict):
    """Your access requests, and what you can request."""

    items: list[OwnRequestLine]
    offered: list[OfferedApplication]


class PageOfAccessRequests(TypedDict):
    """A page of access requests."""

    items: list[AccessRequestLine]
    total: int
    next: str | None
