"""The access matrix, comparison and simulation.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import GroupRef, Named, RoleRef, UserRef
    from dravo.client.types.users import UserLine


class Compared(TypedDict):
    """Two users side by side; what differs comes first."""

    users: list[UserLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


class ComparedApplication(TypedDict):
    """What each of two users has in an application."""

    application: Named
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(TypedDict):
    """Which of two users are in a group."""

    group: GroupRef
    source: Named | None
    sides: list[bool]


class ComparedRole(TypedDict):
    """A role of one of two users, and what it rests on."""

    role: str
    because: list[str]


class Expected(TypedDict):
    """What somebody would have."""

    active: bool
    items: list[ExpectedRole]


class ExpectedRole(TypedDict):
    """A role that somebody would get, why, and what would become of the account."""

    application: Named
    role: RoleRef
    reasons: list[str]
    account: str | None


class Matrix(TypedDict):
    """A page of the matrix, with its columns."""

    items: list[MatrixUser]
    total: int
    next: str | None
    applications: list[Named]
    whole: bool


class MatrixGroup(TypedDict):
    """A group with what it gives, by application."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str
    roles: dict[str, list[str]]


class MatrixOfGroups(TypedDict):
    """A page of the matrix of groups, with its columns."""

    items: list[MatrixGroup]
    total: int
    next: str | None
    applications: list[Named]


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


class Move(TypedDict):
    """Somebody who has other roles in an application at one instant than at an earlier one, and by what."""

    id: str
    user: UserRef
    application: Named
    what: str
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


class PageOfMoves(TypedDict):
    """A page of changes by user; the total counts users."""

    items: list[Move]
    total: int
    next: str | None
