"""Activity and the audit log.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel


class ActivityLine(TypedDict):
    """One activity: a request, an attempt, an import run, a reconciliation or a change by an operator."""

    id: str
    kind: str
    at: str
    outcome: str
    by: str
    what: str
    detail: str
    source: KeyAndLabel | None
    application: KeyAndLabel | None
    user: ActivityUser | None
    task: str | None
    object: AuditObject | None
    undoable: bool


class ActivityUser(TypedDict):
    """A user in the activity list."""

    id: str
    name: str


class AuditEntry(TypedDict):
    """An entry of the audit log."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class AuditObject(TypedDict):
    """The changed object."""

    kind: str
    id: str


class AuditVerification(TypedDict):
    """The result of verifying the audit log."""

    holds: bool
    broken_at: int | None


class PageOfActivity(TypedDict):
    """A page of activity."""

    items: list[ActivityLine]
    total: int
    next: str | None


class PageOfAuditEntries(TypedDict):
    """A page of the audit log."""

    items: list[AuditEntry]
    total: int
    next: str | None
