"""Days in the organization's time zone; the last day is included."""

from __future__ import annotations

import re
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo, available_timezones

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, as_datetime, instant, parse_instant

_DAY = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")


def check_zone(name: str) -> str:
    """Return the name of a time zone.

    Raises:
        InvalidInput: for an unknown time zone.
    """
    if name not in available_timezones():
        raise InvalidInput(
            f"'{name}' is not a time zone.", "Enter a name such as Europe/Lisbon or UTC.", "value"
        )
    return name


def is_day(text: str) -> bool:
    """Whether a text is written like a day."""
    return _DAY.fullmatch(text) is not None


def is_date(text: str) -> bool:
    """Whether a text is written like a day, and the calendar has that day."""
    try:
        return is_day(text) and _read(text, None) is not None
    except InvalidInput:
        return False


def begin_of(day: str, zone: str, field: str | None = None) -> Instant:
    """Return the first instant of a day, such as 2031-04-02.

    Raises:
        InvalidInput: for an invalid day.
    """
    return instant(datetime.combine(_read(day, field), time(), ZoneInfo(zone)))


def end_of(day: str, zone: str, field: str | None = None) -> Instant:
    """Return the first instant after a day, whatever its number of hours.

    Raises:
        InvalidInput: for an invalid day.
    """
    return instant(datetime.combine(_read(day, field) + timedelta(days=1), time(), ZoneInfo(zone)))


def day_of(moment: Instant, zone: str) -> str:
    """Return the day that an instant falls on."""
    return as_datetime(moment).astimezone(ZoneInfo(zone)).date().isoformat()


def read_span(from_: str | None, until: str | None, zone: str) -> dict[str, str | None]:
    """Return the start and the end of an assignment as they are stored: instants, and the entered days.

    Args:
        from_, until: an instant or a day; the last day is included.
        zone: the organization's time zone.

    Returns:
        {"from_at", "from_day", "until_at", "until_day"}.

    Raises:
        InvalidInput: for another text, or an end that is not after the start.
    """
    from_day, until_day = (text if text and is_day(text) else None for text in (from_, until))
    from_at = (
        begin_of(from_day, zone, "from") if from_day else parse_instant(from_, "from") if from_ else None
    )
    until_at = (
        end_of(until_day, zone, "until") if until_day else parse_instant(until, "until") if until else None
    )
    if from_at and until_at and until_at <= from_at:
        raise InvalidInput(
            "The end date is before the start date.", "Set `until` to a date after `from`.", "until"
        )
    return {"from_at": from_at, "from_day": from_day, "until_at": until_at, "until_day": until_day}


def _read(day: str, field: str | None) -> date:
    try:
        found = date.fromisoformat(day)
        if not 1 < found.year < 9_999:
            raise ValueError
        return found
    except ValueError:
        raise InvalidInput(f"'{day}' is not a date.", "Enter a date such as 2031-04-02.", field) from None
