"""Compares the duration of imports with the interval of their schedule."""

from __future__ import annotations

from itertools import pairwise

from sqlalchemy import Connection

from dravo.core import schedules
from dravo.core.instants import Instant, seconds_between
from dravo.store.queries import runs as run_queries

# A run longer than this share of the interval leaves little room for a slow day.
SHARE = 0.5
# How many next times show the shortest interval of a schedule.
TIMES = 12


def slow_run_warning(
    connection: Connection, source_id: str, schedule: str, now: Instant, zone: str = "UTC"
) -> str:
    """Return a warning if the last run took more than half of the schedule's shortest interval, else ""."""
    run = run_queries.last_of_source(connection, source_id)
    if not schedule or run is None or run.started_at is None or run.ended_at is None:
        return ""
    times = schedules.next_times(schedule, now, TIMES, zone)
    intervals = [seconds_between(one, other) for one, other in pairwise(times)]
    if not intervals:
        return ""
    took, interval = seconds_between(run.started_at, run.ended_at), min(intervals)
    if took <= interval * SHARE:
        return ""
    return (
        f"The last run took {_minutes(took)}, more than half of the interval of {_minutes(interval)}. "
        "Choose a longer interval, or narrow the filters of the import."
    )


def _minutes(seconds: float) -> str:
    minutes = max(1, round(seconds / 60))
    return "1 minute" if minutes == 1 else f"{minutes:,} minutes"
