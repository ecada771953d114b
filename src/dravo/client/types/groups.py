"""Groups.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel


class Group(TypedDict):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: KeyAndLabel | None
    members: int
    assignments: int
    modified_at: str


class GroupDetail(TypedDict):
    """A group with its nested and containing groups."""

    id: str
    name: str
    external_id: str | None
    source: KeyAndLabel | None
    members: int
    assignments: int
    modified_at: str
    local: bool
    description: str
    members_from: str
    own_members_from: str | None
    users_with_nested_groups: int
    inner: list[GroupNearby]
    around: list[GroupNearby]


class GroupNearby(TypedDict):
    """A nested or containing group."""

    id: str
    name: str
    source: KeyAndLabel | None


class PageOfGroups(TypedDict):
    """A page of groups."""

    items: list[Group]
    total: int
    next: str | None
