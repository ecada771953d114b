"""API tokens.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class ApiToken(TypedDict):
    """An API token, without its text."""

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
    """An API token at the one time that its text is shown."""

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
    """The operator to whom a token belongs."""

    id: str
    name: str
