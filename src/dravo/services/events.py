"""Events as log lines and as counts in `/metrics`: import runs, tasks, holds, pauses, failed sign-ins, and
what notifications report.

The counts are in memory that all processes share: this module is imported before the processes are forked.
"""

from __future__ import annotations

import mmap
from typing import Any

import structlog

from dravo.core.notifications.event_kinds import EVENT_KINDS

RUN, TASK, HOLD, PAUSE, SIGN_IN = "import_run", "task", "hold", "pause", "failed_sign_in"
NOTIFICATION = "notification"
# The outcomes of each event, counted separately, and the text that is logged.
OUTCOMES = {
    RUN: ("done", "held", "stopped", "failed"),
    TASK: ("done", "waiting", "failed", "held", "paused"),
    HOLD: ("removals",),
    PAUSE: ("application",),
    SIGN_IN: ("operator", "user"),
    NOTIFICATION: tuple(kind.key for kind in EVENT_KINDS),
}
WORDS = {
    RUN: "import run ended",
    TASK: "tasks attempted",
    HOLD: "removals held",
    PAUSE: "application paused",
    SIGN_IN: "sign-in failed",
    NOTIFICATION: "event reported",
}
MEANINGS = {
    RUN: "Import runs that ended since the service started.",
    TASK: "Attempts of provisioning tasks since the service started.",
    HOLD: "Removals that the removal limits held since the service started.",
    PAUSE: "Pauses of applications since the service started.",
    SIGN_IN: "Failed sign-ins since the service started.",
    NOTIFICATION: "Events that notifications reported since the service started.",
}
_GOOD = {"done", "waiting"}
_PLACES = {
    (event, outcome): place
    for place, (event, outcome) in enumerate((e, o) for e, outcomes in OUTCOMES.items() for o in outcomes)
}
_memory = mmap.mmap(-1, 8 * len(_PLACES))
_counts = memoryview(_memory).cast("Q")

log = structlog.get_logger("events")


def count(event: str, outcome: str, number: int = 1) -> None:
    """Count an event. Two processes that count at the same instant may count one event."""
    place = _PLACES.get((event, outcome))
    # An unknown outcome is only logged: counting never fails.
    if place is not None:
        _counts[place] += number


def note(event: str, outcome: str, number: int = 1, **details: Any) -> None:
    """Count an event, and log it in one line.

    Args:
        event: one of `OUTCOMES`.
        outcome: one of its outcomes.
        number: how often it happened.
        details: more values for the line; never a secret.
    """
    count(event, outcome, number)
    write = log.info if outcome in _GOOD else log.warning
    write(WORDS[event], outcome=outcome, **({"number": number} if number != 1 else {}), **details)


def note_tasks(application: str, outcomes: dict[str, int]) -> None:
    """Count the attempts of one batch of tasks of an application, and log them in one line.

    Args:
        outcomes: how many attempts had each outcome.
    """
    for outcome, number in outcomes.items():
        count(TASK, outcome, number)
    write = log.info if _GOOD.issuperset(outcomes) else log.warning
    write(WORDS[TASK], application=application, **outcomes)


def counts() -> dict[str, dict[str, int]]:
    """Return how often each event had each outcome since the service started."""
    return {
        event: {outcome: int(_counts[_PLACES[event, outcome]]) for outcome in outcomes}
        for event, outcomes in OUTCOMES.items()
    }
