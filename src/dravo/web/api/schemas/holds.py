"""Held removals."""

from __future__ import annotations

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, PersonRef


class HeldPerson(Model):
    """Somebody whose removal is held, and what the account is to become."""

    person: PersonRef
    aim: str


class GuardItem(Model):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    people: list[HeldPerson]


class GuardListing(Model):
    """What the guard holds."""

    items: list[GuardItem]
