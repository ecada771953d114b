"""What requests and responses of several resources share: pages, references, confirmation."""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text


class Number(Model):
    """How many."""

    number: int


class PageQuery(Model):
    """Which page of a list."""

    after: str | None = Field(None, description="The cursor that the page before gave as 'next'.")
    count: int = Field(50, ge=1, le=500, description="How many at most.")


class SearchQuery(PageQuery):
    """Which page, of what matches some words."""

    q: str | None = Field(None, max_length=200, description="Words to look for.")


class KeyPath(Model):
    """One thing by its key."""

    key: str


class IdPath(Model):
    """One thing by its id."""

    id: str


class OfApplicationPath(KeyPath):
    """Something of an application, by its id."""

    id: str


class RemovalQuery(Model):
    """The label, typed to confirm."""

    confirm: str | None = None


class SeenPreview(RequestModel):
    """What was seen in the preview."""

    gained: int
    lost: int
    changed: int


class ConfirmedRequest(RequestModel):
    """What goes with a change that was looked at first."""

    confirm: Text | None = Field(None, description="The application's label, typed, where the change is serious.")
    expect: SeenPreview | None = Field(None, description="What the preview said; if it would do other than that now, nothing is done.")


class ConfirmedQuery(Model):
    """What goes with a removal that was looked at first."""

    confirm: str | None = Field(None, max_length=2_000, description="The application's label, typed, where the change is serious.")
    gained: int | None = None
    lost: int | None = None
    changed: int | None = None


class ConfirmRequest(RequestModel):
    """A serious act, confirmed."""

    confirm: Text | None = Field(None, description="The application's label, typed.")


Item = TypeVar("Item")


class Page(Model, Generic[Item]):
    """One page of a list, how many there are in all, and the cursor of the page behind it."""

    items: list[Item]
    total: int
    next: str | None


class Named(Model):
    """Something by key and label."""

    key: str
    label: str


class UserRef(Model):
    """A user, in short."""

    id: str
    display_name: str
    user_name: str


class GroupRef(Model):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None = None
    gone: bool = False


class RoleRef(Model):
    """A role, in short."""

    key: str
    label: str
    rank: int
