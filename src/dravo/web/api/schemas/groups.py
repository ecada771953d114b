"""Groups."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import KeyAndLabel, Page, SearchQuery


class GroupsQuery(SearchQuery):
    """Filters for groups."""

    source: str | None = Field(None, description="Only groups of this source, by key.")
    mapped: Literal["yes", "no"] | None = Field(None, description="Only mapped, or only unmapped groups.")


class Group(Model):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: KeyAndLabel | None
    members: int
    assignments: int
    modified_at: str


class GroupNearby(Model):
    """A nested or containing group."""

    id: str
    name: str
    source: KeyAndLabel | None


class GroupDetail(Group):
    """A group with its nested and containing groups."""

    local: bool
    within: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class PageOfGroups(Page[Group]):
    """A page of groups."""
