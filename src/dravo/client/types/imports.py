"""Imports: settings, source policy, runs and conflicts.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class AttributeAnswer(TypedDict):
    """An attribute with its expression."""

    attribute: str
    expression: str


class BeforeAndAfter(TypedDict):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class CouldBe(TypedDict):
    """A possible user of a record."""

    id: str
    display_name: str
    user_name: str
    status: str


class GroupAnswer(TypedDict):
    """The accepted groups: "all", "none", "named" or "pattern"."""

    which: str
    names: list[str]
    pattern: str


class MadeGroup(TypedDict):
    """A group from user attributes, with its number of members."""

    name: str
    users: int


class PageOfConflicts(TypedDict):
    """A page of conflicts."""

    items: list[SourceConflict]
    total: int
    next: str | None


class PageOfRunLines(TypedDict):
    """A page of run entries."""

    items: list[RunLine]
    total: int
    next: str | None


class PageOfSourceRuns(TypedDict):
    """A page of runs."""

    items: list[SourceRun]
    total: int
    next: str | None


class ReaderField(TypedDict):
    """A setting of a connector; `kind` is "text", "lines", "switch" or "choice"."""

    name: str
    label: str
    hint: str
    kind: str
    choices: list[str]
    default: Any
    required: bool


class ReaderKind(TypedDict):
    """A connector. Its expressions use attributes of an "entry" or of a SCIM "user"."""

    key: str
    label: str
    reads: str
    settings: list[ReaderField]


class ReaderKinds(TypedDict):
    """All connectors."""

    items: list[ReaderKind]


class Reading(TypedDict):
    """The import settings of a source."""

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
    """The result of a connection check."""

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
    """A number by kind."""

    name: str
    number: int


class RunEffect(TypedDict):
    """Number of users who would gain and lose a role."""

    application: str
    role: str
    gained: int
    lost: int


class RunLine(TypedDict):
    """A run entry: the result for one user or group."""

    id: int
    kind: str
    user: str | None
    name: str
    changes: list[BeforeAndAfter]
    message: str | None


class SampleUser(TypedDict):
    """The result of the source policy for one record."""

    name: str
    user: dict[str, Any] | None
    groups: list[str]
    comes_in: bool
    message: str


class SeenAttribute(TypedDict):
    """An attribute of a source with sample values."""

    name: str
    values: list[str]


class SourceAnswers(TypedDict):
    """The source policy of a source."""

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
    """A conflict with the possible decisions."""

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
    """An import run."""

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
    """The preview of a source policy."""

    looked_at: int
    comes_in: int
    changed: int
    leaves: int
    refused: int
    items: list[TriedUser]
    groups: list[TriedGroup]
    made_groups: list[MadeGroup]


class TriedGroup(TypedDict):
    """A group of the source, and whether it would be accepted."""

    id: str
    name: str
    comes_in: bool


class TriedUser(TypedDict):
    """A user whom another source policy would change."""

    name: str
    outcome: str
    changes: list[BeforeAndAfter]
    message: str
