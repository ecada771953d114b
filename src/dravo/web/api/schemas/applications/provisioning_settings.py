"""Provisioning settings of an application."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import UserRef


class AttributeRow(Model):
    """An attribute of the account with its expression; an empty expression sends no value."""

    attribute: str
    expression: str


class RolesAs(Model):
    """How roles are sent."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str = Field(description="Whether the key or the label of the role is sent.")


class GroupOver(Model):
    """A provisioned group with an optional name."""

    group: str
    name: str | None = Field(None, description="Name of the group in the application, if it differs.")


class GroupsOver(Model):
    """The provisioned groups."""

    which: str
    groups: list[GroupOver]
    source: str | None = Field(None, description="For a pattern: key of the source of the groups, or null.")
    pattern: str | None = Field(None, description="Pattern of group names, or null.")


class Settings(Model):
    """The provisioning settings of an application."""

    enabled: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by: list[str] = Field(
        description="Attributes by which existing accounts are adopted, such as userName or emails."
    )
    adopt_groups: bool
    unlinked_accounts: str = Field(
        description="What a reconciliation does with accounts without a user: wait, adopt, create_users or "
        "ignore."
    )
    approve_tasks: bool = Field(description="Whether each task waits for an operator's approval.")
    origin_attribute: str = Field(description="Attribute that says that Dravo provisioned the account.")
    on_losing_access: str
    on_inactive: str
    on_leaving: str
    max_concurrency: int
    rate_limit: int
    attributes: list[AttributeRow]
    role_encoding: RolesAs
    plan_encoding: RolesAs
    provisioned_groups: GroupsOver
    reconcile_schedule: str
    reconcile_schedule_words: str
    reconcile_next_at: str | None
    reconcile_times: list[str]


class ChangedAttribute(Model):
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


class SettingsPreviewUser(Model):
    """An account that changed settings would affect."""

    user: UserRef
    before: str
    after: str
    changes: list[ChangedAttribute]


class SettingsPreview(Model):
    """The preview of changed settings."""

    accounts: int = Field(description="Number of accounts in the application.")
    changed: int
    whole: bool
    users: list[SettingsPreviewUser] = Field(description="The first users whose account changes.")


Leaving = Literal["deactivate", "delete", "do_nothing"]


class AttributeRowRequest(RequestModel):
    """An attribute of accounts with its expression; an empty expression sends no value."""

    attribute: Text
    expression: Text


class RoleEncodingRequest(RequestModel):
    """How roles are sent."""

    way: Literal["roles", "entitlements", "groups", "attribute", "nothing"] = "roles"
    attribute: Text | None = None
    which: Literal["all", "highest"] = "all"
    shape: Literal["as_declared", "objects", "strings"] = "as_declared"
    value: Literal["key", "label"] = Field(
        "key", description="Whether the key or the label of the role is sent."
    )


class ProvisionedGroupRequest(RequestModel):
    """A provisioned group with an optional name."""

    group: Text
    name: Text | None = Field(None, description="Name of the group in the application, if it differs.")


class ProvisionedGroupsRequest(RequestModel):
    """The provisioned groups."""

    which: Literal["none", "with_roles", "selected", "pattern"]
    groups: list[ProvisionedGroupRequest] = Field(default_factory=list, max_length=1_000)
    source: Text | None = Field(None, description="For a pattern: key of the source of the groups.")
    pattern: Text | None = Field(
        None, description="For a pattern: a regular expression for group names, such as ^plants-."
    )


class ProvisioningSettingsRequest(RequestModel):
    """Changes to provisioning settings. Omitted fields keep their value."""

    enabled: bool | None = None
    create_accounts: bool | None = None
    update_accounts: bool | None = None
    adopt_by: list[Text] | None = Field(
        None,
        max_length=10,
        description="Attributes by which existing accounts are adopted, such as userName or emails.",
    )
    adopt_groups: bool | None = None
    unlinked_accounts: Literal["wait", "adopt", "create_users", "ignore"] | None = Field(
        None,
        description="What a reconciliation does with accounts without a user: wait for an operator, adopt, "
        "create_users or ignore.",
    )
    approve_tasks: bool | None = Field(
        None, description="Whether each task waits for an operator's approval."
    )
    origin_attribute: Text | None = Field(
        None, description="Attribute that says that Dravo provisioned the account; empty for none."
    )
    on_losing_access: Leaving | None = None
    on_inactive: Leaving | None = None
    on_leaving: Leaving | None = None
    max_concurrency: int | None = None
    rate_limit: int | None = Field(None, description="Maximum number of requests per second; 0 for no limit.")
    attributes: list[AttributeRowRequest] | None = Field(None, max_length=200)
    role_encoding: RoleEncodingRequest | None = None
    plan_encoding: RoleEncodingRequest | None = Field(None, description="How the license plan is sent.")
    provisioned_groups: ProvisionedGroupsRequest | None = None
    reconcile_schedule: Text | None = Field(
        None, description="Reconciliation schedule (cron, UTC); empty for none."
    )


class TrackedOnlyRequest(RequestModel):
    """Whether operators manage the accounts of an application by hand."""

    tracked_only: bool = Field(description="Whether operators manage the accounts by hand.")
