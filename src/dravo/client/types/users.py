"""Users.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.access.access import Access
    from dravo.client.types.applications.accounts import Account
    from dravo.client.types.common import GroupRef, KeyAndLabel, RoleRef, UserRef


class AccessExplanation(TypedDict):
    """The explanation of a user's access."""

    user: UserRef
    application: KeyAndLabel
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[PossibleAccess]


class ErasedUser(TypedDict):
    """The result of an erasure."""

    id: str
    erased: dict[str, int]


class Erasure(TypedDict):
    """A user who was erased."""

    id: str
    user_id: str
    erased_at: str
    erased_by: str
    accepted_at: str | None
    accepted_by: str | None


class MarkedUser(TypedDict):
    """A user with a mark."""

    user: UserRef
    status: str
    from_at: str
    note: str | None
    by: str
    at: str


class MarkResult(TypedDict):
    """The result of marking users."""

    users: int


class PageOfErasures(TypedDict):
    """A page of erased users."""

    items: list[Erasure]
    total: int
    next: str | None


class PageOfMarkedUsers(TypedDict):
    """A page of marked users."""

    items: list[MarkedUser]
    total: int
    next: str | None


class PageOfUsers(TypedDict):
    """A page of users."""

    items: list[UserLine]
    total: int
    next: str | None


class PossibleAccess(TypedDict):
    """A group or rule that would give access."""

    assignment: str
    group: GroupRef | None
    source: KeyAndLabel | None
    rule: str | None
    role: RoleRef | None


class RecordAttribute(TypedDict):
    """An attribute as a source reports it."""

    name: str
    value: str


class User(TypedDict):
    """A user with all details."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    status: str
    since: str
    modified_at: str
    attributes: list[UserAttribute]
    records: list[UserRecord]
    groups: list[UserGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_recomputed: bool
    mark: UserMark | None
    manager: UserRef | None


class UserAttribute(TypedDict):
    """An attribute with its source."""

    name: str
    value: str
    source: KeyAndLabel | None


class UserGroup(TypedDict):
    """A membership, present or past."""

    group: GroupRef
    source: KeyAndLabel | None
    since: str
    until: str | None


class UserLine(TypedDict):
    """A user as in lists."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    status: str
    since: str
    modified_at: str


class UserMark(TypedDict):
    """The mark of a user by an operator, which wins over all sources."""

    status: str
    from_at: str
    note: str | None
    by: str
    at: str
    applies: bool
    sources_disagree: bool


class UserRecord(TypedDict):
    """A source record of a user."""

    id: str
    source: KeyAndLabel
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    deleted_at: str | None
    left_out: str | None
    waiting: str | None
    idle: bool
    attributes: list[RecordAttribute]
