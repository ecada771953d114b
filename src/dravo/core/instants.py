"""Instants: UTC times as text of fixed width.

An `Instant` looks like ``2031-04-02T09:15:00.000000Z``. Such texts sort by time, need no conversion between
table, core and wire, and are readable.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import NewType

from dravo.core.errors import InvalidInput

Instant = NewType("Instant", str)


def instant(moment: datetime) -> Instant:
    """Return an aware datetime as an Instant (UTC, microseconds)."""
    if moment.tzinfo is None:
        raise ValueError("an instant needs a time zone")
    return Instant(moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ"))


def parse_instant(text: str, field: str | None = None) -> Instant:
    """Return the Instant of an ISO 8601 text with a time zone.

    Raises:
        InvalidInput: for another text, or one without a time zone.
    """
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise InvalidInput(
            f"'{text}' is not a time.", "Enter a time with a time zone, such as 2031-04-02T09:15:00Z.", field
        ) from None
    if moment.tzinfo is None:
        raise InvalidInput(f"'{text}' has no time zone.", "Add Z or an offset such as +02:00.", field)
    return instant(moment)


def as_datetime(moment: Instant) -> datetime:
    """Return an Instant as an aware datetime."""
    return datetime.fromisoformat(moment)


def later(moment: Instant, seconds: float) -> Instant:
    """Return the Instant some seconds after another (before it, if negative)."""
    return instant(as_datetime(moment) + timedelta(seconds=seconds))


def seconds_between(earlier: Instant, after: Instant) -> float:
    """Return how many seconds lie between two instants; never less than none."""
    return max((as_datetime(after) - as_datetime(earlier)).total_seconds(), 0.0)
