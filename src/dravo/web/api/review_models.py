"""What the management API gives of access reviews."""

from __future__ import annotations

from typing import Literal

from dravo.web.api.base import Model
from dravo.web.api.models import Named, Page, PersonRef, RoleRef


class ReviewPart(Model):
    """One application in a review, and how far it is."""

    application: Named
    owner: str | None
    rows: int
    confirmed: int
    taken_away: int
    open: int


class Review(Model):
    """A part of the matrix that is looked through until a day."""

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
    taken_away: int
    open: int


class ReviewRow(Model):
    """One access as it was when the review began, and what was decided about it."""

    id: str
    person: PersonRef
    state: Literal["active", "inactive", "gone"]
    application: Named
    role: RoleRef
    since: str
    reasons: list[str]
    decision: Literal["confirmed", "taken away"] | None
    decided_at: str | None
    decided_by: str | None
    note: str | None
    outcome: str | None


class PageOfReviews(Page[Review]):
    """A page of reviews."""


class PageOfReviewRows(Page[ReviewRow]):
    """A page of a review's rows."""
