"""Activity and the audit log."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import KeyAndLabel, Page, PageQuery


class AuditQuery(PageQuery):
    """Filters for the audit log."""

    kind: str | None = None
    object: str | None = None


class ActivityQuery(PageQuery):
    """Filters for activity."""

    kind: Literal["request", "task", "reconciliation", "change", "run"] | None = None
    source: str | None = Field(None, description="Only activity of this source, by key.")
    application: str | None = Field(None, description="Only activity of this application, by key.")
    user: str | None = Field(None, description="Only activity of this user, by ID.")
    trouble: bool = Field(False, description="Only failures.")
    until: str | None = Field(
        None, description="Only activity before this time, or until the end of this day."
    )


class EntryPath(Model):
    """One entry of the audit log."""

    id: int = Field(ge=0, le=2**62)


class AuditObject(Model):
    """The changed object."""

    kind: str = Field(description="Kind of the changed object.")
    id: str = Field(description="ID of the changed object.")


class AuditEntry(Model):
    """An entry of the audit log."""

    id: int = Field(description="Number of the entry.")
    at: str = Field(description="Time of the change.")
    operator: str = Field(description="The operator who made the change.")
    action: str
    object: AuditObject
    details: dict[str, Any]


class ActivityUser(Model):
    """A user in the activity list."""

    id: str = Field(description="ID of the user.")
    name: str = Field(description="Display name of the user.")


class ActivityLine(Model):
    """One activity: a request, an attempt, an import run, a reconciliation or a change by an operator."""

    id: str = Field(description="ID of the event.")
    kind: Literal["request", "task", "reconciliation", "change", "run"] = Field(
        description="Kind of event: request, run, task, reconciliation or change."
    )
    at: str = Field(description="Time of the event.")
    outcome: Literal["ok", "failed", "running"] = Field(description="Result of the event.")
    by: str = Field(description="The actor: a source, Dravo or an operator.")
    what: str = Field(description="What happened, in words.")
    detail: str
    source: KeyAndLabel | None = Field(description="The source concerned, or null.")
    application: KeyAndLabel | None = Field(description="The application concerned, or null.")
    user: ActivityUser | None = Field(description="The user concerned, or null.")
    task: str | None = Field(None, description="ID of the task.")
    object: AuditObject | None = Field(None, description="The change of an operator.")
    undoable: bool = Field(False, description="Whether the change can be undone.")


class AuditVerification(Model):
    """The result of verifying the audit log."""

    holds: bool
    broken_at: int | None


class PageOfAuditEntries(Page[AuditEntry]):
    """A page of the audit log."""


class PageOfActivity(Page[ActivityLine]):
    """A page of activity."""
