"""What the management API takes about access reviews."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from dravo.web.api.asked import Given, SearchQuery, SureBody, Text
from dravo.web.api.base import Model


class ReviewBody(Given):
    """A review to begin: which part of the matrix, and until when is decided."""

    label: Text
    until: Text = Field(description="The last day, such as 2031-04-02.")
    application: Text | None = Field(None, description="Only this one, by key.")
    role: Text | None = Field(None, description="Only this role of it, by key.")
    only: Literal["direct only", "highest role"] | None = None
    words: Text | None = Field(None, description="Only people with these words in name, user name or e-mail.")
    note: Text | None = None


class RowsBody(Given):
    """Rows of one application in a review."""

    application: Text
    rows: Annotated[list[Text], Field(min_length=1, max_length=500)]


class DecisionBody(RowsBody, SureBody):
    """What is decided about some rows of one application."""

    decision: Literal["confirmed", "taken away"]
    note: Text | None = None


class ReviewRowsQuery(SearchQuery):
    """Which rows."""

    application: str | None = None
    decision: Literal["open", "confirmed", "taken away"] | None = None


class ReviewExportQuery(Model):
    """In which form."""

    form: Literal["csv", "json"] = "csv"
