"""Users."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.access.access import Access
from dravo.web.api.schemas.applications.accounts import Account
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import (
    ConfirmedRequest,
    GroupRef,
    KeyAndLabel,
    Page,
    RoleRef,
    SearchQuery,
    UserRef,
)


class UsersQuery(SearchQuery):
    """Filters for users."""

    status: Literal["active", "inactive", "pending", "left"] | None = None


class UserPath(Model):
    """A user by ID, user name, email or external ID."""

    user: str


class AccessExplanationPath(UserPath):
    """One user and one application."""

    application: str


class UserLine(UserRef):
    """A user as in lists."""

    email: str | None
    status: str = Field(description="Status: active, inactive, pending or left.")
    since: str = Field(description="Time since when the user has this status.")
    modified_at: str


class UserAttribute(Model):
    """An attribute with its source."""

    name: str = Field(description="Name of the attribute.")
    value: str = Field(description="Merged value of the attribute.")
    source: KeyAndLabel | None


class RecordAttribute(Model):
    """An attribute as a source reports it."""

    name: str = Field(description="Name of the attribute.")
    value: str = Field(description="Value in the source record, masked if the operator may not see it.")


class UserRecord(Model):
    """A source record of a user."""

    id: str = Field(description="ID of the source record.")
    source: KeyAndLabel = Field(description="The source that reports the record.")
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    deleted_at: str | None
    left_out: str | None = Field(description="Why the record does not count, such as handed_over, or null.")
    waiting: str | None = Field(
        description="What waits until the source is enabled: change, deactivation, deletion or null."
    )
    idle: bool = Field(description="Whether the user is inactive for not having signed in for long.")
    attributes: list[RecordAttribute] = Field(description="Attributes in the source record.")


class UserGroup(Model):
    """A membership, present or past."""

    group: GroupRef
    source: KeyAndLabel | None
    since: str = Field(description="Time from which the user is a member.")
    until: str | None


class UserMark(Model):
    """The mark of a user by an operator, which wins over all sources."""

    status: str = Field(description="Status of the user by the mark: inactive or left.")
    from_at: str = Field(description="Time from which the mark applies.")
    note: str | None = Field(description="Note about the mark, or null.")
    by: str = Field(description="Name of the operator who marked the user.")
    at: str = Field(description="Time at which the operator marked the user.")
    applies: bool = Field(description="Whether the time of the mark has come.")
    sources_disagree: bool = Field(
        description="Whether a source reports the user as active although the mark applies."
    )


class MarkedUser(Model):
    """A user with a mark."""

    user: UserRef = Field(description="The marked user.")
    status: str = Field(description="Status of the user by the mark: inactive or left.")
    from_at: str = Field(description="Time from which the mark applies.")
    note: str | None = Field(description="Note about the mark, or null.")
    by: str = Field(description="Name of the operator who marked the user.")
    at: str = Field(description="Time at which the operator marked the user.")


class PageOfMarkedUsers(Page[MarkedUser]):
    """A page of marked users."""


class MarkResult(Model):
    """The result of marking users."""

    users: int = Field(description="Number of marked users, or of users without their mark.")


class UnmarkUsersRequest(ConfirmedRequest):
    """Users whose mark is removed."""

    users: list[Text] = Field(
        min_length=1, max_length=500, description="Users by ID, user name, email or external ID."
    )


class MarkUsersRequest(UnmarkUsersRequest):
    """Users to mark as inactive or left."""

    status: Literal["inactive", "left"] = Field(description="Status of the users by the mark.")
    from_: Text | None = Field(
        None,
        alias="from",
        description="Day or time from which the mark applies, or null for now.",
    )
    note: Text | None = Field(None, description="Note about the mark, for other operators.")


class User(UserLine):
    """A user with all details."""

    attributes: list[UserAttribute]
    records: list[UserRecord]
    groups: list[UserGroup] = Field(description="Groups of the user.")
    access: list[Access]
    ended: list[Access]
    accounts: list[Account] = Field(description="Accounts of the user.")
    being_recomputed: bool
    mark: UserMark | None = Field(description="Mark by an operator, or null.")
    manager: UserRef | None = Field(
        description="Manager of the user, where the source identifies one; or null."
    )


class PossibleAccess(Model):
    """A group or rule that would give access."""

    assignment: str
    group: GroupRef | None
    source: KeyAndLabel | None
    rule: str | None
    role: RoleRef | None


class AccessExplanation(Model):
    """The explanation of a user's access."""

    user: UserRef = Field(description="The explained user.")
    application: KeyAndLabel = Field(description="The explained application.")
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[PossibleAccess]


class PageOfUsers(Page[UserLine]):
    """A page of users."""


class ErasurePath(Model):
    """One erasure."""

    id: str = Field(description="ID of the erasure.")


class EraseUserRequest(RequestModel):
    """The confirmation of an erasure."""

    confirm: Text | None = Field(None, description="Typed name of the user.")


class ErasedUser(Model):
    """The result of an erasure."""

    id: str = Field(description="ID of the erasure.")
    erased: dict[str, int] = Field(description="Number of erased rows by kind.")


class Erasure(Model):
    """A user who was erased."""

    id: str = Field(description="ID of the erasure.")
    user_id: str = Field(description="ID of the user, whose row stays without values.")
    erased_at: str = Field(description="When the user was erased.")
    erased_by: str = Field(description="Name of the operator.")
    accepted_at: str | None = Field(description="When the records of the user were accepted again, or null.")
    accepted_by: str | None = Field(description="Name of the operator who accepted them, or null.")


class PageOfErasures(Page[Erasure]):
    """A page of erased users."""
