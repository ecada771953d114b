"""Provisioning settings of an application."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import UserRef


class AttributeRow(Model):
    """An attribute of the account, and the expression that makes it; an empty one leaves it out."""

    attribute: str
    expression: str


class RolesAs(Model):
    """How roles are sent."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str


class GroupOver(Model):
    """A group that is sent, perhaps under another name."""

    group: str
    name: str | None = None


class GroupsOver(Model):
    """Which groups are sent."""

    which: str
    groups: list[GroupOver]


class Settings(Model):
    """What Dravo may do in an application, and what is sent."""

    enabled: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by_user_name: bool
    adopt_groups: bool
    on_losing_access: str
    on_inactive: str
    on_leaving: str
    max_concurrency: int
    rate_limit: int
    attributes: list[AttributeRow]
    role_encoding: RolesAs
    plan_encoding: RolesAs
    provisioned_groups: GroupsOver
    reconcile_at: str
    reconcile_in_words: str
    reconcile_next_at: str | None
    reconcile_times: list[str]


class ChangedAttribute(Model):
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


class SettingsPreviewUser(Model):
    """What a change of settings would do to one account."""

    user: UserRef
    before: str
    after: str
    changes: list[ChangedAttribute]


class SettingsPreview(Model):
    """What a change of settings would do: so many accounts of so many; the first of them by name. `whole`: all were looked at."""

    accounts: int
    changed: int
    whole: bool
    users: list[SettingsPreviewUser]


Leaving = Literal["deactivate", "delete", "do_nothing"]


class AttributeRowRequest(RequestModel):
    """An attribute of accounts, and the expression that makes it; an empty one leaves it out."""

    attribute: Text
    expression: Text


class RoleEncodingRequest(RequestModel):
    """How roles are sent."""

    way: Literal["roles", "entitlements", "groups", "attribute", "nothing"] = "roles"
    attribute: Text | None = None
    which: Literal["all", "highest"] = "all"
    shape: Literal["as_declared", "objects", "strings"] = "as_declared"
    value: Literal["key", "label"] = "key"


class ProvisionedGroupRequest(RequestModel):
    """A group that is sent, perhaps under another name."""

    group: Text
    name: Text | None = None


class ProvisionedGroupsRequest(RequestModel):
    """Which groups are sent."""

    which: Literal["none", "with_roles", "selected"]
    groups: list[ProvisionedGroupRequest] = Field(default_factory=list, max_length=1_000)


class ProvisioningSettingsRequest(RequestModel):
    """Settings of an application; what is left out stays."""

    enabled: bool | None = None
    create_accounts: bool | None = None
    update_accounts: bool | None = None
    adopt_by_user_name: bool | None = None
    adopt_groups: bool | None = None
    on_losing_access: Leaving | None = None
    on_inactive: Leaving | None = None
    on_leaving: Leaving | None = None
    max_concurrency: int | None = None
    rate_limit: int | None = Field(None, description="Requests a second at the most; 0 for no limit.")
    attributes: list[AttributeRowRequest] | None = Field(None, max_length=200)
    role_encoding: RoleEncodingRequest | None = None
    plan_encoding: RoleEncodingRequest | None = Field(None, description="How the plan of which somebody has a seat is sent.")
    provisioned_groups: ProvisionedGroupsRequest | None = None
    reconcile_at: Text | None = Field(None, description="A cron expression; empty for never.")
