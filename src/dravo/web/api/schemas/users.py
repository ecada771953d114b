"""Users."""

from __future__ import annotations

from typing import Literal

from dravo.web.api.schemas.access import Access
from dravo.web.api.schemas.accounts import Account
from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import GroupRef, Named, Page, RoleRef, SearchQuery, UserRef


class UsersQuery(SearchQuery):
    """Filters for users."""

    status: Literal["active", "inactive", "left"] | None = None


class UserPath(Model):
    """A user by ID, user name, email or external ID."""

    user: str


class WhyPath(UserPath):
    """One user and one application."""

    application: str


class UserLine(UserRef):
    """A user as in lists."""

    email: str | None
    status: str
    since: str
    modified_at: str


class UserAttribute(Model):
    """An attribute with its source."""

    name: str
    value: str
    source: Named | None


class UserRecord(Model):
    """A source record of a user."""

    id: str
    source: Named
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    gone_at: str | None


class UserGroup(Model):
    """A membership, present or past."""

    group: GroupRef
    source: Named | None
    since: str
    until: str | None


class User(UserLine):
    """A user with all details."""

    attributes: list[UserAttribute]
    records: list[UserRecord]
    groups: list[UserGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_worked_out: bool


class Way(Model):
    """A group or rule that would give access."""

    assignment: str
    group: GroupRef | None
    source: Named | None
    rule: str | None
    role: RoleRef | None


class Why(Model):
    """The explanation of a user's access."""

    user: UserRef
    application: Named
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[Way]


class PageOfUsers(Page[UserLine]):
    """A page of users."""
