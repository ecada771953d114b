"""License plans and seats.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named, UserRef


class PageOfSeats(TypedDict):
    """A page of seats."""

    items: list[Seat]
    total: int
    next: str | None


class Plan(TypedDict):
    """A plan with its seats; `status` says whether there are free ones: "free", "short" or "full"."""

    key: str
    label: str
    rank: int
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    status: str


class Seat(TypedDict):
    """A seat that somebody has since then, or for which they wait at that place in the line."""

    id: str
    user: UserRef
    plan: Named
    requested_at: str
    since: str | None
    place: int | None
