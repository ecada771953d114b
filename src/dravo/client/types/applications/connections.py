"""Connections to applications and the connection test.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel
    from dravo.client.types.sources.sources import ChecklistItem, ChecklistTrouble, ChecklistValue


class ApplicationChecklist(TypedDict):
    """The setup checklist of an application."""

    application: KeyAndLabel
    give: list[ChecklistValue]
    get: list[str]
    missing: list[MissingStep]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    text: str


class AvailableRole(TypedDict):
    """A value that the application has."""

    attribute: str
    value: str
    label: str
    accounts: int
    role: str | None


class AvailableRoles(TypedDict):
    """The roles, entitlements and groups that the application was seen with."""

    attribute: str | None
    seen_at: str | None
    complete: bool
    items: list[AvailableRole]
    missing: list[str]


class Capabilities(TypedDict):
    """The capabilities of an application."""

    patch: bool
    filter: bool
    bulk: bool
    sort: bool
    etag: bool
    cursor: bool
    max_results: int | None
    groups: bool
    attributes: list[str] | None
    roles: str
    notes: list[str]


class Check(TypedDict):
    """A connection check."""

    ok: bool
    base_url: str
    steps: list[CheckStep]
    capabilities: Capabilities | None


class CheckStep(TypedDict):
    """One step of a connection check."""

    name: str
    outcome: str
    message: str
    hint: str


class ConnectionStatus(TypedDict):
    """The connection to an application."""

    base_url: str | None
    has_secret: bool
    auth: SignInWay
    secret_expires_at: str | None
    checked_at: str | None
    capabilities: Capabilities | None
    paused_at: str | None
    failures: int
    retry_at: str | None


class MissingStep(TypedDict):
    """Something to do before accounts are provisioned."""

    message: str
    hint: str


class SignInWay(TypedDict):
    """The authentication at an application, without the secret."""

    kind: str
    user: str | None
    token_url: str | None
    client_id: str | None
    scope: str | None
    ca: str | None
