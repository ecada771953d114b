"""Users.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.access import Access
    from dravo.client.types.accounts import Account
    from dravo.client.types.common import GroupRef, Named, PersonRef, RoleRef


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
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    gone_at: str | None


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
