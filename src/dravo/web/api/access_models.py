"""What the management API gives about access: assignments, mapping tables, previews."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from dravo.web.api.base import Model
from dravo.web.api.models import GroupRef, Named, Page, PersonRef, RoleRef
from dravo.web.api.people_models import Group, PersonLine


class Note(Model):
    """What is amiss, and the mend."""

    what: str
    mend: str


class PatternGroup(Model):
    """A group whose name fits a pattern, and what the pattern makes of it."""

    group: GroupRef
    outcome: Literal["gives", "no such role", "to be confirmed"]
    captured: str
    role: str | None


class Assignment(Model):
    """Who gets a role, is let in, or is kept out; and how many people that reaches now."""

    model_config = ConfigDict(populate_by_name=True)

    id: str
    application: Named
    kind: Literal["person", "group", "everybody", "rule", "pattern"]
    excludes: bool
    role: RoleRef | None
    plan: Named | None
    person: PersonRef | None
    group: GroupRef | None
    source: Named | None
    rule: str | None
    pattern: str | None
    confirmed: list[str] = Field(description="Groups, by id, that may give the highest role by the pattern.")
    future_users: bool = Field(description="Of a rule: whether users who come to meet it later need no confirmation.")
    confirmed_users: int | None = Field(description="Of a rule for the highest role: how many users are confirmed; null where all who meet it are.")
    waiting: int | None = Field(description="In the mapping table, for a rule: how many users meet it and wait for a confirmation.")
    newcomers_since: str | None
    groups: list[PatternGroup] | None = Field(description="In the mapping table, for a pattern: the groups that it fits.")
    notes: list[Note] = Field(description="In the mapping table: what is amiss.")
    reach: int | None = Field(description="Of rules, patterns and everybody only in the mapping table.")
    from_: str | None = Field(alias="from")
    until: str | None
    from_day: str | None
    until_day: str | None
    note: str | None
    created_at: str
    created_by: str


class PageOfAssignments(Page[Assignment]):
    """A page of assignments."""


class PageOfWaitingUsers(Page[PersonRef]):
    """A page of users who wait for a confirmation."""


class PreviewPerson(Model):
    """Somebody whom a change touches, before and after."""

    what: Literal["gained", "lost", "changed"]
    person: PersonRef
    application: Named
    before: list[str]
    after: list[str]


class MatrixGroup(Group):
    """A group with what it gives, by application."""

    roles: dict[str, list[str]]


class MatrixOfGroups(Page[MatrixGroup]):
    """A page of the matrix of groups, with its columns."""

    applications: list[Named]


class ComparedRole(Model):
    """A role of one of two people, and what it rests on."""

    role: str
    because: list[str]


class ComparedApplication(Model):
    """What each of two people has in an application."""

    application: Named
    same: bool
    sides: list[list[ComparedRole]]


class ComparedGroup(Model):
    """Which of two people are in a group."""

    group: GroupRef
    source: Named | None
    sides: list[bool]


class Compared(Model):
    """Two people side by side; what differs comes first."""

    people: list[PersonLine]
    applications: list[ComparedApplication]
    groups: list[ComparedGroup]


class PreviewSeats(Model):
    """How far the free seats of a plan go for those who would need one."""

    plan: Named
    application: Named
    asked: int
    free: int | None = Field(description="Free now, beside those for whom others wait; null: as many as there are people.")
    wait: int = Field(description="How many of them would wait for a seat.")


class Preview(Model):
    """What a change would do: how many gain access, lose it, or have other roles; each is counted once for an application."""

    application: Named | None = Field(description="The one application that it is about; null if it may matter in several.")
    type_to_confirm: str = Field(description="What has to be typed where it is grave.")
    gained: int
    lost: int
    changed: int
    unchanged: int
    accounts: int
    taken: int = Field(description="From how many people it takes a role, whatever else they get.")
    top_gained: int = Field(description="How many people get the highest role.")
    confirm: str = Field(description="Why the application's name has to be typed to do it; empty if it need not be.")
    seats: list[PreviewSeats]
    people: list[PreviewPerson]


class MatrixPerson(PersonLine):
    """A person with their roles, by application."""

    roles: dict[str, list[str]]


class Matrix(Page[MatrixPerson]):
    """A page of the matrix, with its columns."""

    applications: list[Named]
    whole: bool = Field(description="Whether the total is all; else there are more than that.")


class Move(Model):
    """Somebody who has other roles in an application at one instant than at an earlier one, and by what."""

    id: str
    person: PersonRef
    application: Named
    what: Literal["joined", "left", "changed"]
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


class PageOfMoves(Page[Move]):
    """A page of changes by person; the total counts people."""


class ExpectedRole(Model):
    """A role that somebody would get, why, and what would become of the account."""

    application: Named
    role: RoleRef
    reasons: list[str]
    account: str | None


class Expected(Model):
    """What somebody would have."""

    active: bool
    items: list[ExpectedRole]


class HeldPerson(Model):
    """Somebody whose removal is held, and what the account is to become."""

    person: PersonRef
    aim: str


class GuardItem(Model):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    people: list[HeldPerson]


class GuardListing(Model):
    """What the guard holds."""

    items: list[GuardItem]


class Reached(Model):
    """Whom a rule reaches now."""

    rule: str
    reach: int
    people: list[PersonRef]


class PatternTried(Model):
    """What a pattern makes of the groups of a source."""

    pattern: str
    reach: int
    groups: list[PatternGroup]
    notes: list[Note]


class BulkLine(Model):
    """One line of what was pasted."""

    number: int
    source: str
    group: str
    role: str
    state: Literal["new", "there already", "wrong"]
    message: str


class Bulk(Model):
    """What came of many lines: each by itself, and what they would do together."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int
