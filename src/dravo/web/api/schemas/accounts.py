"""Accounts of users in applications."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, Page, PersonRef, SearchQuery


class AccountsQuery(SearchQuery):
    """Which accounts."""

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    state: Literal["agreed", "due", "waiting", "failed", "held"] | None = None


class OpenDelivery(Model):
    """The delivery that is open for an account."""

    id: str
    state: str
    message: str | None
    hint: str | None
    next_attempt_at: str | None


class Account(Model):
    """How a person stands in an application."""

    id: str
    person: PersonRef
    application: Named
    should_be: str
    roles: list[str]
    state: str
    desired_version: int
    applied_version: int
    pending_since: str
    applied_at: str | None
    remote_id: str | None
    origin: str | None
    delivery: OpenDelivery | None


class AccountDetail(Account):
    """An account with what is due and what was agreed, whole."""

    due: dict[str, Any]
    agreed: dict[str, Any] | None


class PageOfAccounts(Page[Account]):
    """A page of accounts."""
