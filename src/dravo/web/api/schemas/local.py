"""Local users and groups."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from dravo.web.api.schemas.base import RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest

Names = Annotated[list[Text], Field(max_length=1_000)]


class LocalUserFields(RequestModel):
    """What an operator enters of somebody whom no source knows."""

    user_name: Text
    given_name: Text = ""
    family_name: Text = ""
    display_name: Text = Field("", description="Given and family name, if it is left out.")
    email: Text = ""
    title: Text = ""
    department: Text = ""
    active: bool = True


class LocalUserRequest(LocalUserFields, ConfirmedRequest):
    """The same, for somebody who is there already: the whole of it."""


class GroupNameRequest(RequestModel):
    """What a local group is called."""

    name: Text


class MembersRequest(ConfirmedRequest):
    """Who comes into a local group, and who goes: users by id, user name, email or external id; groups by id."""

    add: Names = []
    remove: Names = []
    add_groups: Names = []
    remove_groups: Names = []
