"""The one place that asks what time it is; everything below is told."""

from __future__ import annotations

from datetime import UTC, datetime

from dravo.core.instants import Instant, instant


def now() -> Instant:
    """Return the present instant."""
    return instant(datetime.now(UTC))
