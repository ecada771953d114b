"""Operators, their sessions, second factors and sign-in."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Named, Page


class SignInRequest(RequestModel):
    """Name and password of an operator."""

    name: Text
    password: Text
    code: str = Field("", max_length=60, description="Of the second factor, where there is one; or a recovery code.")


class CodeRequest(RequestModel):
    """A code of a second factor, or a recovery code."""

    code: str = Field(max_length=60)


class RenewCodesRequest(RequestModel):
    """A code of one's second factor, where one has it."""

    code: str = Field("", max_length=60)


class OnlyBySourceRequest(RequestModel):
    """Whether one comes in by a source alone."""

    only_by_source: bool


class ChangePasswordRequest(Model):
    """One's own password, as it is and as it is to be."""

    present: Text
    password: Text
    revoke_tokens: bool = Field(False, description="Whether your API tokens are revoked too.")


class CreateOperatorRequest(RequestModel):
    """An operator to be added; without a password one is made and shown once."""

    name: Text
    kind: Literal["super_administrator", "administrator", "help_desk", "auditor", "application_owner"]
    applications: list[Text] = Field([], max_length=500, description="Of an application owner, by key.")
    masked: bool = Field(False, description="For help desk and auditors: users' attributes are not for them.")
    password: Text | None = None


class Session(Model):
    """Who is signed in, and what they may do."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]
    applications: list[str] | None = Field(description="Of an application owner, by key; null for all others: every one.")
    needs_second_factor: bool = Field(description="Whether a second factor has to be set up before anything else.")


class Operator(Model):
    """An operator."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


class SecondFactor(Model):
    """Whether one has a second factor, since when, and how many recovery codes are left."""

    on: bool
    since: str | None
    recovery_left: int
    required: bool


class NewSecondFactor(Model):
    """A secret for one's app, shown once; `address` is the same for apps that take it whole, `picture` the same to be read by a camera."""

    secret: str
    address: str
    picture: str


class OperatorLink(Model):
    """A source that lets an operator in, and by what its provider knows them."""

    id: str
    source: Named
    subject: str
    made_at: str
    last_used_at: str
    status: str


class LinkOffer(Named):
    """A source to which one could link oneself; `start` is where a browser with one's session begins, "" for programs."""

    start: str


class OperatorLinks(Model):
    """By which sources one comes in as an operator, by which others one could, and whether by these alone."""

    items: list[OperatorLink]
    offered: list[LinkOffer]
    only_by_source: bool


class Left(Model):
    """Where a browser goes to sign out at the provider too; empty where there is none."""

    go_to: str


class OperatorSession(Model):
    """A session of one's own; `this` is the one that asks."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: Named | None


class OperatorSessions(Model):
    """Where one is signed in."""

    items: list[OperatorSession]


class RecoveryCodes(Model):
    """Codes for the day on which the app is lost, each good once; shown once."""

    recovery_codes: list[str]


class NewOperator(Operator):
    """An operator, with the password if one was made; the only time that it is shown."""

    password: str | None


class PageOfOperators(Page[Operator]):
    """A page of operators."""
