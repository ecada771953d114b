"""API tokens."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, PageQuery


class CreateTokenRequest(RequestModel):
    """A token to be made."""

    label: Text
    expires_at: Text | None = None


class CreateApiTokenRequest(CreateTokenRequest):
    """A token for a program."""

    scope: Literal["read", "write"] = "read"
    permissions: list[Text] | None = Field(None, description="The permissions to which the token is limited; left out: all that you have.")


class TokensQuery(PageQuery):
    """Which API tokens to list."""

    whose: Literal["own", "all"] = Field("own", description="Your own, or those of all operators (needs operators.read).")


class Token(Model):
    """A token, without its text."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None


class TokenOperator(Model):
    """The operator to whom a token belongs."""

    id: str
    name: str


class ApiToken(Token):
    """An API token, without its text."""

    operator: TokenOperator
    scope: str
    permissions: list[str] | None = Field(description="The permissions to which it is limited; null for all of its operator's.")


class NewApiToken(ApiToken):
    """An API token at the one time that its text is shown."""

    token: str


class PageOfApiTokens(Page[ApiToken]):
    """A page of API tokens."""
