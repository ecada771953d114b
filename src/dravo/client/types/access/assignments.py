"""Assignments, role mapping, and previews of changes.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import GroupRef, KeyAndLabel, RoleRef, UserRef


# An assignment or exclusion, with the number of matching users.
Assignment = TypedDict(
    "Assignment",
    {
        "id": "str",
        "application": "KeyAndLabel",
        "kind": "str",
        "excludes": "bool",
        "role": "RoleRef | None",
        "plan": "KeyAndLabel | None",
        "user": "UserRef | None",
        "group": "GroupRef | None",
        "source": "KeyAndLabel | None",
        "rule": "str | None",
        "pattern": "str | None",
        "expression": "str | None",
        "confirmed": "list[str]",
        "future_users": "bool",
        "confirmed_users": "int | None",
        "waiting": "int | None",
        "new_users_since": "str | None",
        "groups": "list[PatternGroup] | None",
        "notes": "list[Note]",
        "matching_users": "int | None",
        "from": "str | None",
        "until": "str | None",
        "from_day": "str | None",
        "until_day": "str | None",
        "note": "str | None",
        "created_at": "str",
        "created_by": "str",
    },
)


class Bulk(TypedDict):
    """The result of a bulk mapping, with a preview."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


class BulkLine(TypedDict):
    """One line of a bulk mapping."""

    number: int
    source: str
    group: str
    role: str
    status: str
    message: str


class ChangeEffects(TypedDict):
    """The effects of a change of settings."""

    effects: list[str]
    access: Preview | None


class CreatedAssignments(TypedDict):
    """Several new assignments."""

    items: list[Assignment]


class MatchingUsers(TypedDict):
    """The users who match a rule."""

    rule: str
    matching_users: int
    users: list[UserRef]


class Note(TypedDict):
    """A warning with its hint."""

    what: str
    hint: str


class PageOfAssignments(TypedDict):
    """A page of assignments."""

    items: list[Assignment]
    total: int
    next: str | None


class PageOfWaitingUsers(TypedDict):
    """A page of users waiting for confirmation."""

    items: list[UserRef]
    total: int
    next: str | None


class PatternGroup(TypedDict):
    """A group that matches a pattern, with the resulting role."""

    group: GroupRef
    outcome: str
    captured: str
    role: str | None
    by: str | None


class PatternTried(TypedDict):
    """The groups that match a pattern."""

    pattern: str
    matching_users: int
    groups: list[PatternGroup]
    notes: list[Note]


class Preview(TypedDict):
    """The result of a change. Each user is counted once per application."""

    application: KeyAndLabel | None
    type_to_confirm: str
    gained: int
    lost: int
    changed: int
    unchanged: int
    accounts: int
    taken: int
    top_gained: int
    confirm: str
    seats: list[PreviewSeats]
    users: list[PreviewUser]


class PreviewSeats(TypedDict):
    """The seats that a change needs."""

    plan: KeyAndLabel
    application: KeyAndLabel
    asked: int
    free: int | None
    wait: int


class PreviewUser(TypedDict):
    """A user affected by a change, with the roles before and after."""

    what: str
    user: UserRef
    application: KeyAndLabel
    before: list[str]
    after: list[str]
    highest: bool
