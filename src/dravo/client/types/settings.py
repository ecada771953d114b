"""Organization settings and the mail server.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class MailSettings(TypedDict):
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


class MailTested(TypedDict):
    """The email server after a test email."""

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
    sent_to: str


class OrganizationSettings(TypedDict):
    """All organization settings."""

    items: list[Setting]


class Setting(TypedDict):
    """A setting of the organization."""

    name: str
    group: str
    label: str
    kind: str
    value: bool | int | str
    default: bool | int | str
    least: int
    most: int
    unit: str
