"""Access of users in applications, with its reasons.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.accounts import Account
    from dravo.client.types.common import GroupRef, KeyAndLabel, RoleRef, UserRef


class Access(TypedDict):
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


class PageOfAccess(TypedDict):
    """A page of access."""

    items: list[Access]
    total: int
    next: str | None


class Reason(TypedDict):
    """A reason for access: an assignment, the fallback role, or a retained role."""

    kind: str
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: KeyAndLabel | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class SeatOf(TypedDict):
    """The seat of an access. Without `since`, the user is on the waiting list."""

    plan: KeyAndLabel
    requested_at: str
    since: str | None
