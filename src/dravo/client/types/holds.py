"""Held removals.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named, PersonRef


class GuardItem(TypedDict):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    people: list[HeldPerson]


class GuardListing(TypedDict):
    """What the guard holds."""

    items: list[GuardItem]


class HeldPerson(TypedDict):
    """Somebody whose removal is held, and what the account is to become."""

    person: PersonRef
    aim: str
