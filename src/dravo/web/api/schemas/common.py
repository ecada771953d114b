"""What requests and responses of several resources share: pages, references, confirmation."""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text


class Number(Model):
    """How many objects an operation changed."""

    number: int


class PageQuery(Model):
    """A page of a list."""

    after: str | None = Field(None, description="Cursor from `next` of the previous page.")
    count: int = Field(50, ge=1, le=500, description="Maximum number of items.")


class SearchQuery(PageQuery):
    """A page of matching items."""

    q: str | None = Field(None, max_length=200, description="Search words.")


class KeyPath(Model):
    """An object by its key."""

    key: str


class IdPath(Model):
    """An object by its ID."""

    id: str


class OfApplicationPath(KeyPath):
    """An object of an application, by its ID."""

    id: str


class RemovalQuery(Model):
    """A typed confirmation."""

    confirm: str | None = None


class ConfirmedPreview(RequestModel):
    """The numbers of the preview."""

    gained: int = Field(description="Number of users who gain access.")
    lost: int = Field(description="Number of users who lose access.")
    changed: int = Field(description="Number of users who change roles.")


class ConfirmedRequest(RequestModel):
    """The confirmation of a previewed change."""

    confirm: Text | None = Field(None, description="Typed label; required for a serious change.")
    expect: ConfirmedPreview | None = Field(
        None,
        description="Numbers of the preview. If the result has changed, the request is refused with 409.",
    )


class ConfirmedQuery(Model):
    """The confirmation of a previewed removal."""

    confirm: str | None = Field(
        None, max_length=2_000, description="Typed label; required for a serious change."
    )
    gained: int | None = None
    lost: int | None = None
    changed: int | None = None


class ConfirmRequest(RequestModel):
    """A confirmed action."""

    confirm: Text | None = Field(None, description="Typed label of the application.")


Item = TypeVar("Item")


class Page(Model, Generic[Item]):
    """A page of a list with the total and the next cursor."""

    items: list[Item]
    total: int
    next: str | None


class KeyAndLabel(Model):
    """A reference by key and label."""

    key: str
    label: str


class UserRef(Model):
    """A reference to a user."""

    id: str = Field(description="ID of the user.")
    display_name: str
    user_name: str


class GroupRef(Model):
    """A reference to a group."""

    id: str = Field(description="ID of the group.")
    name: str = Field(description="Name of the group.")
    external_id: str | None = None
    gone: bool = False


class RoleRef(Model):
    """A reference to a role."""

    key: str
    label: str
    rank: int
