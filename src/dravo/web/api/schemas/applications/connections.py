"""Connections to applications and the connection test."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyAndLabel
from dravo.web.api.schemas.sources.sources import ChecklistItem, ChecklistTrouble, ChecklistValue


class Capabilities(Model):
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


class SignInWay(Model):
    """The authentication at an application, without the secret."""

    kind: str = Field(description="Authentication method: bearer, basic or client_credentials.")
    user: str | None = None
    token_url: str | None = None
    client_id: str | None = None
    scope: str | None = None
    ca: str | None = Field(None, description="Certificates of the application's own authority, as PEM.")


class ConnectionStatus(Model):
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


class CheckStep(Model):
    """One step of a connection check."""

    name: str = Field(description="What the step checks.")
    outcome: str = Field(description="Result: ok, failed, skipped or pending.")
    message: str = Field(description="Result of the step in a sentence.")
    hint: str


class Check(Model):
    """A connection check."""

    ok: bool
    base_url: str = Field(description="Address that was checked, after repairs.")
    steps: list[CheckStep]
    capabilities: Capabilities | None


class AvailableRole(Model):
    """A value that the application has."""

    attribute: str = Field(description="Where it was seen: roles, entitlements or groups.")
    value: str = Field(description="Value of the role or entitlement, or name of the group.")
    label: str = Field(description="Display name in the application; empty if there is none.")
    accounts: int = Field(description="Number of accounts, or members of the group, that were seen with it.")
    role: str | None = Field(description="Key of the role that is sent as this value, or null.")


class AvailableRoles(Model):
    """The roles, entitlements and groups that the application was seen with."""

    attribute: str | None = Field(
        description="Where roles are sent: roles, entitlements or groups; null for another way."
    )
    seen_at: str | None = Field(description="Time when the application was read, or null.")
    complete: bool = Field(description="Whether all accounts were read, not only a sample.")
    items: list[AvailableRole]
    missing: list[str] = Field(description="Keys of roles whose value the application does not list.")


class CheckQuery(Model):
    """Options of a connection check."""

    with_test_user: bool = False


class CredentialsRequest(RequestModel):
    """The authentication at an application."""

    kind: Literal["bearer", "basic", "client_credentials"] = Field(
        "bearer", description="Authentication method."
    )
    user: Text | None = None
    token_url: Text | None = None
    client_id: Text | None = None
    scope: Text | None = None
    ca: str | None = Field(
        None,
        max_length=100_000,
        description="Certificates of the application's own authority, as PEM; empty for public ones.",
    )


class ConnectionRequest(RequestModel):
    """A connection. Without a token, the saved one is kept if the host stays the same."""

    base_url: Text
    token: Annotated[str, Field(max_length=10_000)] | None = Field(
        None, description="Token, password or client secret."
    )
    auth: CredentialsRequest | None = None
    expires_at: Text | None = None


class MissingStep(Model):
    """Something to do before accounts are provisioned."""

    message: str = Field(description="What is missing, in a sentence.")
    hint: str


class ApplicationChecklist(Model):
    """The setup checklist of an application."""

    application: KeyAndLabel = Field(description="The application to set up.")
    give: list[ChecklistValue] = Field(description="What the administrator of the application has to know.")
    get: list[str] = Field(description="What the administrator of the application has to give.")
    missing: list[MissingStep] = Field(description="What is still to do here.")
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    text: str = Field(description="The checklist as text to send, without a secret.")
