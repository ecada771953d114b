"""What the management API gives of people and groups, what they have and why, and their accounts.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.house import GroupRef, Named, PersonRef, RoleRef


class Access(TypedDict):
    """Who has which role where, since when and why."""

    id: str
    person: PersonRef
    application: Named
    role: RoleRef
    since: str
    until: str | None
    reasons: list[Reason]
    seat: SeatOf | None
    account: Account | None


class Account(TypedDict):
    """How a person stands in an application."""

    id: str
    person: PersonRef
    application: Named
    should_be: str
    roles: list[str]
    state: str
    due_version: int
    agreed_version: int
    due_since: str
    agreed_at: str | None
    remote_id: str | None
    origin: str | None
    delivery: OpenDelivery | None


class AccountDetail(TypedDict):
    """An account with what is due and what was agreed, whole."""

    id: str
    person: PersonRef
    application: Named
    should_be: str
    roles: list[str]
    state: str
    due_version: int
    agreed_version: int
    due_since: str
    agreed_at: str | None
    remote_id: str | None
    origin: str | None
    delivery: OpenDelivery | None
    due: dict[str, Any]
    agreed: dict[str, Any] | None


class Group(TypedDict):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str


class GroupDetail(TypedDict):
    """A group with the groups in it, the groups that it is in, and how many people are in it by any nesting."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str
    local: bool
    within: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class GroupNearby(TypedDict):
    """A group that lists another, or is listed by it."""

    id: str
    name: str
    source: Named | None


class OpenDelivery(TypedDict):
    """The delivery that is open for an account."""

    id: str
    state: str
    message: str | None
    mend: str | None
    next_attempt_at: str | None


class PageOfAccess(TypedDict):
    """A page of access."""

    items: list[Access]
    total: int
    next: str | None


class PageOfAccounts(TypedDict):
    """A page of accounts."""

    items: list[Account]
    total: int
    next: str | None


class PageOfGroups(TypedDict):
    """A page of groups."""

    items: list[Group]
    total: int
    next: str | None


class PageOfPeople(TypedDict):
    """A page of people."""

    items: list[PersonLine]
    total: int
    next: str | None


class Person(TypedDict):
    """A person, whole."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str
    attributes: list[PersonAttribute]
    records: list[PersonRecord]
    groups: list[PersonGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_worked_out: bool


class PersonAttribute(TypedDict):
    """An attribute and which source gave it."""

    name: str
    value: str
    source: Named | None


class PersonGroup(TypedDict):
    """A membership, present or past."""

    group: GroupRef
    source: Named | None
    since: str
    until: str | None


class PersonLine(TypedDict):
    """A person as in lists."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str


class PersonRecord(TypedDict):
    """What one source last said of a person."""

    id: str
    source: Named
    channel: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    gone_at: str | None


class Reason(TypedDict):
    """Why: an assignment of some kind; or that a role was the default, or was kept."""

    kind: str
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: Named | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class SeatOf(TypedDict):
    """The seat that comes with an access, since when; without `since` it is still waited for."""

    plan: Named
    asked_at: str
    since: str | None


class Way(TypedDict):
    """What would give access: being in a group, or meeting a rule."""

    assignment: str
    group: GroupRef | None
    source: Named | None
    rule: str | None
    role: RoleRef | None


class Why(TypedDict):
    """What a person has in an application and why, or why not; in sentences too."""

    person: PersonRef
    application: Named
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[Way]
