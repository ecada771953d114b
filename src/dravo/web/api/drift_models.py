"""What the management API gives of reconciliations: runs, and the drift that they found."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from dravo.web.api.application_models import ChangedAttribute
from dravo.web.api.base import Model
from dravo.web.api.models import Page


class Run(Model):
    """One reconciliation: how far it is, and how many differences of each kind it found."""

    id: str
    state: str
    asked_by: str
    asked_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    groups: int = Field(description="How many groups of ours were compared.")
    read: int
    counts: dict[str, int]
    message: str | None
    mend: str | None


class PageOfRuns(Page[Run]):
    """A page of runs."""


class DriftLine(Model):
    """A difference: missing, unexpected, different, role or state; of whom, and in what (before: there; after: as it should be)."""

    id: str
    kind: str
    state: str
    name: str
    person: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str


class PageOfDrift(Page[DriftLine]):
    """A page of differences."""


class MadeUser(Model):
    """Who was made of an account."""

    person: str
