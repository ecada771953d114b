"""Schedules: every form of cron, counted as cron counts."""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.schedules import in_words, next_times, read_schedule

# A Tuesday.
NOW = Instant("2031-04-01T12:00:00.000000Z")


def days(text: str, number: int) -> list[str]:
    """Return the month and day of the next times."""
    return [each[5:10] for each in next_times(text, NOW, number)]


@pytest.mark.parametrize(
    ("weekdays", "expected"),
    [
        ("0-4", ["04-02", "04-03", "04-06", "04-07", "04-08"]),
        ("sun-thu", ["04-02", "04-03", "04-06", "04-07", "04-08"]),
        ("0-6", ["04-02", "04-03", "04-04", "04-05", "04-06"]),
        ("fri-sun", ["04-04", "04-05", "04-06", "04-11", "04-12"]),
        ("5-7", ["04-04", "04-05", "04-06", "04-11", "04-12"]),
        ("*/2", ["04-03", "04-05", "04-06", "04-08", "04-10"]),
        ("1-5/2", ["04-02", "04-04", "04-07", "04-09", "04-11"]),
        ("0,3,sat", ["04-02", "04-05", "04-06", "04-09", "04-12"]),
        ("7", ["04-06", "04-13", "04-20", "04-27", "05-04"]),
    ],
)
def test_days_of_the_week_count_from_sunday_in_every_form(weekdays: str, expected: list[str]) -> None:
    assert days(f"0 6 * * {weekdays}", 5) == expected


def test_day_of_month_and_day_of_week_are_either_or() -> None:
    # Where both are named, either is enough; where one is a star, the other decides alone.
    assert days("0 6 13 * fri", 4) == ["04-04", "04-11", "04-13", "04-18"]
    assert days("0 6 13 * *", 2) == ["04-13", "05-13"]
    assert days("0 6 */2 * fri", 2) == ["04-11", "04-25"]


@pytest.mark.parametrize(
    "text",
    [
        "0 6 * * 8",
        "0 6 * * thu-mon",
        "0 6 * * 5-2",
        "0 6 * * mon-",
        "0 6 * * 1/0",
        "0 6 * *",
        "61 * * * *",
        "0 6 * * x",
        "0 6 32 * 1",
    ],
)
def test_an_invalid_schedule_is_refused_with_a_hint(text: str) -> None:
    with pytest.raises(InvalidInput) as refused:
        read_schedule(text)
    assert refused.value.hint and refused.value.field == "schedule"


def test_usual_schedules_are_said_in_words() -> None:
    assert in_words("0 6 * * 0-4") == "At 06:00, Sunday through Thursday"
    assert in_words("30 6 * * 1-5") == "At 06:30, Monday through Friday"
    assert in_words("0 * * * *") == "Every hour"
