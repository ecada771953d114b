"""Accounts of users in applications."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import Named, Page, SearchQuery, UserRef


class AccountsQuery(SearchQuery):
    """Which accounts."""

    application: str | None = None
    user: str | None = Field(None, description="By id.")
    status: Literal["in_sync", "pending", "waiting", "failed", "held"] | None = None


class OpenTask(Model):
    """The task that is open for an account."""

    id: str
    status: str
    message: str | None
    hint: str | None
    next_attempt_at: str | None


class Account(Model):
    """How a user stands in an application."""

    id: str
    user: UserRef
    application: Named
    should_be: str
    roles: list[str]
    status: str
    desired_version: int
    applied_version: int
    pending_since: str
    applied_at: str | None
    remote_id: str | None
    origin: str | None
    task: OpenTask | None


class AccountDetail(Account):
    """An account with what is due and what was agreed, whole."""

    due: dict[str, Any]
    agreed: dict[str, Any] | None


class PageOfAccounts(Page[Account]):
    """A page of accounts."""
