"""Provisioning settings of an application.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import UserRef


class AttributeRow(TypedDict):
    """An attribute of the account with its expression; an empty expression sends no value."""

    attribute: str
    expression: str


class ChangedAttribute(TypedDict):
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


class GroupOver(TypedDict):
    """A provisioned group with an optional name."""

    group: str
    name: str | None


class GroupsOver(TypedDict):
    """The provisioned groups."""

    which: str
    groups: list[GroupOver]
    source: str | None
    pattern: str | None


class RolesAs(TypedDict):
    """How roles are sent."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str


class Settings(TypedDict):
    """The provisioning settings of an application."""

    enabled: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by: list[str]
    adopt_groups: bool
    unlinked_accounts: str
    approve_tasks: bool
    origin_attribute: str
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


class SettingsPreview(TypedDict):
    """The preview of changed settings."""

    accounts: int
    changed: int
    whole: bool
    users: list[SettingsPreviewUser]


class SettingsPreviewUser(TypedDict):
    """An account that changed settings would affect."""

    user: UserRef
    before: str
    after: str
    changes: list[ChangedAttribute]
