"""Imports: settings, source policy, runs and conflicts.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.connections import CheckStep
    from dravo.client.types.sources.policies import BeforeAndAfter, SourcePolicy


class ConflictDecisions(TypedDict):
    """The result of deciding several conflicts."""

    decided: int
    failed: list[FailedDecision]


class Connector(TypedDict):
    """A connector. Its expressions use attributes of an "entry" or of a SCIM "user"."""

    key: str
    label: str
    reads: str
    settings: list[ConnectorSetting]


class Connectors(TypedDict):
    """All connectors."""

    items: list[Connector]


class ConnectorSetting(TypedDict):
    """A setting of a connector; `kind` is "text", "lines", "switch" or "choice"."""

    name: str
    label: str
    hint: str
    kind: str
    choices: list[str]
    default: Any
    required: bool


class FailedDecision(TypedDict):
    """A conflict that could not be decided."""

    id: str
    name: str
    message: str


class ImportCheck(TypedDict):
    """The result of a connection check."""

    ok: bool
    steps: list[CheckStep]
    attributes: list[SampleAttribute]
    sample: list[SampleUser]


class ImportFile(TypedDict):
    """A file of a source."""

    name: str
    size: int
    changed_at: str


class ImportRun(TypedDict):
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


class ImportRunEntry(TypedDict):
    """A run entry: the result for one user or group."""

    id: int
    kind: str
    user: str | None
    name: str
    changes: list[BeforeAndAfter]
    message: str | None


class ImportSettings(TypedDict):
    """The import settings of a source."""

    kind: str
    label: str
    reads: str
    settings: dict[str, Any]
    fields: list[ConnectorSetting]
    has_secret: bool
    enabled: bool
    enabled_from: str | None
    schedule: str
    schedule_words: str
    next_at: list[str]
    full_at: str | None
    policy: SourcePolicy
    checked: list[CheckStep]
    attributes: list[str]
    checked_at: str | None
    conflicts: int
    files: list[ImportFile]
    warning: str


class PageOfConflicts(TypedDict):
    """A page of conflicts."""

    items: list[SourceConflict]
    total: int
    next: str | None


class PageOfImportRunEntries(TypedDict):
    """A page of run entries."""

    items: list[ImportRunEntry]
    total: int
    next: str | None


class PageOfImportRuns(TypedDict):
    """A page of runs."""

    items: list[ImportRun]
    total: int
    next: str | None


class PossibleUser(TypedDict):
    """A possible user of a record."""

    id: str
    display_name: str
    user_name: str
    status: str


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


class SampleAttribute(TypedDict):
    """An attribute of a source with sample values."""

    name: str
    values: list[str]


class SampleUser(TypedDict):
    """The result of the source policy for one record."""

    name: str
    user: dict[str, Any] | None
    groups: list[str]
    accepted: bool
    message: str


class SourceConflict(TypedDict):
    """A conflict with the possible decisions."""

    id: str
    subject: str
    kind: str
    name: str
    message: str
    native_id: str
    says: dict[str, Any]
    candidates: list[PossibleUser]
    choices: list[str]
    status: str
    decision: str | None
    decided_by: str | None
    decided_at: str | None
    first_seen_at: str
    last_seen_at: str
