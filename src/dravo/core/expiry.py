"""Secrets that end: from when on it is said that a token, or the secret of a connection, runs out."""

from __future__ import annotations

from dravo.core.instants import Instant, later

# So many days before its end a warning is shown.
DAYS_BEFORE = 30


def told_from(now: Instant) -> Instant:
    """Return the instant before which an end is near enough to be told at `now`; what has ended already is
    before it as well.
    """
    return later(now, DAYS_BEFORE * 86_400)


def ending(ends: Instant | None, now: Instant) -> Instant | None:
    """Return when something ends if that is to be told now, None otherwise."""
    return ends if ends is not None and ends < told_from(now) else None
