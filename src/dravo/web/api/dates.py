"""Instants in requests: written out, or as a day in the organization's time zone, of which the end is
meant.
"""

from __future__ import annotations

from dravo.core.days import end_of, is_day
from dravo.core.instants import Instant, parse_instant
from dravo.services import settings
from dravo.web.api.auth import app_context


def instant_of(text: str, field: str) -> Instant:
    """Return the instant of a text.

    Raises:
        InvalidInput: for a text that is neither an instant nor a day.
    """
    if not is_day(text):
        return parse_instant(text, field)
    with app_context().database.reading() as connection:
        return end_of(text, settings.time_zone(connection), field)
