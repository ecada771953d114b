"""What the management API takes about plans and seats."""

from __future__ import annotations

from pydantic import Field

from dravo.web.api.asked import Given, KeyPath, PageQuery, Text


class PlanPath(KeyPath):
    """A plan of an application."""

    plan: str


class PlanBody(Given):
    """A plan to be added; of several that somebody would have, the one of the highest rank counts."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)
    seats: int | None = Field(None, description="How many people can have it; null: as many as there are.")


class PlanChange(Given):
    """What to change of a plan; nobody loses a seat by it."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)
    seats: int | None = Field(None, description="0: as many as there are people.")


class SeatsQuery(PageQuery):
    """Which seats."""

    plan: str | None = Field(None, description="Only of this plan, by key.")
    waiting: bool = Field(False, description="Those who wait, in the order of the line, instead of those who have one.")
