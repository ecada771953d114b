"""Reconciliation and drift."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Page, PageQuery
from dravo.web.api.schemas.provisioning_settings import ChangedAttribute


class DriftQuery(PageQuery):
    """Which differences; without a state those that are not ignored."""

    kind: (
        Literal["missing", "unexpected", "attributes", "role", "status", "group_missing", "group_name", "group_members", "group_unexpected"] | None
    ) = None
    status: Literal["open", "repairing", "ignored"] | None = None


class DriftRequest(RequestModel):
    """Some differences, by id."""

    ids: list[Text] = Field(min_length=1, max_length=1_000)


class IgnoreRequest(DriftRequest):
    """Some differences to be ignored, or no longer."""

    ignored: bool = True


class LinkRequest(RequestModel):
    """Whose account it is: a user by id, user name or email."""

    user: Text


class CreateUserFromAccountRequest(RequestModel):
    """Which role somebody gets, by key; without one, that which the account has there."""

    role: Text | None = None
    confirm: Text | None = Field(None, description="The account's name, typed, where they would get more than that role.")


class Run(Model):
    """One reconciliation: how far it is, and how many differences of each kind it found."""

    id: str
    status: str
    requested_by: str
    requested_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    groups: int = Field(description="How many groups of ours were compared.")
    read: int
    counts: dict[str, int]
    message: str | None
    hint: str | None


class PageOfRuns(Page[Run]):
    """A page of runs."""


class DriftLine(Model):
    """A difference: missing, unexpected, different, role or state; of whom, and in what (before: there; after: as it should be)."""

    id: str
    kind: str
    status: str
    name: str
    user: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str


class PageOfDrift(Page[DriftLine]):
    """A page of differences."""


class MadeUser(Model):
    """Who was made of an account."""

    user: str
