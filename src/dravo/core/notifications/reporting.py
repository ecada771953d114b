"""When an event is reported: at once, again after some hours while it lasts, and when it is solved.

Operators get one message about a condition that comes and goes within an hour.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from dravo.core.instants import Instant, later
from dravo.core.notifications.event_kinds import BY_KEY

OPEN, SOLVED, HAPPENED = "open", "solved", "happened"
# How a message reports an event.
NEW, AGAIN = "new", "again"
# Seconds after its beginning at which a condition that lasts is reported again.
AGAIN_AFTER = (3_600, 6 * 3_600, 24 * 3_600)
# A condition that returns within this time after its end continues, and is not reported as new.
QUIET_SECONDS = 3_600


@dataclass(frozen=True)
class Condition:
    """Something that needs an operator, as it is now.

    Attributes:
        kind: the key of an event kind.
        subject_id: what it is about; with the kind, it tells conditions apart.
        subject: the label of the application, source or object.
        title: what is wrong, in one line.
        text: details and what to do.
        path: the page of the console.
        number: how many objects are concerned.
        level: for an expiry, the days that it is near: 30, 7, 1 or 0; the smaller, the more urgent.
        application_id, source_id: what rules can be limited to.
    """

    kind: str
    subject_id: str
    subject: str
    title: str
    text: str
    path: str
    number: int = 1
    level: int | None = None
    application_id: str | None = None
    source_id: str | None = None


@dataclass(frozen=True)
class Event:
    """A stored event.

    Attributes:
        condition: what needs an operator, or what happened, as it was seen last.
        status: "open", "solved" or "happened".
        reports: how often it was reported since it began.
        next_report_at: when it is reported again; None for never.
        ended_at: when it was solved or happened.
    """

    id: str
    condition: Condition
    status: str
    began_at: Instant
    reports: int
    next_report_at: Instant | None
    ended_at: Instant | None


@dataclass
class EventChanges:
    """What changes about events, each with its condition.

    Attributes:
        opened: conditions that are new.
        reopened: conditions that returned soon, with the event that continues, and when it is reported.
        reported: events that are reported again, and when next.
        updated: events whose words or numbers changed, without a report.
        solved: events whose condition is over, and whether that is reported.
    """

    opened: list[Condition] = field(default_factory=list)
    reopened: list[tuple[Event, Condition, Instant]] = field(default_factory=list)
    reported: list[tuple[Event, Condition, Instant | None]] = field(default_factory=list)
    updated: list[tuple[Event, Condition]] = field(default_factory=list)
    solved: list[tuple[Event, bool]] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.opened or self.reopened or self.reported or self.updated or self.solved)


def compare(known: Iterable[Event], current: Iterable[Condition], now: Instant) -> EventChanges:
    """Return what changes about events.

    Args:
        known: the open events, and those that were solved within `QUIET_SECONDS`.
        current: the conditions as they are now.
        now: the time.
    """
    changes = EventChanges()
    by_place = {_place(event.condition): event for event in sorted(known, key=lambda each: each.id)}
    seen = set()
    for condition in current:
        seen.add(_place(condition))
        event = by_place.get(_place(condition))
        if event is None:
            changes.opened.append(condition)
        elif event.status == SOLVED:
            changes.reopened.append((event, condition, later(event.ended_at or now, QUIET_SECONDS)))
        elif _is_due(event, condition, now):
            again = next_report(condition.kind, event.began_at, now)
            changes.reported.append((event, condition, again))
        elif event.condition != condition:
            changes.updated.append((event, condition))
    for place, event in by_place.items():
        if event.status == OPEN and place not in seen:
            changes.solved.append((event, event.reports > 0))
    return changes


def _place(condition: Condition) -> tuple[str, str]:
    return condition.kind, condition.subject_id


def next_report(kind: str, began_at: Instant, now: Instant) -> Instant | None:
    """Return when a condition that is reported now is reported again; None for never."""
    if not BY_KEY[kind].repeats:
        return None
    times = (later(began_at, seconds) for seconds in AGAIN_AFTER)
    return next((at for at in times if at > now), None)


def _is_due(event: Event, condition: Condition, now: Instant) -> bool:
    before = event.condition.level
    if before is not None and condition.level is not None and condition.level < before:
        return True
    return event.next_report_at is not None and event.next_report_at <= now
