"""Accounts of users in applications.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, UserRef


class Account(TypedDict):
    """The account of a user in an application."""

    id: str
    user: UserRef
    application: KeyAndLabel
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


class AccountDetail(TypedDict):
    """An account with its desired and applied state."""

    id: str
    user: UserRef
    application: KeyAndLabel
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
    desired: dict[str, Any]
    applied: dict[str, Any] | None


class OpenTask(TypedDict):
    """The open task of an account."""

    id: str
    status: str
    message: str | None
    hint: str | None
    next_attempt_at: str | None


class PageOfAccounts(TypedDict):
    """A page of accounts."""

    items: list[Account]
    total: int
    next: str | None
