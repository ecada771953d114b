"""The access matrix, comparison and simulation.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import GroupRef, KeyAndLabel, RoleRef, UserRef
    from dravo.client.types.users import UserLine


class AccessDifference(TypedDict):
    """A user whose roles in an application differ between two times."""

    id: str
    user: UserRef
    application: KeyAndLabel
    what: str
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


class Compared(TypedDict):
    """The comparison of two users; differences first."""

    users: list[UserLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


class ComparedApplication(TypedDict):
    """The roles of two users in an application."""

    application: KeyAndLabel
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(TypedDict):
    """A group of one or both users."""

    group: GroupRef
    source: KeyAndLabel | None
    sides: list[bool]


class ComparedRole(TypedDict):
    """A role of one of two users, with its reason."""

    role: str
    because: list[str]


class Expected(TypedDict):
    """The access of a simulated user."""

    active: bool
    items: list[ExpectedRole]


class ExpectedRole(TypedDict):
    """A role that a simulated user would get."""

    application: KeyAndLabel
    role: RoleRef
    reasons: list[str]
    account: str | None


class Matrix(TypedDict):
    """A page of the matrix, with its columns."""

    items: list[MatrixUser]
    total: int
    next: str | None
    applications: list[KeyAndLabel]
    whole: bool


class MatrixGroup(TypedDict):
    """A group with its roles by application."""

    id: str
    name: str
    external_id: str | None
    source: KeyAndLabel | None
    members: int
    assignments: int
    modified_at: str
    roles: dict[str, list[str]]


class MatrixOfGroups(TypedDict):
    """A page of the group matrix with its columns."""

    items: list[MatrixGroup]
    total: int
    next: str | None
    applications: list[KeyAndLabel]


class MatrixUser(TypedDict):
    """A user with their roles, by application."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    status: str
    since: str
    modified_at: str
    roles: dict[str, list[str]]


class PageOfAccessDifferences(TypedDict):
    """A page of changes; the total counts users."""

    items: list[AccessDifference]
    total: int
    next: str | None
