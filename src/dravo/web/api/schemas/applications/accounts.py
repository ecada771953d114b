"""Accounts of users in applications."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model
from dravo.web.api.schemas.common import KeyAndLabel, Page, SearchQuery, UserRef


class AccountsQuery(SearchQuery):
    """Filters for accounts."""

    application: str | None = None
    user: str | None = Field(None, description="ID.")
    status: Literal["in_sync", "pending", "waiting", "manual", "failed", "held", "unmanaged"] | None = None


class OpenTask(Model):
    """The open task of an account."""

    id: str = Field(description="ID of the task.")
    status: str = Field(description="Status: waiting, manual, failed or held.")
    message: str | None = Field(description="Last error of the task in a sentence, or null.")
    hint: str | None
    next_attempt_at: str | None


class Account(Model):
    """The account of a user in an application."""

    id: str = Field(description="ID of the account.")
    user: UserRef = Field(description="The user of the account.")
    application: KeyAndLabel = Field(description="The application of the account.")
    should_be: str
    roles: list[str] = Field(description="Roles that the account should have.")
    status: str = Field(description="Status: in_sync, pending, waiting, manual, failed, held or unmanaged.")
    desired_version: int
    applied_version: int
    pending_since: str
    applied_at: str | None
    remote_id: str | None
    origin: str | None
    task: OpenTask | None


class AccountDetail(Account):
    """An account with its desired and applied state."""

    desired: dict[str, Any]
    applied: dict[str, Any] | None


class PageOfAccounts(Page[Account]):
    """A page of accounts."""
