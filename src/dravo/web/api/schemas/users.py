"""Users."""

from __future__ import annotations

from typing import Literal

from dravo.web.api.schemas.access import Access
from dravo.web.api.schemas.accounts import Account
from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import GroupRef, Named, Page, PersonRef, RoleRef, SearchQuery


class PeopleQuery(SearchQuery):
    """Which people."""

    state: Literal["active", "inactive", "gone"] | None = None


class PersonPath(Model):
    """One person, by id, user name, e-mail or external id."""

    person: str


class WhyPath(PersonPath):
    """One person and one application."""

    application: str


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
    connection_type: str
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


class PageOfPeople(Page[PersonLine]):
    """A page of people."""
