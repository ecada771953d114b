"""Assignments, role mapping, and previews of changes."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, GroupRef, Named, Page, PageQuery, RoleRef, UserRef


class Note(Model):
    """What is wrong, and the hint."""

    what: str
    hint: str


class PatternGroup(Model):
    """A group whose name fits a pattern, and what the pattern makes of it."""

    group: GroupRef
    outcome: Literal["gives", "unknown_role", "needs_confirmation"]
    captured: str
    role: str | None


class Assignment(Model):
    """Who gets a role, is let in, or is kept out; and how many users that reaches now."""

    model_config = ConfigDict(populate_by_name=True)

    id: str
    application: Named
    kind: Literal["user", "group", "everyone", "rule", "pattern"]
    excludes: bool
    role: RoleRef | None
    plan: Named | None
    user: UserRef | None
    group: GroupRef | None
    source: Named | None
    rule: str | None
    pattern: str | None
    confirmed: list[str] = Field(description="Groups, by id, that may give the highest role by the pattern.")
    future_users: bool = Field(description="Of a rule: whether users who come to meet it later need no confirmation.")
    confirmed_users: int | None = Field(description="Of a rule for the highest role: how many users are confirmed; null where all who meet it are.")
    waiting: int | None = Field(description="In the mapping table, for a rule: how many users meet it and wait for a confirmation.")
    new_users_since: str | None
    groups: list[PatternGroup] | None = Field(description="In the mapping table, for a pattern: the groups that it fits.")
    notes: list[Note] = Field(description="In the mapping table: what is wrong.")
    reach: int | None = Field(description="Of rules, patterns and everyone only in the mapping table.")
    from_: str | None = Field(alias="from")
    until: str | None
    from_day: str | None
    until_day: str | None
    note: str | None
    created_at: str
    created_by: str


class PageOfAssignments(Page[Assignment]):
    """A page of assignments."""


class PageOfWaitingUsers(Page[UserRef]):
    """A page of users who wait for a confirmation."""


class PreviewUser(Model):
    """Somebody whom a change touches, before and after."""

    what: Literal["gained", "lost", "changed"]
    user: UserRef
    application: Named
    before: list[str]
    after: list[str]


class PreviewSeats(Model):
    """How far the free seats of a plan go for those who would need one."""

    plan: Named
    application: Named
    asked: int
    free: int | None = Field(description="Free now, beside those for whom others wait; null: as many as there are users.")
    wait: int = Field(description="How many of them would wait for a seat.")


class Preview(Model):
    """What a change would do: how many gain access, lose it, or have other roles; each is counted once for an application."""

    application: Named | None = Field(description="The one application that it is about; null if it may matter in several.")
    type_to_confirm: str = Field(description="What has to be typed where it is serious.")
    gained: int
    lost: int
    changed: int
    unchanged: int
    accounts: int
    taken: int = Field(description="From how many users it takes a role, whatever else they get.")
    top_gained: int = Field(description="How many users get the highest role.")
    confirm: str = Field(description="Why the application's name has to be typed to do it; empty if it need not be.")
    seats: list[PreviewSeats]
    users: list[PreviewUser]


class Reached(Model):
    """Whom a rule reaches now."""

    rule: str
    reach: int
    users: list[UserRef]


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
    status: Literal["new", "exists", "invalid"]
    message: str


class Bulk(Model):
    """What came of many lines: each by itself, and what they would do together."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


class AssignmentsQuery(PageQuery):
    """Which assignments."""

    direct: bool = Field(False, description="Only those to single users.")

    application: str | None = None
    user: str | None = Field(None, description="By id.")
    group: str | None = Field(None, description="By id.")


class CreateAssignmentRequest(ConfirmedRequest):
    """An assignment to be made: for a user, a group of a source, everyone, a rule, or a pattern of a source's groups."""

    application: Text
    role: Text | None = Field(None, description="By key. Without one they are let in only; a pattern says the role itself.")
    plan: Text | None = Field(None, description="By key, where the application has plans with seats.")
    user: Text | None = Field(None, description="Id, user name, email or external id.")
    group: Text | None = Field(None, description="Id, external id or name.")
    source: Text | None = Field(None, description="By key: the group's source, or for a rule the source that must report the attributes.")
    everyone: bool = False
    rule: Text | None = Field(None, description='A SCIM filter over the user, such as department eq "Herbarium".')
    pattern: Text | None = Field(None, description="A pattern of group names of the source; its captured part is the role's key.")
    excludes: bool = Field(False, description="Keep them out instead.")
    new_users_only: bool = Field(False, description="Only users who come from now on.")
    future_users: bool = Field(
        False, description="Of a rule with a source: users who come to meet it later get even the highest role without confirmation."
    )
    confirmed: list[Text] = Field([], description="Groups, by id, that may give the highest role by a pattern.")
    from_: Text | None = Field(None, alias="from", description="An instant, such as 2031-04-02T09:15:00Z, or a day.")
    until: Text | None = Field(None, description="An instant; from then on it gives nothing. Or a day, which still counts whole.")
    note: Text | None = None


class ChangeAssignmentRequest(ConfirmedRequest):
    """From when until when an assignment counts, and its note; all three are replaced. What else is left out stays."""

    from_: Text | None = Field(None, alias="from")
    until: Text | None = None
    note: Text | None = None
    confirmed: list[Text] | None = Field(None, description="Of a pattern: groups, by id, that may give the highest role.")
    plan: Text | None = Field(None, description="By key; empty for none.")


class ConfirmUsersRequest(ConfirmedRequest):
    """Users who meet a rule and are to get its role."""

    users: list[Text] | None = Field(None, description="By id; left out: all who wait now.")


class BulkAssignRequest(ConfirmedRequest):
    """Many groups to be mapped."""

    text: str = Field(max_length=1_000_000, description="Lines of: source, group, role.")
    apply: bool = False


class CheckPatternRequest(RequestModel):
    """A pattern to be tried."""

    source: Text
    pattern: Text
    confirmed: list[Text] = []


class CheckRuleRequest(RequestModel):
    """A rule to be tried."""

    rule: str = Field(max_length=8_000)
