"""Schedules: cron expressions, their description, and their next times."""

from __future__ import annotations

from datetime import timedelta, tzinfo
from typing import TYPE_CHECKING

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, as_datetime, instant

if TYPE_CHECKING:
    from apscheduler.triggers.base import BaseTrigger
    from apscheduler.triggers.cron import CronTrigger

_LIBRARY = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")
_NAMES = {"sun": "0", "mon": "1", "tue": "2", "wed": "3", "thu": "4", "fri": "5", "sat": "6"}


def read_schedule(text: str, zone: tzinfo | str = "UTC") -> BaseTrigger:
    """Return the times of a cron expression with five fields; days of the week count from 0 or 7, Sunday.

    A day of the month and a day of the week together mean either of them, as in cron.

    Raises:
        InvalidInput.
    """
    fields = text.split()
    if len(fields) != 5:
        raise InvalidInput(
            f"'{text}' is not a schedule.",
            "Enter minute, hour, day, month and day of the week, such as '0 * * * *' for every hour.",
            "schedule",
        )
    # Imported at its first use: a service without schedules starts without it.
    from apscheduler.triggers.combining import OrTrigger
    from apscheduler.triggers.cron import CronTrigger

    minute, hour, day, month, weekday = fields

    def trigger(**of: str) -> CronTrigger:
        return CronTrigger(minute=minute, hour=hour, month=month, timezone=zone, **of)

    try:
        weekdays = _weekdays(weekday)
        if day.startswith("*") or weekday.startswith("*"):
            return trigger(day=day, day_of_week=weekdays)
        # If both days are given, either one is enough (cron).
        return OrTrigger([trigger(day=day), trigger(day_of_week=weekdays)])
    except (ValueError, TypeError) as wrong:
        raise InvalidInput(
            f"'{text}' is not a schedule: {wrong}.",
            "Enter a cron expression such as '30 6 * * 1-5' for 06:30 on weekdays.",
            "schedule",
        ) from None


def _weekdays(field: str) -> str:
    """Return days of the week as the library needs them: its first day is Monday, and no range starts on
    Sunday.
    """
    chosen: set[int] = set()
    for part in field.split(","):
        span, slash, step = part.partition("/")
        if slash and not (step.isdigit() and int(step)):
            raise ValueError(f"'{step}' is not a step")
        first, last = (0, 6) if span == "*" else _span(span, open_ended=bool(slash))
        chosen.update(number % 7 for number in range(first, last + 1, int(step or 1)))
    return ",".join(_LIBRARY[number] for number in sorted(chosen))


def _span(text: str, *, open_ended: bool) -> tuple[int, int]:
    """Return the first and the last day of the week of a span, Sunday being 0, and 7 where a span ends with
    it.
    """
    begins, dash, ends = text.partition("-")
    first = _weekday(begins)
    last = _weekday(ends) if dash else 6 if open_ended else first
    if last == 0 and first > 0:
        last = 7
    if first > last:
        raise ValueError(f"'{text}' ends before it begins")
    return first, last


def _weekday(text: str) -> int:
    number = _NAMES.get(text.lower(), text)
    if not number.isdigit() or int(number) > 7:
        raise ValueError(f"'{text}' is not a day of the week")
    return int(number)


def next_time(text: str, now: Instant, zone: tzinfo | str = "UTC") -> Instant | None:
    """Return the first time of a schedule after an instant, or None.

    Raises:
        InvalidInput.
    """
    found = read_schedule(text, zone).get_next_fire_time(None, as_datetime(now) + timedelta(seconds=1))
    return instant(found) if found is not None else None


def next_times(text: str, now: Instant, number: int = 3, zone: tzinfo | str = "UTC") -> list[Instant]:
    """Return the next times of a schedule."""
    times: list[Instant] = []
    last: Instant | None = now
    while len(times) < number and last is not None:
        last = next_time(text, last, zone)
        if last is not None:
            times.append(last)
    return times


def in_words(text: str) -> str:
    """Describe a schedule in English ("At 06:30, Monday through Friday").

    Raises:
        InvalidInput.
    """
    read_schedule(text)
    # Imported at its first use, as above.
    from cron_descriptor import Options, get_description

    return str(get_description(text, Options(locale_code="en_US", use_24hour_time_format=True)))
