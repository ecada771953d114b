"""Held removals."""

from __future__ import annotations

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import KeyAndLabel, UserRef


class HeldUser(Model):
    """A held removal of a user."""

    user: UserRef
    desired_state: str


class HoldItem(Model):
    """The held removals of an application."""

    application: KeyAndLabel
    number: int
    since: str
    message: str
    users: list[HeldUser]


class HoldList(Model):
    """All held removals."""

    items: list[HoldItem]
