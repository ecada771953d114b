"""License plans and seats.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel, UserRef


class PageOfSeats(TypedDict):
    """A page of seats."""

    items: list[Seat]
    total: int
    next: str | None


class Plan(TypedDict):
    """A license plan with its seats; `status` is "free", "short" or "full"."""

    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    status: str


class Seat(TypedDict):
    """A seat of a user, or a place on the waiting list."""

    id: str
    user: UserRef
    plan: KeyAndLabel
    requested_at: str
    since: str | None
    place: int | None
