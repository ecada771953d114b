"""Assignments, role mapping, and previews of changes.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import GroupRef, Named, RoleRef, UserRef


# Who gets a role, is let in, or is kept out; and how many users that reaches now.
Assignment = TypedDict(
    "Assignment",
    {
        "id": "str",
        "application": "Named",
        "kind": "str",
        "excludes": "bool",
        "role": "RoleRef | None",
        "plan": "Named | None",
        "user": "UserRef | None",
        "group": "GroupRef | None",
        "source": "Named | None",
        "rule": "str | None",
        "pattern": "str | None",
        "confirmed": "list[str]",
        "future_users": "bool",
        "confirmed_users": "int | None",
        "waiting": "int | None",
        "new_users_since": "str | None",
        "groups": "list[PatternGroup] | None",
        "notes": "list[Note]",
        "reach": "int | None",
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
    """What came of many lines: each by itself, and what they would do together."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


class BulkLine(TypedDict):
    """One line of what was pasted."""

    number: int
    source: str
    group: str
    role: str
    status: str
    message: str


class Note(TypedDict):
    """What is wrong, and the hint."""

    what: str
    hint: str


class PageOfAssignments(TypedDict):
    """A page of assignments."""

    items: list[Assignment]
    total: int
    next: str | None


class PageOfWaitingUsers(TypedDict):
    """A page of users who wait for a confirmation."""

    items: list[UserRef]
    total: int
    next: str | None


class PatternGroup(TypedDict):
    """A group whose name fits a pattern, and what the pattern makes of it."""

    group: GroupRef
    outcome: str
    captured: str
    role: str | None


class PatternTried(TypedDict):
    """What a pattern makes of the groups of a source."""

    pattern: str
    reach: int
    groups: list[PatternGroup]
    notes: list[Note]


class Preview(TypedDict):
    """What a change would do: how many gain access, lose it, or have other roles; each is counted once for an application."""

    application: Named | None
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
    """How far the free seats of a plan go for those who would need one."""

    plan: Named
    application: Named
    asked: int
    free: int | None
    wait: int


class PreviewUser(TypedDict):
    """Somebody whom a change touches, before and after."""

    what: str
    user: UserRef
    application: Named
    before: list[str]
    after: list[str]


class Reached(TypedDict):
    """Whom a rule reaches now."""

    rule: str
    reach: int
    users: list[UserRef]
