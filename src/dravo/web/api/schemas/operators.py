"""Operators, their sessions and sign-in."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyAndLabel, Page
from dravo.web.api.schemas.second_factors import ProofRequest


class PasswordRequest(RequestModel):
    """Name and password of an operator."""

    name: Text = Field(description="Name of the operator.")
    password: Text


class SignInRequest(PasswordRequest, ProofRequest):
    """Name and password of an operator, with the second factor."""


class PasswordSignInRequest(RequestModel):
    """Whether password sign-in is disabled."""

    only_by_source: bool


class ChangePasswordRequest(Model):
    """Your current and your new password."""

    present: Text
    password: Text
    revoke_tokens: bool = Field(False, description="Whether to revoke your API tokens too.")


Kind = Literal["super_administrator", "administrator", "help_desk", "auditor", "application_owner"]
Area = Literal["requests", "sign_ins", "audit"]


class CreateOperatorRequest(RequestModel):
    """A new operator. Without a password, Dravo generates one."""

    name: Text = Field(description="Name with which the operator signs in.")
    kind: Kind = Field(description="Kind of operator; it decides about the permissions.")
    email: Text = Field("", description="Email address for notices; empty for none.")
    applications: list[Text] = Field(
        [], max_length=500, description="Keys of the applications of an application owner."
    )
    masked: bool = Field(False, description="Mask user attributes; for help_desk and auditor.")
    masked_names: bool = Field(
        False, description="Mask names and user names of users; for help_desk and auditor."
    )
    masked_networks: bool = Field(False, description="Mask network addresses; for help_desk and auditor.")
    hidden_areas: list[Area] = Field(
        [], max_length=3, description="Areas hidden from the operator; for help_desk and auditor."
    )
    password: Text | None = None


class ChangeOperatorRequest(RequestModel):
    """Changes to an operator. Omitted fields keep their value."""

    name: Text | None = Field(None, description="Name with which the operator signs in.")
    kind: Kind | None = Field(None, description="Kind of operator; it decides about the permissions.")
    email: Text | None = Field(None, description="Email address for notices; empty for none.")
    applications: list[Text] | None = Field(
        None, max_length=500, description="Keys of the applications of an application owner."
    )
    masked: bool | None = Field(None, description="Mask user attributes; for help_desk and auditor.")
    masked_names: bool | None = Field(
        None, description="Mask names and user names of users; for help_desk and auditor."
    )
    masked_networks: bool | None = Field(
        None, description="Mask network addresses; for help_desk and auditor."
    )
    hidden_areas: list[Area] | None = Field(
        None, max_length=3, description="Areas hidden from the operator; for help_desk and auditor."
    )


class Session(Model):
    """Your session."""

    name: str = Field(description="Name with which you signed in.")
    kind: str = Field(description="Kind of operator that you are.")
    csrf: str
    permissions: list[str]
    applications: list[str] | None = Field(
        description="Keys of the applications of an application owner; null for all."
    )
    needs_second_factor: bool = Field(description="Whether you must set up a second factor first.")


class Operator(Model):
    """An operator."""

    id: str = Field(description="ID of the operator.")
    name: str = Field(description="Name with which the operator signs in.")
    kind: str = Field(description="Kind of operator, such as administrator or auditor.")
    email: str | None = Field(description="Email address for notices.")
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[Area] = Field(
        description="Areas hidden from the operator: requests of sources, sign-in history, audit log."
    )
    applications: list[str] = Field(
        description="Keys of the applications of an application owner, with those of `owner_of`."
    )
    owner_of: list[str] = Field(description="Keys of the applications whose owner the operator is.")
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


class OperatorLink(Model):
    """A linked source of an operator."""

    id: str = Field(description="ID of the link.")
    source: KeyAndLabel
    subject: str
    created_at: str
    last_used_at: str
    status: str = Field(description="Status of sign-in at the source: disabled, pilot or enabled.")


class LinkOffer(KeyAndLabel):
    """A source that you can link; `start` is the URL for your browser."""

    start: str


class OperatorLinks(Model):
    """Your linked sources and those that you can link."""

    items: list[OperatorLink]
    offered: list[LinkOffer]
    only_by_source: bool


class LogoutUrl(Model):
    """The logout URL of the provider; empty if it has none."""

    go_to: str


class OperatorSession(Model):
    """One of your sessions."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: KeyAndLabel | None


class OperatorSessions(Model):
    """Your sessions."""

    items: list[OperatorSession]


class NewOperator(Operator):
    """A new operator with the generated password."""

    password: str | None


class PageOfOperators(Page[Operator]):
    """A page of operators."""
