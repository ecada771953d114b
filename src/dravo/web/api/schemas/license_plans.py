"""License plans and seats."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyPath, Named, Page, PageQuery, UserRef


class Plan(Named):
    """A plan with its seats; `status` says whether there are free ones: "free", "short" or "full"."""

    rank: int
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    status: Literal["free", "short", "full"]


class Seat(Model):
    """A seat that somebody has since then, or for which they wait at that place in the line."""

    id: str
    user: UserRef
    plan: Named
    requested_at: str
    since: str | None
    place: int | None


class PageOfSeats(Page[Seat]):
    """A page of seats."""


class PlanPath(KeyPath):
    """A plan of an application."""

    plan: str


class CreateLicensePlanRequest(RequestModel):
    """A plan to be added; of several that somebody would have, the one of the highest rank counts."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)
    seats: int | None = Field(None, description="How many users can have it; null: as many as there are.")


class ChangeLicensePlanRequest(RequestModel):
    """What to change of a plan; nobody loses a seat by it."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)
    seats: int | None = Field(None, description="0: as many as there are users.")


class SeatsQuery(PageQuery):
    """Which seats."""

    plan: str | None = Field(None, description="Only of this plan, by key.")
    waiting: bool = Field(False, description="Those who wait, in the order of the line, instead of those who have one.")
