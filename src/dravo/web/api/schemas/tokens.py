"""API tokens."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, PageQuery


class CreateTokenRequest(RequestModel):
    """A new API token."""

    label: Text
    expires_at: Text | None = None


class CreateApiTokenRequest(CreateTokenRequest):
    """A token for a program."""

    scope: Literal["read", "write"] = "read"
    permissions: list[Text] | None = Field(
        None, description="Permissions of the token; omitted for all of yours."
    )


class ApiTokensQuery(PageQuery):
    """Filters for API tokens."""

    whose: Literal["own", "all"] = Field(
        "own", description="Your own, or those of all operators (needs operators.read)."
    )


class Token(Model):
    """A token without its secret."""

    id: str = Field(description="ID of the token.")
    label: str = Field(description="Purpose of the token.")
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None


class TokenOperator(Model):
    """The operator of a token."""

    id: str = Field(description="ID of the operator.")
    name: str = Field(description="Name of the operator.")


class ApiToken(Token):
    """An API token without its secret."""

    operator: TokenOperator
    scope: str
    permissions: list[str] | None = Field(
        description="Permissions of the token; null for all of its operator."
    )


class NewApiToken(ApiToken):
    """A new API token with its secret."""

    token: str


class PageOfApiTokens(Page[ApiToken]):
    """A page of API tokens."""
