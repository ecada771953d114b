"""License plans and seats."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyAndLabel, KeyPath, Page, PageQuery, UserRef


class Plan(KeyAndLabel):
    """A license plan with its seats; `status` is "free", "short" or "full"."""

    rank: int
    sent_value: str | None = Field(
        description="Value sent to the application for the plan; null if the key is sent."
    )
    description: str | None = Field(description="What the plan includes.")
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    status: Literal["free", "short", "full"] = Field(
        description="Whether seats are free, running short or all taken (full)."
    )


class Seat(Model):
    """A seat of a user, or a place on the waiting list."""

    id: str = Field(description="ID of the seat.")
    user: UserRef = Field(description="The user with the seat, or on the waiting list.")
    plan: KeyAndLabel
    requested_at: str
    since: str | None = Field(description="Time from which the user has the seat; null on the waiting list.")
    place: int | None


class PageOfSeats(Page[Seat]):
    """A page of seats."""


class PlanPath(KeyPath):
    """A license plan of an application."""

    plan: str


class CreateLicensePlanRequest(RequestModel):
    """A new license plan."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)
    seats: int | None = Field(None, description="Number of seats; null without a limit.")
    sent_value: Text = Field("", description="Value sent to the application; empty for the key.")
    description: Text = Field("", description="What the plan includes.")


class ChangeLicensePlanRequest(RequestModel):
    """Changes to a license plan."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)
    seats: int | None = Field(None, description="Number of seats; 0 without a limit.")
    sent_value: Text | None = Field(None, description="Value sent to the application; empty for the key.")
    description: Text | None = Field(None, description="What the plan includes; empty for none.")


class SeatsQuery(PageQuery):
    """Filters for seats."""

    plan: str | None = Field(None, description="Only this license plan, by key.")
    waiting: bool = Field(False, description="List the waiting list instead of the seats.")
