"""Events: compared with the conditions as they are now, and reported by the rules.

The worker calls `report` every few seconds. What changed is written in one transaction with the messages
about it, so that a crash neither loses nor doubles a report. It is planned before that transaction.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.instants import Instant, later
from dravo.core.notifications import reporting
from dravo.core.notifications.event_kinds import BY_KEY
from dravo.core.notifications.reporting import (
    AGAIN,
    HAPPENED,
    NEW,
    OPEN,
    SOLVED,
    Condition,
    Event,
    EventChanges,
)
from dravo.core.notifications.rules import (
    ADDRESS,
    IMMEDIATELY,
    OPERATORS,
    OWNERS,
    WEBHOOK,
    Recipient,
    Rule,
    reports,
    send_at,
)
from dravo.services import events as counted_events
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, source_by_key
from dravo.services.notifications import mail_server, mail_texts, messages
from dravo.services.notifications.subject_names import SubjectNames
from dravo.services.security.permissions import ADMINISTRATOR, SUPER_ADMINISTRATOR
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import events as stored
from dravo.store.notifications import messages as message_rows
from dravo.store.notifications import rules as rule_rows
from dravo.store.notifications import webhooks as webhook_rows
from dravo.store.notifications.events import EventFilter
from dravo.store.notifications.messages import COLLECTED, EMAIL
from dravo.store.notifications.rules import StoredRule
from dravo.store.operators import operators as operator_rows
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import KeyAndLabel

STATUSES = (OPEN, SOLVED, HAPPENED)
# How many events that happened are reported in one transaction.
AT_ONCE = 100
# How a message about an event begins.
OPENINGS = {NEW: "", AGAIN: "Reminder: ", SOLVED: "Solved: ", HAPPENED: ""}
# Without anyone to tell, as before an email server is set up, a condition is reported as new later.
UNTOLD_SECONDS = 300
DAY = 86_400


@dataclass
class EventLine:
    """An event: a condition that needs an operator or needed one, or what happened once."""

    id: str
    kind: str
    label: str
    status: str
    subject: str
    application: KeyAndLabel | None
    source: KeyAndLabel | None
    title: str
    text: str
    path: str
    number: int
    began_at: Instant
    ended_at: Instant | None
    reports: int
    messages: int


@dataclass(frozen=True)
class ListedEvents:
    """Which events to list: by kind, status, and key of the application or the source."""

    kind: str | None = None
    status: str | None = None
    application: str | None = None
    source: str | None = None


def list_events(ctx: AppContext, page_request: PageRequest, about: ListedEvents) -> Page[EventLine]:
    """Return a page of events, newest first.

    Raises:
        InvalidInput: for an unknown kind or status.
        NotFound: for an unknown application or source.
    """
    if about.kind is not None and about.kind not in BY_KEY:
        raise InvalidInput(
            f"There is no kind of event '{about.kind}'.", did_you_mean(about.kind, BY_KEY), "kind"
        )
    if about.status is not None and about.status not in STATUSES:
        raise InvalidInput(
            f"There is no status '{about.status}'.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )
    with ctx.database.reading() as connection:
        chosen = EventFilter(
            about.kind,
            about.status,
            application_by_key(connection, about.application).id if about.application else None,
            source_by_key(connection, about.source).id if about.source else None,
        )
        found = stored.list_events(connection, page_request, chosen)
        told = stored.message_counts(connection, [each.id for each in found.items])
        names = SubjectNames(connection)
    lines = [_line(each, names, told.get(each.id, 0)) for each in found.items]
    return Page(lines, found.total, found.next)


def _line(event: Event, names: SubjectNames, told: int) -> EventLine:
    condition = event.condition
    return EventLine(
        id=event.id,
        kind=condition.kind,
        label=BY_KEY[condition.kind].label,
        status=event.status,
        subject=condition.subject,
        application=names.application(condition.application_id),
        source=names.source(condition.source_id),
        title=condition.title,
        text=condition.text,
        path=condition.path,
        number=condition.number,
        began_at=event.began_at,
        ended_at=event.ended_at,
        reports=event.reports,
        messages=told,
    )


@dataclass(frozen=True)
class _Report:
    """What is reported about an event: "new", "again", "solved" or "happened"."""

    event_id: str
    how: str
    condition: Condition
    began_at: Instant


@dataclass(frozen=True)
class _Plan:
    """What `report` writes.

    Attributes:
        known, happened: the events that it was planned with.
        opened: new events.
        changes: changes of known events.
        reports: what is reported.
        messages: the rows of the messages about it.
    """

    known: list[Event]
    happened: list[Event]
    opened: list[Event]
    changes: EventChanges
    reports: list[_Report]
    messages: list[dict[str, Any]]

    def untold(self) -> list[str]:
        """Return the IDs of new events about which nobody gets a message."""
        told = {row["event_id"] for row in self.messages}
        return [each.event_id for each in self.reports if each.how == NEW and each.event_id not in told]


def report(ctx: AppContext, conditions: Sequence[Condition], now: Instant) -> int:
    """Store what changed about events, and write the messages about it.

    Args:
        conditions: everything that needs an operator now.

    Returns:
        The number of messages.
    """
    since = later(now, -reporting.QUIET_SECONDS)
    with ctx.database.reading() as connection:
        known, happened = stored.known(connection, since), stored.unreported(connection, AT_ONCE)
        changes = reporting.compare(known, conditions, now)
        if not changes and not happened:
            return 0
        opened = [_opened(condition, now) for condition in changes.opened]
        reports = _reports(opened, changes, happened)
        rows = _Writer(ctx, connection, now).rows(reports)
    plan = _Plan(known, happened, opened, changes, reports, rows)
    with ctx.database.writing() as connection:
        # Events can have been erased meanwhile, with a user. Then the next look plans again.
        seen = stored.known(connection, since), stored.unreported(connection, len(happened))
        if seen != (known, happened):
            return 0
        _apply(connection, plan, now)
    for each in reports:
        counted_events.note(
            counted_events.NOTIFICATION, each.condition.kind, status=each.how, subject=each.condition.subject
        )
    return len(rows)


def _opened(condition: Condition, now: Instant) -> Event:
    again = reporting.next_report(condition.kind, now, now)
    return Event(new_id(), condition, OPEN, began_at=now, reports=1, next_report_at=again, ended_at=None)


def _reports(opened: Sequence[Event], changes: EventChanges, happened: Sequence[Event]) -> list[_Report]:
    """Return what is reported about events."""
    return [
        *(_Report(event.id, NEW, event.condition, event.began_at) for event in opened),
        *(
            _Report(event.id, AGAIN if event.reports else NEW, condition, event.began_at)
            for event, condition, _ in changes.reported
        ),
        *(
            _Report(event.id, SOLVED, event.condition, event.began_at)
            for event, told in changes.solved
            if told
        ),
        *(_Report(event.id, HAPPENED, event.condition, event.began_at) for event in happened),
    ]


def _apply(connection: Connection, plan: _Plan, now: Instant) -> None:
    """Write a plan."""
    for event in plan.opened:
        stored.insert_event(connection, event)
    for event, condition, at in plan.changes.reopened:
        values: dict[str, Any] = {"status": OPEN, "began_at": now, "ended_at": None, "reports": 0}
        stored.update_event(connection, event.id, condition, **values, next_report_at=at)
    for event, condition, next_at in plan.changes.reported:
        stored.update_event(
            connection, event.id, condition, reports=event.reports + 1, next_report_at=next_at
        )
    for event, condition in plan.changes.updated:
        stored.update_event(connection, event.id, condition)
    for event, _ in plan.changes.solved:
        stored.update_event(connection, event.id, status=SOLVED, ended_at=now, next_report_at=None)
    stored.mark_reported(connection, [event.id for event in plan.happened])
    for event_id in plan.untold():
        stored.update_event(connection, event_id, reports=0, next_report_at=later(now, UNTOLD_SECONDS))
    message_rows.insert_messages(connection, plan.messages)


class _Writer:
    """Writes the messages about events, by the rules as they are now."""

    def __init__(self, ctx: AppContext, connection: Connection, now: Instant) -> None:
        self._ctx, self._connection, self._now = ctx, connection, now
        self._rules = [_rule(each) for each in rule_rows.enabled_rules(connection)]
        self._zone = settings.time_zone(connection)
        self._mails = mail_server.is_set_up(connection)
        self._webhooks = webhook_rows.labels(connection)
        self._names = SubjectNames(connection)

    def rows(self, made: Sequence[_Report]) -> list[dict[str, Any]]:
        """Return the messages: one for each address and each webhook about each event."""
        return [row for each in made for row in self._about(each)]

    def _about(self, each: _Report) -> list[dict[str, Any]]:
        condition = each.condition
        rules = [
            rule
            for rule in self._rules
            if reports(rule, condition.kind, condition.application_id, condition.source_id)
        ]
        # Immediate rules come first, so that nobody gets an event at once and in a summary.
        rules.sort(key=lambda rule: rule.frequency != IMMEDIATELY)
        told: set[str] = set()
        rows: list[dict[str, Any]] = []
        for rule in rules:
            for recipient in rule.recipients:
                if recipient.kind == WEBHOOK:
                    if recipient.value in self._webhooks and recipient.value not in told:
                        told.add(recipient.value)
                        rows.append(self._webhook_row(each, recipient.value))
                    continue
                for address in self._addresses(recipient, condition) if self._mails else ():
                    if address.lower() not in told:
                        told.add(address.lower())
                        rows.append(self._email_row(each, rule, address))
        return [{**row, "event_id": each.event_id} for row in rows]

    def _addresses(self, recipient: Recipient, condition: Condition) -> list[str]:
        if recipient.kind == ADDRESS:
            return [recipient.value]
        if recipient.kind == OPERATORS:
            return operator_rows.addresses_of_kinds(self._connection, recipient.value)
        if recipient.kind == OWNERS and condition.application_id is not None:
            kinds = (SUPER_ADMINISTRATOR, ADMINISTRATOR)
            return rule_rows.addresses_of_owner(self._connection, condition.application_id, kinds)
        return []

    def _email_row(self, each: _Report, rule: Rule, address: str) -> dict[str, Any]:
        title = OPENINGS[each.how] + each.condition.title
        link = self._ctx.public_url + each.condition.path
        said = "This is solved." if each.how == SOLVED else each.condition.text
        content = f"{said}\n\n{link}"
        if rule.frequency == IMMEDIATELY:
            return messages.email_row(
                self._ctx, self._connection, mail_texts.NOTIFICATION, address, (title, content)
            )
        at = send_at(rule.frequency, self._now, self._zone)
        return messages.collected_row(self._ctx, rule.id, address, (title, content), at)

    def _webhook_row(self, each: _Report, webhook_id: str) -> dict[str, Any]:
        condition = each.condition
        application = self._names.application(condition.application_id)
        source = self._names.source(condition.source_id)
        body = {
            "id": each.event_id,
            "kind": condition.kind,
            "status": each.how,
            "title": condition.title,
            "text": condition.text,
            "number": condition.number,
            "application": application.key if application else None,
            "source": source.key if source else None,
            "began_at": each.began_at,
            "at": self._now,
            "url": self._ctx.public_url + condition.path,
        }
        title = OPENINGS[each.how] + condition.title
        return messages.webhook_row(
            self._ctx, webhook_id, self._webhooks[webhook_id], title, orjson.dumps(body)
        )


def _rule(row: StoredRule) -> Rule:
    return Rule(
        row.id,
        None if row.kinds is None else frozenset(row.kinds),
        None if row.application_ids is None else frozenset(row.application_ids),
        None if row.source_ids is None else frozenset(row.source_ids),
        tuple(Recipient(each["kind"], each["value"]) for each in row.recipients),
        row.frequency,
    )


def send_summaries(ctx: AppContext, now: Instant) -> int:
    """Put the collected messages that are due into one email for each rule and address; return their
    number.
    """
    with ctx.database.reading() as connection:
        due = message_rows.due(connection, now, AT_ONCE, EMAIL, COLLECTED)
    places = sorted({(each.rule_id or "", each.recipient) for each in due})
    for rule_id, address in places:
        with ctx.database.writing() as connection:
            rows = message_rows.collected(connection, rule_id, address, now)
            if not rows:
                continue
            content = messages.summary(ctx, rows)
            row = messages.email_row(ctx, connection, message_rows.SUMMARY, address, content)
            message_rows.delete_messages(connection, [each.id for each in rows])
            message_rows.insert_messages(connection, [row])
    return len(places)


def sweep(ctx: AppContext, now: Instant, days: int) -> None:
    """Delete messages that ended, and events that are over, before a number of days."""
    before = later(now, -days * DAY)
    with ctx.database.writing() as connection:
        message_rows.delete_before(connection, before)
        stored.delete_before(connection, before)


def note(ctx: AppContext, condition: Condition) -> None:
    """Store what happened once, in a transaction of its own."""
    with ctx.database.writing() as connection:
        stored.happened(connection, condition, clock.now())
