"""The only place that reads the clock; the rest gets the time as an argument."""

from __future__ import annotations

from datetime import UTC, datetime

from dravo.core.instants import Instant, instant


def now() -> Instant:
    """Return the present instant."""
    return instant(datetime.now(UTC))
