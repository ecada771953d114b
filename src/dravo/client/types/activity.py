"""Activity and the audit log.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named


class ActivityLine(TypedDict):
    """One thing that happened: a request, an attempt of a task, a reconciliation, or a change by an operator."""

    id: str
    kind: str
    at: str
    outcome: str
    by: str
    what: str
    detail: str
    source: Named | None
    application: Named | None
    user: ActivityUser | None
    task: str | None
    object: AuditObject | None
    undoable: bool


class ActivityUser(TypedDict):
    """A user, as a line of the timeline names them."""

    id: str
    name: str


class AuditEntry(TypedDict):
    """Which operator changed what, when."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class AuditObject(TypedDict):
    """What was changed."""

    kind: str
    id: str


class AuditVerification(TypedDict):
    """Whether the chain of the audit log holds; else the first entry that does not fit."""

    holds: bool
    broken_at: int | None


class PageOfActivity(TypedDict):
    """A page of the timeline."""

    items: list[ActivityLine]
    total: int
    next: str | None


class PageOfAuditEntries(TypedDict):
    """A page of the audit log."""

    items: list[AuditEntry]
    total: int
    next: str | None
