"""Users, groups, roles and other objects in short, as rows of other objects name them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.identity.records import display_name
from dravo.store.operators.masked_views import MASKS, NAMES


@dataclass(frozen=True)
class KeyAndLabel:
    """An object with a key."""

    key: str
    label: str


@dataclass(frozen=True)
class RoleRef:
    """A role of an application."""

    key: str
    label: str
    rank: int


@dataclass(frozen=True)
class GroupRef:
    """A group; `gone` if it was deleted."""

    id: str
    name: str
    external_id: str | None = None
    gone: bool = False


@dataclass(frozen=True)
class UserRef:
    """A user."""

    id: str
    display_name: str
    user_name: str


def user_ref(row: Any, of: str = "id") -> UserRef:
    """Return the user of a row; `of` is the column with the ID."""
    return UserRef(getattr(row, of), row.display_name, row.user_name)


def attributes_ref(user_id: str, attributes: Mapping[str, Any]) -> UserRef:
    """Return a user with planned attributes; named by the ID where the present caller sees no names."""
    if NAMES in MASKS.get():
        tail = user_id[-8:]
        return UserRef(user_id, f"User {tail}", f"user-{tail}")
    return UserRef(user_id, display_name(attributes), str(attributes.get("userName", "")))


def key_and_label(key: str | None, label: str | None) -> KeyAndLabel | None:
    """Return an object that an outer join may not have found."""
    return None if key is None else KeyAndLabel(key, label or "")
