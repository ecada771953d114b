"""Expiring secrets: when operators are told that a token or the secret of a connection expires."""

from __future__ import annotations

from dravo.core.instants import Instant, later

# Number of days before an expiry from which a warning is shown.
DAYS_BEFORE = 30


def told_from(now: Instant) -> Instant:
    """Return the instant before which an expiry is near enough to be shown at `now`; past expiries are before
    it too.
    """
    return later(now, DAYS_BEFORE * 86_400)


def ending(ends: Instant | None, now: Instant) -> Instant | None:
    """Return the expiry of a secret if it is shown now, else None."""
    return ends if ends is not None and ends < told_from(now) else None
