"""What the management API gives of reading sources: settings, checks, runs, conflicts."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from dravo.web.api.base import Model
from dravo.web.api.models import Page


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
    """A kind of source that is read; `reads` tells what its expressions name: attributes of an "entry", or of a SCIM "person"."""

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
    mend: str


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
    """A source's answers to the five questions."""

    match: str
    domains: list[str]
    people: str
    groups: GroupAnswer
    makes: bool
    pilot: str
    groups_from: list[str] = Field(description="Expressions whose values are names of groups that somebody is in.")
    gives: list[str] = Field(description="Names of groups that everybody whom it brings is in.")
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
    in_force: bool
    in_force_at: str | None
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


class MadePerson(Model):
    """What the answers make of somebody."""

    name: str
    person: dict[str, Any] | None
    groups: list[str] = Field(description="Groups that come of what is said of them.")
    comes_in: bool
    message: str


class ReadingCheck(Model):
    """What a connection check found out."""

    ok: bool
    steps: list[ReadingStep]
    attributes: list[SeenAttribute]
    sample: list[MadePerson]


class BeforeAndAfter(Model):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class TriedPerson(Model):
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
    """A group that would come of what the source says of people, and how many would be in it."""

    name: str
    people: int


class TriedAnswers(Model):
    """What other answers would make of everybody, and which groups would come in."""

    looked_at: int
    comes_in: int
    changed: int
    leaves: int
    refused: int
    items: list[TriedPerson]
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
    state: str
    asked_by: str
    asked_at: str
    started_at: str | None
    ended_at: str | None
    look_only: bool
    whole: bool
    progress: int
    expected: int
    per_second: int
    seconds_left: int | None
    counts: list[RunCount]
    access: list[RunEffect]
    message: str | None
    mend: str | None


class PageOfSourceRuns(Page[SourceRun]):
    """A page of runs."""


class RunLine(Model):
    """What a run did to one person or group."""

    id: int
    kind: str
    person: str | None
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
    state: str


class SourceConflict(Model):
    """What no rule can decide, with the choices."""

    id: str
    subject: str
    kind: str
    name: str
    message: str
    native_id: str
    says: dict[str, Any]
    could_be: list[CouldBe]
    choices: list[str]
    state: str
    decision: str | None
    decided_by: str | None
    decided_at: str | None
    first_seen_at: str
    last_seen_at: str


class PageOfConflicts(Page[SourceConflict]):
    """A page of conflicts."""
