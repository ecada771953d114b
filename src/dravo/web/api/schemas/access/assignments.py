"""Assignments, role mapping, and previews of changes."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import (
    ConfirmedRequest,
    GroupRef,
    KeyAndLabel,
    Page,
    PageQuery,
    RoleRef,
    UserRef,
)


class Note(Model):
    """A warning with its hint."""

    what: str
    hint: str


class PatternGroup(Model):
    """A group that matches a pattern, with the resulting role."""

    group: GroupRef
    outcome: Literal["gives", "unknown_role", "several_roles", "needs_confirmation"] = Field(
        description="Result for the group: gives, unknown_role, several_roles or needs_confirmation."
    )
    captured: str
    role: str | None
    by: Literal["key", "label", "value"] | None = Field(
        description="The text of the role that is the captured part: key, label or value, or null."
    )


class Assignment(Model):
    """An assignment or exclusion, with the number of matching users."""

    model_config = ConfigDict(populate_by_name=True)

    id: str = Field(description="ID of the assignment.")
    application: KeyAndLabel = Field(description="The application of the role.")
    kind: Literal["user", "group", "everyone", "rule", "pattern", "expression"] = Field(
        description="Kind of assignee: user, group, rule, pattern, expression or everyone."
    )
    excludes: bool
    role: RoleRef | None = Field(description="The assigned role; null for an exclusion or eligibility only.")
    plan: KeyAndLabel | None
    user: UserRef | None = Field(description="The user who gets the role, or null.")
    group: GroupRef | None = Field(description="The group that gets the role, or null.")
    source: KeyAndLabel | None = Field(description="The source of the group, pattern or rule, or null.")
    rule: str | None
    pattern: str | None
    expression: str | None = Field(description="An expression whose values are the roles, or null.")
    confirmed: list[str] = Field(description="IDs of groups that are confirmed for the highest role.")
    future_users: bool = Field(description="For a rule: whether later users need no confirmation.")
    confirmed_users: int | None = Field(
        description="For a rule that assigns the highest role: number of confirmed users; null if all are."
    )
    waiting: int | None = Field(description="For a rule: number of users waiting for confirmation.")
    new_users_since: str | None
    groups: list[PatternGroup] | None = Field(description="For a pattern: the matching groups.")
    notes: list[Note] = Field(description="Warnings in the role mapping.")
    matching_users: int | None = Field(description="Number of matching users.")
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
    """A page of users waiting for confirmation."""


class PreviewUser(Model):
    """A user affected by a change, with the roles before and after."""

    what: Literal["gained", "lost", "changed"] = Field(description="What changes: gained, lost or changed.")
    user: UserRef = Field(description="The user whose roles change.")
    application: KeyAndLabel = Field(description="The application in which the roles change.")
    before: list[str]
    after: list[str]
    highest: bool = Field(description="Whether the change gives the user the highest role.")


class PreviewSeats(Model):
    """The seats that a change needs."""

    plan: KeyAndLabel
    application: KeyAndLabel
    asked: int
    free: int | None = Field(description="Number of free seats; null without a limit.")
    wait: int = Field(description="Number of users who would be on the waiting list.")


class Preview(Model):
    """The result of a change. Each user is counted once per application."""

    application: KeyAndLabel | None = Field(description="The affected application; null for several.")
    type_to_confirm: str = Field(description="The text to send in `confirm` for a serious change.")
    gained: int = Field(description="Number of users who gain access.")
    lost: int = Field(description="Number of users who lose access.")
    changed: int = Field(description="Number of users who change roles.")
    unchanged: int
    accounts: int = Field(description="Number of accounts that change.")
    taken: int = Field(description="Number of users who lose a role.")
    top_gained: int = Field(description="Number of users who get the highest role.")
    confirm: str = Field(description="Why the change needs a confirmation; empty if it does not.")
    seats: list[PreviewSeats] = Field(description="License plans of which users would need a seat.")
    users: list[PreviewUser] = Field(description="The first users whose roles change.")


class ChangeEffects(Model):
    """The effects of a change of settings."""

    effects: list[str]
    access: Preview | None = Field(description="The access that changes; null if access stays.")


class MatchingUsers(Model):
    """The users who match a rule."""

    rule: str
    matching_users: int
    users: list[UserRef] = Field(description="The first matching users by name.")


class PatternTried(Model):
    """The groups that match a pattern."""

    pattern: str
    matching_users: int
    groups: list[PatternGroup]
    notes: list[Note]


class BulkLine(Model):
    """One line of a bulk mapping."""

    number: int = Field(description="Line number in the pasted text, from 1.")
    source: str
    group: str
    role: str
    status: Literal["new", "exists", "invalid"] = Field(
        description="Whether the assignment is new, exists already, or the line is invalid."
    )
    message: str = Field(description="What is wrong with the line; empty if nothing.")


class Bulk(Model):
    """The result of a bulk mapping, with a preview."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


