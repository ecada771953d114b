"""Applications, roles and access policies."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.applications.connections import ConnectionStatus
from dravo.web.api.schemas.applications.license_plans import Plan
from dravo.web.api.schemas.applications.provisioning_settings import ProvisioningSettingsRequest, Settings
from dravo.web.api.schemas.applications.tasks import Exchange
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, GroupRef, KeyAndLabel, KeyPath, Page, RoleRef


class ApplicationLine(Model):
    """An application as in lists."""

    key: str
    label: str = Field(description="Label of the application.")
    owner: str | None
    icon: str | None = Field(description="Version of the icon; null without an icon.")
    instance_of: KeyAndLabel | None = Field(description="The application that it was copied from, or null.")
    address: str | None
    hidden: bool
    requestable: bool = Field(description="Whether users can request access.")
    tracked_only: bool
    enabled: bool
    status: str = Field(
        description="Status: tracked_only, not_set_up, paused, disabled, scheduled, not_answering, pilot "
        "or ok."
    )
    users: int = Field(description="Number of users with access.")
    accounts: int = Field(description="Number of accounts.")
    waiting: int
    failed: int
    manual: int = Field(description="Number of accounts that operators create, change or remove by hand.")
    drifting: int
    mapping_warnings: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None = Field(
        description="Expiry of the connection secret, if it is within 30 days."
    )
    trouble: str | None
    hint: str | None
    created_at: str


class Role(RoleRef):
    """A role with the number of its users."""

    sent_value: str | None = Field(
        description="Value sent to the application for the role; null if the key is sent."
    )
    description: str | None = Field(description="What the role permits.")
    users: int = Field(description="Number of users with the role.")


class Policy(Model):
    """An access policy: eligible users, fallback, multiple roles and precedence."""

    eligibility: Literal["assigned", "everyone"]
    fallback: Literal["no_access", "fallback_role", "retain"]
    fallback_role: str | None
    several: Literal["all", "highest"]
    first: Literal["both", "direct", "rules"]


class ProvisioningStatus(Model):
    """Whether accounts are provisioned."""

    status: Literal["disabled", "pilot", "scheduled", "enabled"] = Field(description="Provisioning status.")
    pilot_group: GroupRef | None = Field(description="Group whose members alone are provisioned, in a pilot.")
    enabled_from: str | None = Field(
        description="Time at which a disabled application is enabled for everyone."
    )


class ProvisioningStatusRequest(RequestModel):
    """A new provisioning status."""

    status: Literal["disabled", "pilot", "enabled"] = Field(
        description="Status: disabled, pilot (members of the pilot group only) or enabled."
    )
    pilot_group: Text | None = Field(
        None, description="Pilot group by ID, external ID or name; empty keeps the present pilot group."
    )
    source: Text | None = Field(None, description="Key of the source of the pilot group.")
    enabled_from: Text | None = Field(
        None, description="Time at which a disabled application is enabled; empty for none."
    )


class Application(ApplicationLine):
    """An application with all settings."""

    note: str | None = Field(description="Note of operators.")
    instances: list[KeyAndLabel] = Field(description="Other instances: the original and its other copies.")
    roles: list[Role] = Field(description="Roles of the application, the highest first.")
    plans: list[Plan]
    policy: Policy
    provisioning: ProvisioningStatus = Field(description="Provisioning status.")
    settings: Settings = Field(description="Provisioning settings.")
    connection: ConnectionStatus


class ProvisionedGroup(Model):
    """A provisioned group: a group ("group") or the users of a role ("role")."""

    id: str = Field(description="ID of the provisioned group.")
    kind: str = Field(description="Kind: a group, or a role that is sent as a group.")
    of: str
    name: str = Field(description="Name of the group in the application.")
    going: bool
    status: str = Field(description="Status of the group in the application.")
    members: int = Field(description="Number of desired members.")
    members_there: int
    remote_id: str | None
    origin: str | None
    applied_at: str | None
    next_attempt_at: str | None
    message: str | None = Field(description="Last error of the group in a sentence, or null.")
    hint: str | None
    exchanges: list[Exchange]


class PageOfProvisionedGroups(Page[ProvisionedGroup]):
    """A page of provisioned groups."""


class RolePath(KeyPath):
    """One role of an application."""

    role: str


class AddApplicationRequest(RequestModel):
    """A new application."""

    key: Text
    label: Text
    owner: Text | None = Field(
        None, description="Name of the operator who owns the application; needs `operators.change`."
    )
    tracked_only: bool = Field(False, description="Track access only: operators manage the accounts by hand.")
    template: Text | None = Field(None, description="Key of an application template; empty for none.")
    answers: dict[str, Text] = Field(
        {}, max_length=50, description="Answers to the questions of the template, by name."
    )


class AddSeveralRequest(RequestModel):
    """Several new applications, one for each template."""

    templates: list[Text] = Field(min_length=1, max_length=50, description="Keys of application templates.")
    owner: Text | None = Field(None, description="Name of the operator who owns the applications.")


class AddedApplication(Model):
    """The application that was added from a template, or why it was not."""

    template: str = Field(description="Key of the template.")
    application: KeyAndLabel | None = Field(description="The new application, or null.")
    message: str | None = Field(description="Why no application was added, or null.")
    hint: str | None


class AddedApplications(Model):
    """What was added, in the order of the templates."""

    items: list[AddedApplication]


class IconRequest(RequestModel):
    """An icon: PNG, JPEG, WebP or GIF. Dravo stores it as PNG of at most 128 x 128 pixels."""

    image: str = Field(max_length=700_000, description="The file in base64, at most 500,000 bytes.")


class IconQuery(Model):
    """Which icon."""

    version: str | None = Field(None, description="Version of the icon, for caches; the answer is the same.")


class ChangeApplicationRequest(ProvisioningSettingsRequest):
    """Changes to an application. Omitted fields keep their value."""

    label: Text | None = None
    owner: Text | None = Field(
        None,
        description="Name of the operator who owns it, empty for none; needs `operators.change`.",
    )
    address: Text | None = Field(None, description="Start URL for users; empty for none.")
    hidden: bool | None = Field(None, description="Whether the application is hidden from the users' list.")
    requestable: bool | None = Field(None, description="Whether users can request access.")
    note: Text | None = Field(None, description="Note of operators; empty for none.")
    tracked_only: bool | None = Field(
        None, description="Whether operators manage the accounts by hand. Dravo then provisions none."
    )


class CreateRoleRequest(RequestModel):
    """A new role."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)
    sent_value: Text = Field("", description="Value sent to the application; empty for the key.")
    description: Text = Field("", description="What the role permits.")


class ChangeRoleRequest(ConfirmedRequest):
    """Changes to a role. Omitted fields keep their value."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)
    sent_value: Text | None = Field(None, description="Value sent to the application; empty for the key.")
    description: Text | None = Field(None, description="What the role permits; empty for none.")


class PolicyRequest(ConfirmedRequest):
    """Changes to an access policy. Omitted fields keep their value."""

    eligibility: Literal["assigned", "everyone"] | None = None
    fallback: Literal["no_access", "fallback_role", "retain"] | None = None
    fallback_role: Text | None = Field(None, description="Key of the fallback role.")
    several: Literal["all", "highest"] | None = None
    first: Literal["both", "direct", "rules"] | None = None


class PageOfApplications(Page[ApplicationLine]):
    """A page of applications."""
