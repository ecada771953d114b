"""Local users and groups."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from dravo.web.api.schemas.base import RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest

Names = Annotated[list[Text], Field(max_length=1_000)]


class LocalUserFields(RequestModel):
    """A new local user."""

    user_name: Text
    given_name: Text = ""
    family_name: Text = ""
    display_name: Text = Field("", description="Display name; omitted for given and family name.")
    email: Text = ""
    title: Text = ""
    department: Text = ""
    active: bool = True


class LocalUserRequest(LocalUserFields, ConfirmedRequest):
    """The attributes of an existing local user."""


class GroupNameRequest(RequestModel):
    """The name of a local group."""

    name: Text = Field(description="Name of the group.")


class MembersRequest(ConfirmedRequest):
    """Members to add and to remove."""

    add: Names = []
    remove: Names = []
    add_groups: Names = []
    remove_groups: Names = []
