"""Held removals.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named, UserRef


class HeldUser(TypedDict):
    """Somebody whose removal is held, and what the account is to become."""

    user: UserRef
    aim: str


class HoldItem(TypedDict):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    users: list[HeldUser]


class HoldList(TypedDict):
    """What the removal limit holds."""

    items: list[HoldItem]
