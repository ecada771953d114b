"""Access of users in applications, with its reasons."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.accounts import Account
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

    kind: Literal["direct", "group", "everyone", "rule", "pattern", "fallback", "retained"]
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: KeyAndLabel | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class SeatOf(Model):
    """The seat of an access. Without `since`, the user is on the waiting list."""

    plan: KeyAndLabel
    requested_at: str
    since: str | None


class Access(Model):
    """A role of a user in an application, with its reasons."""

    id: str
    user: UserRef
    application: KeyAndLabel
    role: RoleRef
    since: str
    until: str | None
    reasons: list[Reason]
    seat: SeatOf | None
    account: Account | None


class PageOfAccess(Page[Access]):
    """A page of access."""
