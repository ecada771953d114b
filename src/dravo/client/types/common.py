"""What requests and responses of several resources share: pages, references, confirmation.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class ConfirmedPreview(TypedDict):
    """The numbers of the preview."""

    gained: int
    lost: int
    changed: int


class GroupRef(TypedDict):
    """A reference to a group."""

    id: str
    name: str
    external_id: str | None
    gone: bool


class KeyAndLabel(TypedDict):
    """A reference by key and label."""

    key: str
    label: str


class Number(TypedDict):
    """How many objects an operation changed."""

    number: int


class RoleRef(TypedDict):
    """A reference to a role."""

    key: str
    label: str
    rank: int


class UserRef(TypedDict):
    """A reference to a user."""

    id: str
    display_name: str
    user_name: str
