"""Schedules: cron expressions, in words, and the next times that they mean."""

from __future__ import annotations

from datetime import timedelta, tzinfo
from typing import TYPE_CHECKING

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, as_datetime, instant

if TYPE_CHECKING:
    from apscheduler.triggers.cron import CronTrigger

_DAYS = {"0": "Sunday", "1": "Monday", "2": "Tuesday", "3": "Wednesday", "4": "Thursday", "5": "Friday", "6": "Saturday", "7": "Sunday"}
_NAMES = {"sun": "0", "mon": "1", "tue": "2", "wed": "3", "thu": "4", "fri": "5", "sat": "6"}


def read_schedule(text: str, zone: tzinfo | str = "UTC") -> CronTrigger:
    """Return the times that a cron expression of five fields means; days of the week count from 0 or 7, Sunday.

    Raises:
        InvalidInput: if it is none.
    """
    fields = text.split()
    if len(fields) != 5:
        raise InvalidInput(
            f"'{text}' is not a schedule.", "Write minute, hour, day, month and day of the week, such as '0 * * * *' for every hour.", "schedule"
        )
    # Imported at its first use: a service without schedules starts without it.
    from apscheduler.triggers.cron import CronTrigger

    minute, hour, day, month, weekday = fields
    try:
        return CronTrigger(minute=minute, hour=hour, day=day, month=month, day_of_week=_weekdays(weekday), timezone=zone)
    except (ValueError, TypeError) as wrong:
        raise InvalidInput(
            f"'{text}' is not a schedule: {wrong}.", "Write it like '30 6 * * 1-5' for half past six on weekdays.", "schedule"
        ) from None


def _weekdays(field: str) -> str:
    """Return days of the week as the library counts them, from Monday: it differs from what people know of cron."""
    names = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")

    def day(text: str) -> str:
        number = _NAMES.get(text.lower(), text)
        if not number.isdigit():
            return text
        if int(number) > 7:
            raise ValueError(f"'{text}' is not a day of the week")
        return names[(int(number) - 1) % 7]

    parts = []
    for part in field.split(","):
        span, slash, step = part.partition("/")
        first, dash, last = span.partition("-")
        parts.append(f"{day(first)}{dash}{day(last) if dash else ''}{slash}{step}" if span != "*" else part)
    return ",".join(parts)


def next_time(text: str, now: Instant, zone: tzinfo | str = "UTC") -> Instant | None:
    """Return the first time after an instant that a schedule means; None if there is none.

    Raises:
        InvalidInput.
    """
    found = read_schedule(text, zone).get_next_fire_time(None, as_datetime(now) + timedelta(seconds=1))
    return instant(found) if found is not None else None


def next_times(text: str, now: Instant, number: int = 3, zone: tzinfo | str = "UTC") -> list[Instant]:
    """Return the next few times that a schedule means."""
    times: list[Instant] = []
    last: Instant | None = now
    while len(times) < number and last is not None:
        last = next_time(text, last, zone)
        if last is not None:
            times.append(last)
    return times


def in_words(text: str) -> str:
    """Return a schedule in plain words where it is a usual one, else as it is written.

    Raises:
        InvalidInput.
    """
    read_schedule(text)
    minute, hour, day, month, weekday = text.split()
    if (day, month) != ("*", "*"):
        return f"at {text}"
    when = {"*": "", "1-5": " on weekdays"}.get(weekday, f" on {_DAYS[weekday]}s" if weekday in _DAYS else None)
    if when is None:
        return f"at {text}"
    if minute.isdigit() and hour == "*":
        return f"every hour at {int(minute)} past{when}" if minute != "0" else f"every hour{when}"
    if minute.startswith("*/") and hour == "*":
        return f"every {minute[2:]} minutes{when}"
    if minute.isdigit() and hour.isdigit():
        return f"{'every day' if not when else 'every week' if weekday in _DAYS else 'every day'} at {int(hour):02d}:{int(minute):02d}{when}"
    return f"at {text}"
