"""Held removals."""

from __future__ import annotations

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import KeyAndLabel, UserRef


class HeldUser(Model):
    """A held removal of a user."""

    user: UserRef
    desired_state: str


class HoldItem(Model):
    """The held removals of an application."""

    application: KeyAndLabel = Field(description="The application whose removals are held.")
    number: int = Field(description="Number of held removals.")
    since: str = Field(description="Time of the first held removal.")
    message: str = Field(description="Why the removals are held, in a sentence.")
    users: list[HeldUser] = Field(description="The first users whose access would be removed.")


class HoldList(Model):
    """All held removals."""

    items: list[HoldItem]
