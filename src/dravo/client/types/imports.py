"""Imports: settings, source policy, runs and conflicts.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class AttributeAnswer(TypedDict):
    """An attribute, and the expression that makes it."""

    attribute: str
    expression: str


class BeforeAndAfter(TypedDict):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class CouldBe(TypedDict):
    """Somebody whom a record could mean."""

    id: str
    display_name: str
    user_name: str
    status: str


class GroupAnswer(TypedDict):
    """Which groups come in: "all", "none", "named" or "pattern"."""

    which: str
    names: list[str]
    pattern: str


class MadeGroup(TypedDict):
    """A group that would come of what the source says of users, and how many would be in it."""

    name: str
    users: int


class PageOfConflicts(TypedDict):
    """A page of conflicts."""

    items: list[SourceConflict]
    total: int
    next: str | None


class PageOfRunLines(TypedDict):
    """A page of lines of a run."""

    items: list[RunLine]
    total: int
    next: str | None


class PageOfSourceRuns(TypedDict):
    """A page of runs."""

    items: list[SourceRun]
    total: int
    next: str | None


class ReaderField(TypedDict):
    """A setting of a kind of reader; `kind` is "text", "lines", "switch" or "choice"."""

    name: str
    label: str
    hint: str
    kind: str
    choices: list[str]
    default: Any
    required: bool


class ReaderKind(TypedDict):
    """A kind of source that is read; `reads` tells what its expressions name: attributes of an "entry", or of a SCIM "user"."""

    key: str
    label: str
    reads: str
    settings: list[ReaderField]


class ReaderKinds(TypedDict):
    """The kinds of sources that are read."""

    items: list[ReaderKind]


class Reading(TypedDict):
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


class ReadingCheck(TypedDict):
    """What a connection check found out."""

    ok: bool
    steps: list[ReadingStep]
    attributes: list[SeenAttribute]
    sample: list[SampleUser]


class ReadingFile(TypedDict):
    """A file of a source."""

    name: str
    size: int
    changed_at: str


class ReadingStep(TypedDict):
    """A step of a connection check."""

    name: str
    outcome: str
    message: str
    hint: str


class RunCount(TypedDict):
    """How many of a kind."""

    name: str
    number: int


class RunEffect(TypedDict):
    """How many would get, and lose, a role."""

    application: str
    role: str
    gained: int
    lost: int


class RunLine(TypedDict):
    """What a run did to one user or group."""

    id: int
    kind: str
    user: str | None
    name: str
    changes: list[BeforeAndAfter]
    message: str | None


class SampleUser(TypedDict):
    """What the answers make of somebody."""

    name: str
    user: dict[str, Any] | None
    groups: list[str]
    comes_in: bool
    message: str


class SeenAttribute(TypedDict):
    """An attribute that a source has, with some values."""

    name: str
    values: list[str]


class SourceAnswers(TypedDict):
    """A source's answers to the source policy."""

    match: str
    domains: list[str]
    users: str
    groups: GroupAnswer
    makes: bool
    pilot: str
    groups_from: list[str]
    gives: list[str]
    attributes: list[AttributeAnswer]


class SourceConflict(TypedDict):
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


class SourceRun(TypedDict):
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


class TriedAnswers(TypedDict):
    """What other answers would make of everyone, and which groups would come in."""

    looked_at: int
    comes_in: int
    changed: int
    leaves: int
    refused: int
    items: list[TriedUser]
    groups: list[TriedGroup]
    made_groups: list[MadeGroup]


class TriedGroup(TypedDict):
    """A group that the source is known to have, and whether it would come in."""

    id: str
    name: str
    comes_in: bool


class TriedUser(TypedDict):
    """Somebody for whom other answers would change something."""

    name: str
    outcome: str
    changes: list[BeforeAndAfter]
    message: str
