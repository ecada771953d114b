"""What requests and responses of several resources share: pages, references, confirmation.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class GroupRef(TypedDict):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None
    gone: bool


class Named(TypedDict):
    """Something by key and label."""

    key: str
    label: str


class Number(TypedDict):
    """How many."""

    number: int


class RoleRef(TypedDict):
    """A role, in short."""

    key: str
    label: str
    rank: int


class SeenPreview(TypedDict):
    """What was seen in the preview."""

    gained: int
    lost: int
    changed: int


class UserRef(TypedDict):
    """A user, in short."""

    id: str
    display_name: str
    user_name: str
