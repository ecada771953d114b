"""Access requests of users."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, KeyAndLabel, Page, RoleRef, SearchQuery, UserRef

Status = Literal["open", "approved", "refused", "withdrawn"]


class OfferedRole(Model):
    """A role that you can request."""

    key: str
    label: str = Field(description="Label of the role.")
    description: str | None = Field(description="What the role permits.")


class OfferedApplication(Model):
    """An application that you can request."""

    key: str
    label: str = Field(description="Label of the application.")
    roles: list[OfferedRole] = Field(description="Roles that you do not have yet, the lowest first.")


class OwnRequestLine(Model):
    """One of your access requests."""

    id: str = Field(description="ID of the request.")
    status: Status = Field(description="Status: open, approved, refused or withdrawn.")
    application: KeyAndLabel
    role: str | None = Field(description="Label of the requested role, or null.")
    reason: str = Field(description="Why you need access.")
    requested_at: str
    decided_at: str | None
    answer: str | None = Field(description="Answer of the operator, or null.")


class OwnRequests(Model):
    """Your access requests, and what you can request."""

    items: list[OwnRequestLine]
    offered: list[OfferedApplication]


class RequestAccessRequest(RequestModel):
    """A request for access to an application."""

    application: Text = Field(description="Key of the application.")
    role: Text | None = Field(None, description="Key of the role; empty lets the operator choose.")
    reason: Text = Field(description="Why you need access.")


class AccessRequestLine(Model):
    """An access request of a user."""

    id: str = Field(description="ID of the request.")
    status: Status = Field(description="Status: open, approved, refused or withdrawn.")
    user: UserRef
    application: KeyAndLabel
    role: RoleRef | None = Field(description="Requested role, or null if the operator chooses.")
    reason: str = Field(description="Why the user needs access.")
    requested_at: str
    decided_at: str | None
    decided_by: str | None
    answer: str | None = Field(description="Answer for the user, or null.")
    assignment: str | None = Field(description="ID of the assignment that the approval created, or null.")


class PageOfAccessRequests(Page[AccessRequestLine]):
    """A page of access requests."""


class AccessRequestsQuery(SearchQuery):
    """Which access requests to list."""

    status: Status | None = Field(None, description="Status: open, approved, refused or withdrawn.")
    application: str | None = Field(None, description="Key of an application.")


class ApproveRequest(ConfirmedRequest):
    """What an approval gives."""

    role: Text | None = Field(None, description="Key of the role; empty for the requested role.")
    until: Text | None = Field(None, description="Last day, such as 2031-04-02; empty for no end.")
    answer: Text = Field("", description="Answer for the user.")


class RefuseRequest(RequestModel):
    """Why a request is refused."""

    answer: Text = Field(description="Reason; the user sees it.")
