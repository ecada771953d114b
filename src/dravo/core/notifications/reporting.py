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
class KnownEvent:
    """An event that is stored: open, or solved a short time ago.

    Attributes:
        reports: how often it was reported since it began.
        next_report_at: when it is reported again; None for never.
        ended_at: when it was solved.
    """

    id: str
    kind: str
    subject_id: str
    status: str
    title: str
    text: str
    number: int
    level: int | None
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
    reopened: list[tuple[KnownEvent, Condition, Instant]] = field(default_factory=list)
    reported: list[tuple[KnownEvent, Condition, Instant | None]] = field(default_factory=list)
    updated: list[tuple[KnownEvent, Condition]] = field(default_factory=list)
    solved: list[tuple[KnownEvent, bool]] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.opened or self.reopened or self.reported or self.updated or self.solved)


def compare(known: Iterable[KnownEvent], current: Iterable[Condition], now: Instant) -> EventChanges:
    """Return what changes about events.

    Args:
        known: the open events, and those that were solved within `QUIET_SECONDS`.
        current: the conditions as they are now.
        now: the time.
    """
    changes = EventChanges()
    by_place = {(event.kind, event.subject_id): event for event in sorted(known, key=lambda each: each.id)}
    seen = set()
    for condition in current:
        place = condition.kind, condition.subject_id
        seen.add(place)
        event = by_place.get(place)
        if event is None:
            changes.opened.append(condition)
        elif event.status == SOLVED:
            resumes = later(event.ended_at or now, QUIET_SECONDS)
            changes.reopened.append((event, condition, resumes))
        elif _is_due(event, condition, now):
            changes.reported.append((event, condition, next_report(event, condition, now)))
        elif (event.title, event.text, event.number, event.level) != (
            condition.title,
            condition.text,
            condition.number,
            condition.level,
        ):
            changes.updated.append((event, condition))
    for place, event in by_place.items():
        if event.status == OPEN and place not in seen:
            changes.solved.append((event, event.reports > 0))
    return changes


def first_repeat(kind: str, now: Instant) -> Instant | None:
    """Return when a condition that begins now is reported again."""
    return later(now, AGAIN_AFTER[0]) if BY_KEY[kind].lasts and BY_KEY[kind].repeats else None


def next_report(event: KnownEvent, condition: Condition, now: Instant) -> Instant | None:
    """Return when an event that is reported now is reported again; None for never."""
    if not BY_KEY[condition.kind].repeats:
        return None
    times = (later(event.began_at, seconds) for seconds in AGAIN_AFTER)
    return next((at for at in times if at > now), None)


def _is_due(event: KnownEvent, condition: Condition, now: Instant) -> bool:
    if event.level is not None and condition.level is not None and condition.level < event.level:
        return True
    return event.next_report_at is not None and event.next_report_at <= now
