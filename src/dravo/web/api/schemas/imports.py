"""Imports: settings, source policy, runs and conflicts."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, Page, PageQuery, SearchQuery


class ImportSettingsRequest(RequestModel):
    """How a source is read; what is left out stays as it is."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(None, max_length=20_000, description="Kept encrypted; an empty one takes it away.")
    schedule: str | None = Field(None, max_length=100, description="A cron expression; empty: never by itself.")
    policy: dict[str, Any] | None = Field(
        None, description="Answers to the source policy: match, domains, users, groups, groups_from, gives, makes, pilot, attributes."
    )
    enabled: bool | None = None
    enabled_from: str | None = Field(None, max_length=40, description="The instant from which on it is enabled; empty: none.")


class PriorityRequest(ConfirmedRequest):
    """Whose word counts; what is left out stays."""

    precedence: int | None = Field(None, description="Of several sources that say something, the lowest number is heard first.")
    deactivation_wins: bool | None = Field(None, description="Its inactive counts whatever others say.")
    updates: bool | None = Field(None, description="Whether it says anything of users whom another source knows.")


class CheckRequest(RequestModel):
    """A connection that is not saved yet; empty: as it is kept."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(None, max_length=20_000)


class SourcePolicyRequest(RequestModel):
    """Answers that are tried."""

    policy: dict[str, Any] = {}


class FileRequest(RequestModel):
    """A file, in base64."""

    name: Literal["users.csv", "groups.csv", "memberships.csv"]
    content: str = Field(max_length=90_000_000)


class StartRunRequest(RequestModel):
    """How a source is to be read."""

    preview: bool = Field(False, description="Show what it would do, and change nothing.")
    whole: bool = Field(False, description="Read everyone, also where what changed would do.")
    allow_removals: bool = Field(False, description="Anyone who is missing may leave, however many they are.")
    confirm: Text | None = Field(None, description="The source's label, typed; for allow_removals.")


class ConflictDecisionRequest(RequestModel):
    """How a conflict is decided."""

    decision: Literal["link", "create", "accept", "ignore"]
    user: Text | None = Field(None, description="Who it is, for 'link': by id, user name, email or external id.")


class LinesQuery(SearchQuery):
    """Which lines of a run."""

    kind: str | None = Field(None, max_length=16)


class ConflictsQuery(PageQuery):
    """Which conflicts."""

    status: Literal["open", "decided"] = "open"


class LinkRecordRequest(ConfirmedRequest):
    """Whose a record is."""

    to: Text | None = Field(None, description="By id, user name, email or external id; left out: somebody new.")


class RecordPath(Model):
    """A record."""

    record: str


class RunPath(Model):
    """A run of a source."""

    key: str
    run: str


class ConflictPath(Model):
    """A conflict of a source."""

    key: str
    conflict: str


class UserOfSourcePath(Model):
    """A user, as a source knows them."""

    key: str
    user: str


class ReaderField(Model):
    """A setting of a kind of reader; `kind` is "text", "lines", "switch" or "choice"."""

    name: str
    label: str
    hint: str
    kind: str
    choices: list[str]
    default: Any
    required: bool


class ReaderKind(Model):
    """A kind of source that is read; `reads` tells what its expressions name: attributes of an "entry", or of a SCIM "user"."""

    key: str
    label: str
    reads: str
    settings: list[ReaderField]


class ReaderKinds(Model):
    """The kinds of sources that are read."""

    items: list[ReaderKind]


class ReadingStep(Model):
    """A step of a connection check."""

    name: str
    outcome: str
    message: str
    hint: str


class GroupAnswer(Model):
    """Which groups come in: "all", "none", "named" or "pattern"."""

    which: str
    names: list[str]
    pattern: str


class AttributeAnswer(Model):
    """An attribute, and the expression that makes it."""

    attribute: str
    expression: str


class SourceAnswers(Model):
    """A source's answers to the source policy."""

    match: str
    domains: list[str]
    users: str
    groups: GroupAnswer
    makes: bool
    pilot: str
    groups_from: list[str] = Field(description="Expressions whose values are names of groups that somebody is in.")
    gives: list[str] = Field(description="Names of groups that everyone whom it brings is in.")
    attributes: list[AttributeAnswer]


class ReadingFile(Model):
    """A file of a source."""

    name: str
    size: int
    changed_at: str


class Reading(Model):
    """How a source is read, and when."""

    kind: str
    label: str
    reads: str
    settings: dict[str, Any]
    fields: list[ReaderField]
    has_secret: bool
    enabled: bool
    enabled_from: str | None
    schedule: str
    schedule_words: str
    next_at: list[str]
    full_at: str | None
    policy: SourceAnswers
    checked: list[ReadingStep]
    attributes: list[str]
    checked_at: str | None
    conflicts: int
    files: list[ReadingFile]


class SeenAttribute(Model):
    """An attribute that a source has, with some values."""

    name: str
    values: list[str]


class SampleUser(Model):
    """What the answers make of somebody."""

    name: str
    user: dict[str, Any] | None
    groups: list[str] = Field(description="Groups that come of what is said of them.")
    comes_in: bool
    message: str


class ReadingCheck(Model):
    """What a connection check found out."""

    ok: bool
    steps: list[ReadingStep]
    attributes: list[SeenAttribute]
    sample: list[SampleUser]


class BeforeAndAfter(Model):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class TriedUser(Model):
    """Somebody for whom other answers would change something."""

    name: str
    outcome: str
    changes: list[BeforeAndAfter]
    message: str


class TriedGroup(Model):
    """A group that the source is known to have, and whether it would come in."""

    id: str
    name: str
    comes_in: bool


class MadeGroup(Model):
    """A group that would come of what the source says of users, and how many would be in it."""

    name: str
    users: int


class TriedAnswers(Model):
    """What other answers would make of everyone, and which groups would come in."""

    looked_at: int
    comes_in: int
    changed: int
    leaves: int
    refused: int
    items: list[TriedUser]
    groups: list[TriedGroup]
    made_groups: list[MadeGroup]


class RunCount(Model):
    """How many of a kind."""

    name: str
    number: int


class RunEffect(Model):
    """How many would get, and lose, a role."""

    application: str
    role: str
    gained: int
    lost: int


class SourceRun(Model):
    """One reading of a source; `seconds_left` is an estimate while it runs."""

    id: str
    status: str
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    preview: bool
    whole: bool
    progress: int
    expected: int
    per_second: int
    seconds_left: int | None
    counts: list[RunCount]
    access: list[RunEffect]
    message: str | None
    hint: str | None


class PageOfSourceRuns(Page[SourceRun]):
    """A page of runs."""


class RunLine(Model):
    """What a run did to one user or group."""

    id: int
    kind: str
    user: str | None
    name: str
    changes: list[BeforeAndAfter]
    message: str | None


class PageOfRunLines(Page[RunLine]):
    """A page of lines of a run."""


class CouldBe(Model):
    """Somebody whom a record could mean."""

    id: str
    display_name: str
    user_name: str
    status: str


class SourceConflict(Model):
    """What no rule can decide, with the choices."""

    id: str
    subject: str
    kind: str
    name: str
    message: str
    native_id: str
    says: dict[str, Any]
    candidates: list[CouldBe]
    choices: list[str]
    status: str
    decision: str | None
    decided_by: str | None
    decided_at: str | None
    first_seen_at: str
    last_seen_at: str


class PageOfConflicts(Page[SourceConflict]):
    """A page of conflicts."""
