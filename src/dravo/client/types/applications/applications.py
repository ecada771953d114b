"""Applications, roles and access policies.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.connections import ConnectionStatus
    from dravo.client.types.applications.license_plans import Plan
    from dravo.client.types.applications.provisioning_settings import Settings
    from dravo.client.types.applications.tasks import Exchange
    from dravo.client.types.common import GroupRef, KeyAndLabel


class AddedApplication(TypedDict):
    """The application that was added from a template, or why it was not."""

    template: str
    application: KeyAndLabel | None
    message: str | None
    hint: str | None


class AddedApplications(TypedDict):
    """What was added, in the order of the templates."""

    items: list[AddedApplication]


class Application(TypedDict):
    """An application with all settings."""

    key: str
    label: str
    owner: str | None
    icon: str | None
    instance_of: KeyAndLabel | None
    address: str | None
    hidden: bool
    requestable: bool
    tracked_only: bool
    enabled: bool
    status: str
    users: int
    accounts: int
    waiting: int
    failed: int
    manual: int
    drifting: int
    mapping_warnings: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None
    trouble: str | None
    hint: str | None
    created_at: str
    note: str | None
    instances: list[KeyAndLabel]
    roles: list[Role]
    plans: list[Plan]
    policy: Policy
    provisioning: ProvisioningStatus
    settings: Settings
    connection: ConnectionStatus


class ApplicationLine(TypedDict):
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    icon: str | None
    instance_of: KeyAndLabel | None
    address: str | None
    hidden: bool
    requestable: bool
    tracked_only: bool
    enabled: bool
    status: str
    users: int
    accounts: int
    waiting: int
    failed: int
    manual: int
    drifting: int
    mapping_warnings: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None
    trouble: str | None
    hint: str | None
    created_at: str


class PageOfApplications(TypedDict):
    """A page of applications."""

    items: list[ApplicationLine]
    total: int
    next: str | None


class PageOfProvisionedGroups(TypedDict):
    """A page of provisioned groups."""

    items: list[ProvisionedGroup]
    total: int
    next: str | None


class Policy(TypedDict):
    """An access policy: eligible users, fallback, multiple roles and precedence."""

    eligibility: str
    fallback: str
    fallback_role: str | None
    several: str
    first: str


class ProvisionedGroup(TypedDict):
    """A provisioned group: a group ("group") or the users of a role ("role")."""

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


class ProvisioningStatus(TypedDict):
    """Whether accounts are provisioned."""

    status: str
    pilot_group: GroupRef | None
    enabled_from: str | None


class Role(TypedDict):
    """A role with the number of its users."""

    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None
    users: int
