"""Access of users in applications, with its reasons."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.accounts import Account
from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import GroupRef, Named, Page, RoleRef, SearchQuery, UserRef


class AccessQuery(SearchQuery):
    """Which access."""

    application: str | None = None
    role: str | None = None
    user: str | None = Field(None, description="By id.")
    group: str | None = Field(None, description="By id: access in the roles that this group gives.")
    ended: bool = False


class Reason(Model):
    """Why: an assignment of some kind; or that a role was the default, or was kept."""

    kind: Literal["direct", "group", "everyone", "rule", "pattern", "fallback", "retained"]
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: Named | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class SeatOf(Model):
    """The seat that comes with an access, since when; without `since` it is still waited for."""

    plan: Named
    requested_at: str
    since: str | None


class Access(Model):
    """Who has which role where, since when and why."""

    id: str
    user: UserRef
    application: Named
    role: RoleRef
    since: str
    until: str | None
    reasons: list[Reason]
    seat: SeatOf | None
    account: Account | None


class PageOfAccess(Page[Access]):
    """A page of access."""
