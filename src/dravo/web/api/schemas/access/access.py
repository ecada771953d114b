"""Access of users in applications, with its reasons."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.applications.accounts import Account
from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import GroupRef, KeyAndLabel, Page, RoleRef, SearchQuery, UserRef


class AccessQuery(SearchQuery):
    """Filters for access."""

    application: str | None = None
    role: str | None = None
    user: str | None = Field(None, description="ID.")
    group: str | None = Field(None, description="ID of a group: only access through this group.")
    ended: bool = False


class Reason(Model):
    """A reason for access: an assignment, the fallback role, or a retained role."""

    kind: Literal["direct", "group", "everyone", "rule", "pattern", "expression", "fallback", "retained"] = (
        Field(description="Kind of reason, such as direct, group, rule or everyone.")
    )
    assignment: str | None
    rule: str | None
    group: GroupRef | None = Field(description="The group that gives the role, or null.")
    source: KeyAndLabel | None = Field(description="The source of the group, or null.")
    through: list[str]
    since: str = Field(description="Time from which the reason applies.")
    until: str | None
    by: str | None
    note: str | None


class SeatOf(Model):
    """The seat of an access. Without `since`, the user is on the waiting list."""

    plan: KeyAndLabel
    requested_at: str
    since: str | None = Field(description="Time from which the user has the seat; null on the waiting list.")


class Access(Model):
    """A role of a user in an application, with its reasons."""

    id: str = Field(description="ID of the access.")
    user: UserRef = Field(description="The user who has the role.")
    application: KeyAndLabel = Field(description="The application of the role.")
    role: RoleRef = Field(description="The role of the user.")
    since: str = Field(description="Time from which the user has the role.")
    until: str | None
    reasons: list[Reason]
    seat: SeatOf | None
    account: Account | None


class PageOfAccess(Page[Access]):
    """A page of access."""
