"""Notification rules: which events they report, their recipients, and when emails are sent."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from dravo.core.instants import Instant, as_datetime, instant
from dravo.core.notifications.event_kinds import APPLICATION, BY_KEY, SOURCE

IMMEDIATELY, HOURLY, DAILY = "immediately", "hourly", "daily"
FREQUENCIES = (IMMEDIATELY, HOURLY, DAILY)
# Recipients: operators with a role, the owners of the application, an address, or a webhook.
OPERATORS, OWNERS, ADDRESS, WEBHOOK = "operators", "owners", "address", "webhook"
RECIPIENT_KINDS = (OPERATORS, OWNERS, ADDRESS, WEBHOOK)
# The hour of a daily summary, in the organization's time zone.
DAILY_HOUR = 8


@dataclass(frozen=True)
class Recipient:
    """A recipient of a rule; `value` is the operators' role, the address, or the webhook's ID."""

    kind: str
    value: str = ""


@dataclass(frozen=True)
class Rule:
    """A notification rule.

    Attributes:
        kinds: the kinds of events; None for all.
        applications, sources: IDs; events about other applications or sources are left out. None for all.
        recipients: who gets the messages.
        frequency: when emails are sent: "immediately", or together "hourly" or "daily".
    """

    id: str
    kinds: frozenset[str] | None
    applications: frozenset[str] | None
    sources: frozenset[str] | None
    recipients: tuple[Recipient, ...]
    frequency: str


def reports(rule: Rule, kind: str, application_id: str | None, source_id: str | None) -> bool:
    """Whether a rule reports an event of a kind about an application or a source."""
    if rule.kinds is not None and kind not in rule.kinds:
        return False
    about = BY_KEY[kind].about
    if about == APPLICATION:
        return _contains(rule.applications, application_id)
    return about != SOURCE or _contains(rule.sources, source_id)


def _contains(chosen: Collection[str] | None, each: str | None) -> bool:
    return chosen is None or each in chosen


def send_at(frequency: str, now: Instant, zone: str) -> Instant:
    """Return when an email about an event is sent: now, at the next full hour, or at the next daily hour."""
    if frequency == IMMEDIATELY:
        return now
    here = as_datetime(now).astimezone(ZoneInfo(zone))
    if frequency == HOURLY:
        return instant(here.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1))
    day = here.date() if here.time() < time(DAILY_HOUR) else here.date() + timedelta(days=1)
    return instant(datetime.combine(day, time(DAILY_HOUR), ZoneInfo(zone)))
