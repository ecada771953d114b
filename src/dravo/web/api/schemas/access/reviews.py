"""Access reviews."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, KeyAndLabel, Page, RoleRef, SearchQuery, UserRef


class ReviewRequest(RequestModel):
    """A new access review."""

    label: Text
    until: Text = Field(description="Due date, such as 2031-04-02.")
    application: Text | None = Field(None, description="Only this application, by key.")
    role: Text | None = Field(None, description="Only this role, by key.")
    only: Literal["direct_only", "highest_role"] | None = None
    words: Text | None = Field(None, description="Only users with these words in name, user name or email.")
    note: Text | None = None


class RowsRequest(RequestModel):
    """Rows of one application in a review."""

    application: Text
    rows: Annotated[list[Text], Field(min_length=1, max_length=500)]


class DecisionRequest(RowsRequest, ConfirmedRequest):
    """A decision for rows of one application."""

    decision: Literal["confirmed", "removed"] = Field(description="Decision for the selected rows.")
    note: Text | None = None


class ReviewRowsQuery(SearchQuery):
    """Filters for review rows."""

    application: str | None = None
    decision: Literal["open", "confirmed", "removed"] | None = None


class ReviewExportQuery(Model):
    """File format."""

    form: Literal["csv", "json"] = "csv"


class ReviewPart(Model):
    """The progress of a review in one application."""

    application: KeyAndLabel = Field(description="The application of this part.")
    owner: str | None
    rows: int
    confirmed: int = Field(description="Number of confirmed rows.")
    removed: int = Field(description="Number of rows whose access was removed.")
    open: int


class Review(Model):
    """An access review."""

    id: str = Field(description="ID of the review.")
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
    confirmed: int = Field(description="Number of confirmed rows.")
    removed: int = Field(description="Number of rows whose access was removed.")
    open: int


class ReviewRow(Model):
    """A review row: the access when the review was created, and the decision."""

    id: str = Field(description="ID of the row.")
    user: UserRef = Field(description="The reviewed user.")
    status: Literal["active", "inactive", "pending", "left"] = Field(
        description="Status of the user: active, inactive, pending or left."
    )
    application: KeyAndLabel = Field(description="The application of the role.")
    role: RoleRef = Field(description="The reviewed role.")
    since: str = Field(description="Time from which the user has the role.")
    reasons: list[str]
    decision: Literal["confirmed", "removed"] | None = Field(
        description="Decision: confirmed or removed; null while open."
    )
    decided_at: str | None
    decided_by: str | None
    note: str | None
    outcome: str | None = Field(description="What happened after the decision, or null.")


class PageOfReviews(Page[Review]):
    """A page of reviews."""


class PageOfReviewRows(Page[ReviewRow]):
    """A page of a review's rows."""
