"""What the management API gives of access: assignments, mapping tables, the matrix.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.house import GroupRef, Named, PersonRef, RoleRef
    from dravo.client.types.people import PersonLine


# Who gets a role, is let in, or is kept out; and how many people that reaches now.
Assignment = TypedDict(
    "Assignment",
    {
        "id": "str",
        "application": "Named",
        "kind": "str",
        "excludes": "bool",
        "role": "RoleRef | None",
        "plan": "Named | None",
        "person": "PersonRef | None",
        "group": "GroupRef | None",
        "source": "Named | None",
        "rule": "str | None",
        "pattern": "str | None",
        "confirmed": "list[str]",
        "future_users": "bool",
        "confirmed_users": "int | None",
        "waiting": "int | None",
        "newcomers_since": "str | None",
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
    state: str
    message: str


class Compared(TypedDict):
    """Two people side by side; what differs comes first."""

    people: list[PersonLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


class ComparedApplication(TypedDict):
    """What each of two people has in an application."""

    application: Named
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(TypedDict):
    """Which of two people are in a group."""

    group: GroupRef
    source: Named | None
    sides: list[bool]


class ComparedRole(TypedDict):
    """A role of one of two people, and what it rests on."""

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


class GuardItem(TypedDict):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    people: list[HeldPerson]


class GuardListing(TypedDict):
    """What the guard holds."""

    items: list[GuardItem]


class HeldPerson(TypedDict):
    """Somebody whose removal is held, and what the account is to become."""

    person: PersonRef
    aim: str


class Matrix(TypedDict):
    """A page of the matrix, with its columns."""

    items: list[MatrixPerson]
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


class MatrixPerson(TypedDict):
    """A person with their roles, by application."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str
    roles: dict[str, list[str]]


class Move(TypedDict):
    """Somebody who has other roles in an application at one instant than at an earlier one, and by what."""

    id: str
    person: PersonRef
    application: Named
    what: str
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


class Note(TypedDict):
    """What is amiss, and the mend."""

    what: str
    mend: str


class PageOfAssignments(TypedDict):
    """A page of assignments."""

    items: list[Assignment]
    total: int
    next: str | None


class PageOfMoves(TypedDict):
    """A page of changes by person; the total counts people."""

    items: list[Move]
    total: int
    next: str | None


class PageOfWaitingUsers(TypedDict):
    """A page of users who wait for a confirmation."""

    items: list[PersonRef]
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
    people: list[PreviewPerson]


class PreviewPerson(TypedDict):
    """Somebody whom a change touches, before and after."""

    what: str
    person: PersonRef
    application: Named
    before: list[str]
    after: list[str]


class PreviewSeats(TypedDict):
    """How far the free seats of a plan go for those who would need one."""

    plan: Named
    application: Named
    asked: int
    free: int | None
    wait: int


class Reached(TypedDict):
    """Whom a rule reaches now."""

    rule: str
    reach: int
    people: list[PersonRef]
