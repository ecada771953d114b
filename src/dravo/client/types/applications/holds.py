"""Held removals.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, UserRef


class HeldUser(TypedDict):
    """A held removal of a user."""

    user: UserRef
    desired_state: str


class HoldItem(TypedDict):
    """The held removals of an application."""

    application: KeyAndLabel
    number: int
    since: str
    message: str
    users: list[HeldUser]


class HoldList(TypedDict):
    """All held removals."""

    items: list[HoldItem]