class AssignmentsQuery(PageQuery):
    """Filters for assignments."""

    direct: bool = Field(False, description="Only direct assignments.")

    application: str | None = None
    user: str | None = Field(None, description="ID.")
    group: str | None = Field(None, description="ID.")


class CreateAssignmentRequest(ConfirmedRequest):
    """A new assignment with exactly one target."""

    application: Text = Field(description="Key of the application.")
    role: Text | None = Field(
        None, description="Key of the role; null for access without a role and for patterns."
    )
    plan: Text | None = Field(None, description="Key of the license plan.")
    user: Text | None = Field(None, description="ID, user name, email or external ID.")
    group: Text | None = Field(None, description="ID, external ID or name.")
    source: Text | None = Field(
        None,
        description="Key of the source of the group or pattern; for a rule, the only source whose "
        "attributes count.",
    )
    everyone: bool = False
    rule: Text | None = Field(
        None, description='A SCIM filter over user attributes, such as department eq "Herbarium".'
    )
    pattern: Text | None = Field(
        None,
        description="A pattern of group names; the captured part is the key, label or value of the role.",
    )
    expression: Text | None = Field(
        None,
        description="An expression over user attributes. Its values are the keys, labels or values of roles.",
    )
    excludes: bool = Field(False, description="Exclude instead of assign.")
    new_users_only: bool = Field(False, description="Only users who are new from now on.")
    future_users: bool = Field(
        False, description="For a rule with a source: later users get the highest role without confirmation."
    )
    confirmed: list[Text] = Field([], description="IDs of groups that are confirmed for the highest role.")
    from_: Text | None = Field(
        None, alias="from", description="Start: a time such as 2031-04-02T09:15:00Z, or a date."
    )
    until: Text | None = Field(None, description="End: a time, or the last day (included).")
    note: Text | None = None


class AssignUsersRequest(ConfirmedRequest):
    """The same assignment for several users."""

    application: Text = Field(description="Key of the application.")
    role: Text | None = Field(None, description="Key of the role; null for access without a role.")
    plan: Text | None = Field(None, description="Key of the license plan.")
    users: list[Text] = Field(
        min_length=1, max_length=500, description="IDs, user names, emails or external IDs."
    )
    excludes: bool = Field(False, description="Exclude instead of assign.")
    from_: Text | None = Field(
        None, alias="from", description="Start: a time such as 2031-04-02T09:15:00Z, or a date."
    )
    until: Text | None = Field(None, description="End: a time, or the last day (included).")
    note: Text | None = None


class CreatedAssignments(Model):
    """Several new assignments."""

    items: list[Assignment]


class ChangeAssignmentRequest(ConfirmedRequest):
    """Changes to an assignment. Start, end and note are replaced; other omitted fields keep their value."""

    from_: Text | None = Field(None, alias="from")
    until: Text | None = None
    note: Text | None = None
    confirmed: list[Text] | None = Field(None, description="For a pattern: IDs of confirmed groups.")
    plan: Text | None = Field(None, description="Key of the license plan; empty for none.")
    role: Text | None = Field(None, description="Key of another role, for a user or a group.")


class ConfirmUsersRequest(ConfirmedRequest):
    """Users to confirm for a rule."""

    users: list[Text] | None = Field(None, description="IDs of users; omitted for all waiting users.")


class BulkAssignRequest(ConfirmedRequest):
    """A bulk mapping."""

    text: str = Field(max_length=1_000_000, description="Lines with source, group and role.")
    apply: bool = False


class CheckPatternRequest(RequestModel):
    """A pattern to preview."""

    source: Text
    pattern: Text
    confirmed: list[Text] = []


class CheckRuleRequest(RequestModel):
    """A rule to preview."""

    rule: str = Field(max_length=8_000)
