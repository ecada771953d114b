"""What the management API takes about local people and groups."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from dravo.web.api.asked import Given, SureBody, Text

Names = Annotated[list[Text], Field(max_length=1_000)]


class LocalPersonFields(Given):
    """What an operator enters of somebody whom no source knows."""

    user_name: Text
    given_name: Text = ""
    family_name: Text = ""
    display_name: Text = Field("", description="Given and family name, if it is left out.")
    email: Text = ""
    title: Text = ""
    department: Text = ""
    active: bool = True


class LocalPersonBody(LocalPersonFields, SureBody):
    """The same, for somebody who is there already: the whole of it."""


class GroupNameBody(Given):
    """What a local group is called."""

    name: Text


class MembersBody(SureBody):
    """Who comes into a local group, and who goes: people by id, user name, e-mail or external id; groups by id."""

    add: Names = []
    remove: Names = []
    add_groups: Names = []
    remove_groups: Names = []


class MakeUserBody(Given):
    """Which role somebody gets, by key; without one, that which the account has there."""

    role: Text | None = None
    confirm: Text | None = Field(None, description="The account's name, typed, where they would get more than that role.")
