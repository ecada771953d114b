"""Groups."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import ConfirmedRequest, KeyAndLabel, Page, SearchQuery

MembersFrom = Literal["all", "inbound_scim", "import", "sign_in", "dravo"]


class GroupsQuery(SearchQuery):
    """Filters for groups."""

    source: str | None = Field(None, description="Only groups of this source, by key.")
    mapped: Literal["yes", "no"] | None = Field(None, description="Only mapped, or only unmapped groups.")


class Group(Model):
    """A group."""

    id: str = Field(description="ID of the group.")
    name: str = Field(description="Name of the group.")
    external_id: str | None
    source: KeyAndLabel | None = Field(
        description="The source that reports the group; null for a local group."
    )
    members: int = Field(description="Number of direct members.")
    assignments: int
    modified_at: str


class GroupNearby(Model):
    """A nested or containing group."""

    id: str = Field(description="ID of the group.")
    name: str = Field(description="Name of the group.")
    source: KeyAndLabel | None


class GroupDetail(Group):
    """A group with its nested and containing groups."""

    local: bool
    description: str = Field(description="What a local group is for, or empty.")
    members_from: MembersFrom = Field(description="Who decides about the members of the group.")
    own_members_from: MembersFrom | None = Field(
        description="The same where the group differs from its source; null where the source decides."
    )
    users_with_nested_groups: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class AuthorityRequest(ConfirmedRequest):
    """Who decides about the members of a group."""

    members_from: Literal["all", "inbound_scim", "import", "sign_in", "dravo", "source"] = Field(
        description="`all` connection types, one of them, or `dravo`; `source` for the setting of the source."
    )


class PageOfGroups(Page[Group]):
    """A page of groups."""
