"""Imports: settings, source policy, runs and conflicts."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, Page, PageQuery, SearchQuery
from dravo.web.api.schemas.groups import MembersFrom
from dravo.web.api.schemas.sources.policies import BeforeAndAfter, SourcePolicy, SourcePolicyFields


class ImportSettingsRequest(RequestModel):
    """Changes to import settings. Omitted fields keep their value."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(
        None, max_length=20_000, description="Secret, stored encrypted; empty to delete it."
    )
    schedule: str | None = Field(None, max_length=100, description="Schedule (cron, UTC); empty for none.")
    policy: SourcePolicyFields | None = None
    enabled: bool | None = None
    enabled_from: str | None = Field(
        None, max_length=40, description="Time at which the import is enabled; empty for none."
    )


class PriorityRequest(ConfirmedRequest):
    """Changes to the priority of a source. Omitted fields keep their value."""

    priority: int | None = Field(None, description="Priority; the lowest number wins.")
    deactivation_wins: bool | None = Field(
        None, description="Deactivation wins: an inactive record always deactivates the user."
    )
    updates: bool | None = Field(None, description="Whether the source updates users of other sources.")
    members_from: MembersFrom | None = Field(
        None, description="Who decides about the members of its groups, where a group does not differ."
    )


class CheckRequest(RequestModel):
    """A connection to check; empty for the saved one."""

    kind: str | None = Field(None, max_length=16)
    settings: dict[str, str | bool] | None = None
    secret: str | None = Field(None, max_length=20_000)


class FileRequest(RequestModel):
    """A file, in base64."""

    name: Literal["users.csv", "groups.csv", "memberships.csv"] = Field(description="Name of the file.")
    content: str = Field(max_length=90_000_000)


class StartRunRequest(RequestModel):
    """Options of an import run."""

    preview: bool = Field(False, description="Preview: change nothing.")
    whole: bool = Field(False, description="Read all users instead of changed ones.")
    allow_removals: bool = Field(
        False, description="Process all missing users as leavers, ignoring the removal limit."
    )
    confirm: Text | None = Field(None, description="Typed label of the source; required with allow_removals.")


class ConflictDecisionRequest(RequestModel):
    """The decision of a conflict."""

    decision: Literal["link", "create", "accept", "ignore"] = Field(description="What to do with the record.")
    user: Text | None = Field(None, description="User to link: ID, user name, email or external ID.")


class ConflictDecisionsRequest(RequestModel):
    """The same decision for several conflicts."""

    ids: list[Text] = Field(min_length=1, max_length=500, description="IDs of the conflicts.")
    decision: Literal["link", "create", "accept", "ignore"] = Field(
        description="What to do with the records; link requires one possible user."
    )


class FailedDecision(Model):
    """A conflict that could not be decided."""

    id: str = Field(description="ID of the conflict.")
    name: str = Field(description="Name of the record.")
    message: str = Field(description="Why the conflict could not be decided.")


class ConflictDecisions(Model):
    """The result of deciding several conflicts."""

    decided: int = Field(description="Number of decided conflicts.")
    failed: list[FailedDecision] = Field(description="Conflicts that could not be decided.")


class ImportRunEntriesQuery(SearchQuery):
    """Filters for run entries."""

    kind: str | None = Field(None, max_length=16)


class ConflictsQuery(PageQuery):
    """Filters for conflicts."""

    status: Literal["open", "decided"] = "open"


class LinkRecordRequest(ConfirmedRequest):
    """The user to link a record to."""

    to: Text | None = Field(
        None, description="ID, user name, email or external ID; omitted to create a user."
    )


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
    """A user of a source."""

    key: str
    user: str


class ConnectorSetting(Model):
    """A setting of a connector; `kind` is "text", "lines", "switch" or "choice"."""

    name: str = Field(description="Name of the setting.")
    label: str = Field(description="Label of the setting.")
    hint: str
    kind: str = Field(description="Kind of value: text, lines, switch or choice.")
    choices: list[str]
    default: Any
    required: bool


