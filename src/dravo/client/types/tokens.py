"""API tokens.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class ApiToken(TypedDict):
    """An API token without its secret."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    operator: TokenOperator
    scope: str
    permissions: list[str] | None


class NewApiToken(TypedDict):
    """A new API token with its secret."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    operator: TokenOperator
    scope: str
    permissions: list[str] | None
    token: str


class PageOfApiTokens(TypedDict):
    """A page of API tokens."""

    items: list[ApiToken]
    total: int
    next: str | None


class TokenOperator(TypedDict):
    """The operator of a token."""

    id: str
    name: str
