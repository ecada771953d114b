"""Emails and webhook messages: those to send, and those that were sent."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, delete, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page, shown_as

COLLECTED, WAITING, SENT, FAILED, EXPIRED, UNKNOWN = (
    "collected",
    "waiting",
    "sent",
    "failed",
    "expired",
    "unknown",
)
STATUSES = (COLLECTED, WAITING, SENT, FAILED, EXPIRED, UNKNOWN)
EMAIL, WEBHOOK = "email", "webhook"
# The kind of emails that sum up events.
SUMMARY = "summary"


@dataclass(frozen=True)
class StoredMessage:
    """A row of the table of messages, in the order of its columns.

    Attributes:
        channel: "email" or "webhook".
        kind: what it is.
        recipient: an address, or the label of a webhook.
        content: the encrypted text; None if it cannot be sent again.
        until_at: the end of the time in which it is worth sending.
        tries: the number of failed attempts.
        lost: the number of attempts whose outcome is unknown.
        trouble: the error of the last attempt.
        ended_at: when it was sent or given up.
        rule_id: of a collected message, the rule of its summary.
    """

    id: str
    channel: str
    kind: str
    recipient: str
    webhook_id: str | None
    subject: str
    content: str | None = field(repr=False)
    status: str
    created_at: Instant
    until_at: Instant
    next_at: Instant
    tries: int
    lost: int
    trouble: str | None
    ended_at: Instant | None
    event_id: str | None
    rule_id: str | None


@dataclass(frozen=True)
class MessageFilter:
    """Which messages to list; None for all."""

    channel: str | None = None
    kind: str | None = None
    status: str | None = None
    words: str | None = None


def insert_messages(connection: Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Insert messages, to be sent when they are due."""
    if rows:
        connection.execute(insert(t.message), list(rows))


def get(connection: Connection, message_id: str) -> StoredMessage | None:
    """Return a message, or None."""
    row = connection.execute(select(t.message).where(t.message.c.id == message_id)).first()
    return StoredMessage(*row) if row is not None else None


def number_waiting(connection: Connection, channel: str) -> int:
    """Return the number of messages of a channel that wait to be sent, without those of later summaries."""
    m = t.message.c
    where = (m.channel == channel, m.status == WAITING)
    return int(connection.execute(select(func.count()).select_from(t.message).where(*where)).scalar_one())


def due(
    connection: Connection, now: Instant, limit: int, channel: str, status: str = WAITING
) -> list[StoredMessage]:
    """Return messages that are due, the longest due first."""
    m = t.message.c
    where = (m.status == status, m.channel == channel, m.next_at <= now)
    statement = select(t.message).where(*where).order_by(m.next_at, m.id).limit(limit)
    return [StoredMessage(*row) for row in connection.execute(statement)]


def collected(connection: Connection, rule_id: str, recipient: str, now: Instant) -> list[StoredMessage]:
    """Return the messages of a summary that is due, in their order."""
    m = t.message.c
    where = (m.status == COLLECTED, m.rule_id == rule_id, m.recipient == recipient, m.next_at <= now)
    return [StoredMessage(*row) for row in connection.execute(select(t.message).where(*where).order_by(m.id))]


def hasten(connection: Connection, row: StoredMessage, now: Instant) -> None:
    """Make the summary of a collected message due, with all messages that it has."""
    m = t.message.c
    where = (m.status == COLLECTED, m.rule_id == row.rule_id, m.recipient == row.recipient)
    connection.execute(update(t.message).where(*where).values(next_at=now))


def begin_attempt(connection: Connection, message_id: str) -> bool:
    """Note that an attempt begins, whose outcome is unknown until it is stored; return whether the message
    still waits.
    """
    m = t.message.c
    where = (m.id == message_id, m.status == WAITING)
    return connection.execute(update(t.message).where(*where).values(lost=m.lost + 1)).rowcount == 1


def update_message(connection: Connection, message_id: str, **values: Any) -> None:
    """Change columns of a message."""
    connection.execute(update(t.message).where(t.message.c.id == message_id).values(**values))


def delete_messages(connection: Connection, ids: Sequence[str]) -> None:
    """Delete messages."""
    connection.execute(delete(t.message).where(t.message.c.id.in_(ids)))


def end_of_webhook(connection: Connection, webhook_id: str, now: Instant, trouble: str) -> None:
    """Give up what waits for a webhook."""
    m = t.message.c
    where = (m.webhook_id == webhook_id, m.status == WAITING)
    values = {"status": FAILED, "trouble": trouble, "ended_at": now}
    connection.execute(update(t.message).where(*where).values(**values))


def list_messages(
    connection: Connection, page_request: PageRequest, about: MessageFilter
) -> Page[StoredMessage]:
    """Return a page of messages, newest first."""
    m = t.message.c
    statement = select(t.message)
    for column, value in ((m.channel, about.channel), (m.kind, about.kind), (m.status, about.status)):
        if value is not None:
            statement = statement.where(column == value)
    if about.words:
        words = about.words.lower()
        statement = statement.where(
            or_(
                func.lower(m.recipient).contains(words, autoescape=True),
                func.lower(m.subject).contains(words, autoescape=True),
            )
        )
    keys = [m.created_at.desc(), m.id.desc()]
    return page(connection, statement, keys, page_request, shown_as(StoredMessage, lambda row: row))


def delete_before(connection: Connection, before: Instant) -> None:
    """Delete messages that ended before an instant."""
    connection.execute(delete(t.message).where(t.message.c.ended_at < before))
