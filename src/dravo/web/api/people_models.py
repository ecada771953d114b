"""What the management API gives of people and groups: who they are, what they have and why, and their accounts."""

from __future__ import annotations

from typing import Any, Literal

from dravo.web.api.base import Model
from dravo.web.api.models import GroupRef, Named, Page, PersonRef, RoleRef


class PersonLine(PersonRef):
    """A person as in lists."""

    email: str | None
    state: str
    since: str
    modified_at: str


class PersonAttribute(Model):
    """An attribute and which source gave it."""

    name: str
    value: str
    source: Named | None


class PersonRecord(Model):
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


class PersonGroup(Model):
    """A membership, present or past."""

    group: GroupRef
    source: Named | None
    since: str
    until: str | None


class Reason(Model):
    """Why: an assignment of some kind; or that a role was the default, or was kept."""

    kind: Literal["direct", "group", "everybody", "rule", "pattern", "default", "kept"]
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: Named | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class OpenDelivery(Model):
    """The delivery that is open for an account."""

    id: str
    state: str
    message: str | None
    mend: str | None
    next_attempt_at: str | None


class Account(Model):
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


class AccountDetail(Account):
    """An account with what is due and what was agreed, whole."""

    due: dict[str, Any]
    agreed: dict[str, Any] | None


class SeatOf(Model):
    """The seat that comes with an access, since when; without `since` it is still waited for."""

    plan: Named
    asked_at: str
    since: str | None


class Access(Model):
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


class Person(PersonLine):
    """A person, whole."""

    attributes: list[PersonAttribute]
    records: list[PersonRecord]
    groups: list[PersonGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_worked_out: bool


class Way(Model):
    """What would give access: being in a group, or meeting a rule."""

    assignment: str
    group: GroupRef | None
    source: Named | None
    rule: str | None
    role: RoleRef | None


class Why(Model):
    """What a person has in an application and why, or why not; in sentences too."""

    person: PersonRef
    application: Named
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[Way]


class Group(Model):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str


class GroupNearby(Model):
    """A group that lists another, or is listed by it."""

    id: str
    name: str
    source: Named | None


class GroupDetail(Group):
    """A group with the groups in it, the groups that it is in, and how many people are in it by any nesting."""

    local: bool
    within: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class PageOfPeople(Page[PersonLine]):
    """A page of people."""


class PageOfGroups(Page[Group]):
    """A page of groups."""


class PageOfAccess(Page[Access]):
    """A page of access."""


class PageOfAccounts(Page[Account]):
    """A page of accounts."""
