"""Organization settings and the mail server."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel


class SettingPath(Model):
    """One setting by its name."""

    name: str


class SettingRequest(RequestModel):
    """A setting's value."""

    value: bool | int | Annotated[str, Field(max_length=300)] = Field(description="New value of the setting.")


class MailRequest(RequestModel):
    """Changes to the email server. With an empty host, Dravo sends no email."""

    host: str | None = Field(None, max_length=253)
    port: int | None = Field(None, ge=1, le=65_535)
    security: Literal["none", "starttls", "tls"] | None = None
    user: str | None = Field(None, max_length=300)
    password: str | None = Field(
        None, max_length=1_000, description="Secret, stored encrypted; empty to delete it."
    )
    sender: str | None = Field(None, max_length=320)


class TestMailRequest(RequestModel):
    """The recipient of a test email."""

    to: str = Field(max_length=320)


class MailSettings(Model):
    """The email server with its last result, without the password."""

    host: str
    port: int
    security: str
    user: str
    sender: str
    has_password: bool
    waiting: int
    sent_at: str | None
    trouble: str
    trouble_at: str | None


class MailTested(MailSettings):
    """The email server after a test email."""

    sent_to: str


class Setting(Model):
    """A setting of the organization."""

    name: str = Field(description="Name of the setting.")
    group: str
    label: str
    kind: Literal["number", "boolean", "time_zone", "text"] = Field(description="Kind of value.")
    value: bool | int | str = Field(description="Current value.")
    default: bool | int | str
    least: int
    most: int
    unit: str


class OrganizationSettings(Model):
    """All organization settings."""

    items: list[Setting]
