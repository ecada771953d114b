"""Access reviews.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, RoleRef, UserRef


class PageOfReviewRows(TypedDict):
    """A page of a review's rows."""

    items: list[ReviewRow]
    total: int
    next: str | None


class PageOfReviews(TypedDict):
    """A page of reviews."""

    items: list[Review]
    total: int
    next: str | None


class Review(TypedDict):
    """An access review."""

    id: str
    label: str
    note: str | None
    narrowed: dict[str, str]
    created_at: str
    created_by: str
    until: str
    until_day: str | None
    closed_at: str | None
    closed_by: str | None
    applications: list[ReviewPart]
    rows: int
    confirmed: int
    removed: int
    open: int


class ReviewPart(TypedDict):
    """The progress of a review in one application."""

    application: KeyAndLabel
    owner: str | None
    rows: int
    confirmed: int
    removed: int
    open: int


class ReviewRow(TypedDict):
    """A review row: the access when the review was created, and the decision."""

    id: str
    user: UserRef
    status: str
    application: KeyAndLabel
    role: RoleRef
    since: str
    reasons: list[str]
    decision: str | None
    decided_at: str | None
    decided_by: str | None
    note: str | None
    outcome: str | None
