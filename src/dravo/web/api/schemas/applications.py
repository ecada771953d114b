"""Applications, roles and access policies."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, KeyPath, Page, RoleRef
from dravo.web.api.schemas.connections import ConnectionStatus
from dravo.web.api.schemas.license_plans import Plan
from dravo.web.api.schemas.provisioning_settings import ProvisioningSettingsRequest, Settings
from dravo.web.api.schemas.tasks import Exchange


class ApplicationLine(Model):
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    address: str | None
    hidden: bool
    tracked_only: bool
    enabled: bool
    status: str
    users: int
    accounts: int
    waiting: int
    failed: int
    drifting: int
    mapping_warnings: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None = Field(description="When the connection's secret ends, if that is within 30 days.")
    trouble: str | None
    hint: str | None
    created_at: str


class Role(RoleRef):
    """A role and how many have it."""

    users: int


class Policy(Model):
    """How access is decided: who may come in, what if nothing gives a role, which of several roles, which assignments are heard."""

    eligibility: Literal["assigned", "everyone"]
    fallback: Literal["no_access", "fallback_role", "retain"]
    fallback_role: str | None
    several: Literal["all", "highest"]
    first: Literal["both", "direct", "rules"]


class Application(ApplicationLine):
    """An application, whole."""

    roles: list[Role]
    plans: list[Plan]
    policy: Policy
    settings: Settings
    connection: ConnectionStatus


class ProvisionedGroup(Model):
    """A group as it is sent: of a source ("group") or a role's users ("role"); `going`: it is to go there."""

    id: str
    kind: str
    of: str
    name: str
    going: bool
    status: str
    members: int
    members_there: int
    remote_id: str | None
    origin: str | None
    applied_at: str | None
    next_attempt_at: str | None
    message: str | None
    hint: str | None
    exchanges: list[Exchange]


class PageOfProvisionedGroups(Page[ProvisionedGroup]):
    """A page of delivered groups."""


class RolePath(KeyPath):
    """One role of an application."""

    role: str


class AddApplicationRequest(RequestModel):
    """An application to be added."""

    key: Text
    label: Text
    owner: Text | None = None
    tracked_only: bool = Field(False, description="Provisioned by hand: access is tracked, nothing is delivered.")


class ChangeApplicationRequest(ProvisioningSettingsRequest):
    """What to change of an application; what is left out stays."""

    label: Text | None = None
    owner: Text | None = None
    address: Text | None = Field(None, description="Where users open it; empty: none.")
    hidden: bool | None = Field(None, description="Not shown among users' own applications.")


class CreateRoleRequest(RequestModel):
    """A role to be added; a higher rank may do more."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)


class ChangeRoleRequest(RequestModel):
    """What to change of a role."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)


class PolicyRequest(ConfirmedRequest):
    """How an application decides; what is left out stays."""

    eligibility: Literal["assigned", "everyone"] | None = None
    fallback: Literal["no_access", "fallback_role", "retain"] | None = None
    fallback_role: Text | None = Field(None, description="By key.")
    several: Literal["all", "highest"] | None = None
    first: Literal["both", "direct", "rules"] | None = None


class PageOfApplications(Page[ApplicationLine]):
    """A page of applications."""
