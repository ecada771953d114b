"""Groups."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, Page, SearchQuery


class GroupsQuery(SearchQuery):
    """Which groups."""

    source: str | None = Field(None, description="Only this source's, by key.")
    mapped: Literal["yes", "no"] | None = Field(None, description="Only groups that an assignment names, or only those that none does.")


class Group(Model):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str


class GroupNearby(Model):
    """A group that lists another, or is listed by it."""

    id: str
    name: str
    source: Named | None


class GroupDetail(Group):
    """A group with the groups in it, the groups that it is in, and how many users are in it by any nesting."""

    local: bool
    within: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class PageOfGroups(Page[Group]):
    """A page of groups."""
