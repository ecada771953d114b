"""Local users and groups."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest

Names = Annotated[list[Text], Field(max_length=1_000)]


class LocalUserFields(RequestModel):
    """A new local user."""

    user_name: Text
    given_name: Text = ""
    middle_name: Text = Field("", description="Middle name.")
    family_name: Text = ""
    honorific_prefix: Text = Field("", description="Title before the name.")
    honorific_suffix: Text = Field("", description="Suffix after the name.")
    display_name: Text = Field("", description="Display name; omitted for given and family name.")
    nick_name: Text = Field("", description="Nickname.")
    email: Text = ""
    work_phone: Text = Field("", description="Phone number at work.")
    mobile_phone: Text = Field("", description="Mobile phone number.")
    title: Text = ""
    user_type: Text = Field("", description="Kind of user, such as Employee.")
    employee_number: Text = Field("", description="Employee number.")
    organization: Text = Field("", description="Organization.")
    division: Text = Field("", description="Division.")
    department: Text = ""
    cost_center: Text = Field("", description="Cost center.")
    manager: Text = Field(
        "", description="ID, user name, email or external ID of the manager; empty for none."
    )
    street_address: Text = Field("", description="Street address.")
    locality: Text = Field("", description="Town.")
    region: Text = Field("", description="State or region.")
    postal_code: Text = Field("", description="Postal code.")
    country: Text = Field("", description="Country, ISO 3166-1 alpha 2.")
    preferred_language: Text = Field("", description="Language, such as pt.")
    locale: Text = Field("", description="Locale, such as pt-PT.")
    time_zone: Text = Field("", description="Time zone, such as Europe/Lisbon.")
    profile_url: Text = Field("", description="URL of a page about the user.")
    active: bool = True


class LocalUser(Model):
    """The attributes of a local user; empty for no value."""

    user_name: str
    given_name: str
    middle_name: str = Field(description="Middle name.")
    family_name: str
    honorific_prefix: str = Field(description="Title before the name.")
    honorific_suffix: str = Field(description="Suffix after the name.")
    display_name: str = Field(description="Display name; empty if it is given and family name.")
    nick_name: str = Field(description="Nickname.")
    email: str
    work_phone: str = Field(description="Phone number at work.")
    mobile_phone: str = Field(description="Mobile phone number.")
    title: str
    user_type: str = Field(description="Kind of user, such as Employee.")
    employee_number: str = Field(description="Employee number.")
    organization: str = Field(description="Organization.")
    division: str = Field(description="Division.")
    department: str
    cost_center: str = Field(description="Cost center.")
    manager: str = Field(description="ID of the manager, or empty.")
    street_address: str = Field(description="Street address.")
    locality: str = Field(description="Town.")
    region: str = Field(description="State or region.")
    postal_code: str = Field(description="Postal code.")
    country: str = Field(description="Country, ISO 3166-1 alpha 2.")
    preferred_language: str = Field(description="Language, such as pt.")
    locale: str = Field(description="Locale, such as pt-PT.")
    time_zone: str = Field(description="Time zone, such as Europe/Lisbon.")
    profile_url: str = Field(description="URL of a page about the user.")
    active: bool


class LocalUserRequest(LocalUserFields, ConfirmedRequest):
    """The attributes of an existing local user."""


class GroupRequest(RequestModel):
    """A new local group."""

    name: Text = Field(description="Name of the group.")
    description: Text = Field("", description="What the group is for.")


class ChangeGroupRequest(RequestModel):
    """Changes to a local group; null keeps a value."""

    name: Text | None = Field(None, description="Name of the group.")
    description: Text | None = Field(None, description="What the group is for; empty for nothing.")


class MembersRequest(ConfirmedRequest):
    """Members to add and to remove."""

    add: Names = []
    remove: Names = []
    add_groups: Names = []
    remove_groups: Names = []