class Connector(Model):
    """A connector. Its expressions use attributes of an "entry" or of a SCIM "user"."""

    key: str
    label: str = Field(description="Name of the connector.")
    reads: str
    settings: list[ConnectorSetting] = Field(description="Settings of the connector.")


class Connectors(Model):
    """All connectors."""

    items: list[Connector]


class CheckStep(Model):
    """A step of a connection check."""

    name: str = Field(description="What the step checks.")
    outcome: str = Field(description="Result: ok, failed, skipped or warning.")
    message: str = Field(description="Result of the step in a sentence.")
    hint: str


class ImportFile(Model):
    """A file of a source."""

    name: str
    size: int
    changed_at: str


class ImportSettings(Model):
    """The import settings of a source."""

    kind: str = Field(description="Key of the connector.")
    label: str = Field(description="Name of the connector.")
    reads: str
    settings: dict[str, Any] = Field(description="Settings of the connector.")
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
    warning: str = Field(description="Warning if the last run took over half of the interval, or empty.")


class SampleAttribute(Model):
    """An attribute of a source with sample values."""

    name: str = Field(description="Name of the attribute in the source.")
    values: list[str] = Field(description="Some of its values.")


class SampleUser(Model):
    """The result of the source policy for one record."""

    name: str = Field(description="Name of the user in the source.")
    user: dict[str, Any] | None
    groups: list[str] = Field(description="Groups from user attributes.")
    accepted: bool
    message: str = Field(description="Why the record is refused or outside the scope, or empty.")


class ImportCheck(Model):
    """The result of a connection check."""

    ok: bool
    steps: list[CheckStep]
    attributes: list[SampleAttribute]
    sample: list[SampleUser]


class RunCount(Model):
    """A number by kind."""

    name: str = Field(description="What is counted.")
    number: int = Field(description="Number of results.")


class RunEffect(Model):
    """Number of users who would gain and lose a role."""

    application: str
    role: str
    gained: int
    lost: int


class ImportRun(Model):
    """An import run."""

    id: str = Field(description="ID of the run.")
    status: str = Field(description="Status: waiting, running, done, held, stopped or failed.")
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
    message: str | None = Field(
        description="Why the run was held, stopped or failed, and what it could not read."
    )
    hint: str | None


class PageOfImportRuns(Page[ImportRun]):
    """A page of runs."""


class ImportRunEntry(Model):
    """A run entry: the result for one user or group."""

    id: int = Field(description="ID of the entry.")
    kind: str = Field(description="Result: new, changed, left, refused, conflict or missing.")
    user: str | None = Field(description="ID of the user, or null.")
    name: str = Field(description="Name of the user or group.")
    changes: list[BeforeAndAfter]
    message: str | None = Field(description="What happened to the user or group and why, or null.")


class PageOfImportRunEntries(Page[ImportRunEntry]):
    """A page of run entries."""


class PossibleUser(Model):
    """A possible user of a record."""

    id: str = Field(description="ID of the user.")
    display_name: str
    user_name: str
    status: str = Field(description="Status: active, inactive, pending or left.")


class SourceConflict(Model):
    """A conflict with the possible decisions."""

    id: str = Field(description="ID of the conflict.")
    subject: str = Field(description="What the conflict is about: a user or a group.")
    kind: str = Field(description="Why the record or change waits for a decision.")
    name: str = Field(description="Name of the user or group in the source.")
    message: str = Field(description="Why the record cannot be matched without a decision.")
    native_id: str
    says: dict[str, Any]
    candidates: list[PossibleUser]
    choices: list[str]
    status: str = Field(description="Status: open, decided or over.")
    decision: str | None = Field(description="Decision that was made, or null.")
    decided_by: str | None
    decided_at: str | None
    first_seen_at: str
    last_seen_at: str


class PageOfConflicts(Page[SourceConflict]):
    """A page of conflicts."""
