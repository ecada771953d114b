"""Activity and the audit log."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, Page, PageQuery


class AuditQuery(PageQuery):
    """Which entries of the audit log."""

    kind: str | None = None
    object: str | None = None


class ActivityQuery(PageQuery):
    """What of the timeline."""

    kind: Literal["request", "task", "reconciliation", "change", "run"] | None = None
    source: str | None = Field(None, description="Only what this source had to do with, by key.")
    application: str | None = Field(None, description="Only what this application had to do with, by key.")
    user: str | None = Field(None, description="Only what this user had to do with, by id.")
    trouble: bool = Field(False, description="Only what did not go well.")
    until: str | None = Field(None, description="Only what happened before this instant, or up to the end of this day.")


class EntryPath(Model):
    """One entry of the audit log."""

    id: int = Field(ge=0, le=2**62)


class AuditObject(Model):
    """What was changed."""

    kind: str
    id: str


class AuditEntry(Model):
    """Which operator changed what, when."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class ActivityUser(Model):
    """A user, as a line of the timeline names them."""

    id: str
    name: str


class ActivityLine(Model):
    """One thing that happened: a request, an attempt of a task, a reconciliation, or a change by an operator."""

    id: str
    kind: Literal["request", "task", "reconciliation", "change", "run"]
    at: str
    outcome: Literal["ok", "failed", "running"]
    by: str = Field(description="Who: a source, Dravo itself, or an operator.")
    what: str
    detail: str
    source: Named | None
    application: Named | None
    user: ActivityUser | None
    task: str | None = Field(None, description="The task that was attempted, by id.")
    object: AuditObject | None = Field(None, description="What an operator changed.")
    undoable: bool = Field(False, description="Whether it is a change that can be taken back from here.")


class AuditVerification(Model):
    """Whether the chain of the audit log holds; else the first entry that does not fit."""

    holds: bool
    broken_at: int | None


class PageOfAuditEntries(Page[AuditEntry]):
    """A page of the audit log."""


class PageOfActivity(Page[ActivityLine]):
    """A page of the timeline."""
