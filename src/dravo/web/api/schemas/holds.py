"""Held removals."""

from __future__ import annotations

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, UserRef


class HeldUser(Model):
    """Somebody whose removal is held, and what the account is to become."""

    user: UserRef
    aim: str


class HoldItem(Model):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    users: list[HeldUser]


class HoldList(Model):
    """What the removal limit holds."""

    items: list[HoldItem]
