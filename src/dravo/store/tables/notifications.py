"""The tables of notifications: events, rules, webhooks, and the messages that report events."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, Index, Integer, String, Table, Text

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

# Events: conditions that are "open" or "solved", and what "happened" once.
notification_event = Table(
    "notification_event",
    metadata,
    own_id(),
    Column("kind", String(32), nullable=False),
    # What it is about: the ID of the object, with the application or the source that rules can choose. Not
    # foreign keys, because events stay when the object is deleted.
    Column("subject_id", String(64), nullable=False),
    Column("subject", Text, nullable=False),
    Column("application_id", String(36)),
    Column("source_id", String(36)),
    # In words, and the page of the console.
    Column("title", Text, nullable=False),
    Column("text", Text, nullable=False),
    Column("path", Text, nullable=False),
    Column("number", Integer, nullable=False, server_default="1"),
    # Of an expiry: the number of days that it is near.
    Column("level", Integer),
    Column("status", String(12), nullable=False),
    at("began_at", nullable=False),
    # Number of reports since it began, when it is reported again, and when it was solved.
    Column("reports", Integer, nullable=False, server_default="0"),
    at("next_report_at"),
    at("ended_at"),
)
one_of(
    "uq_notification_event_open",
    notification_event.c.kind,
    notification_event.c.subject_id,
    where="status = 'open'",
)
# Events that happened, and are not reported yet.
some_of(
    "ix_notification_event_unreported",
    notification_event.c.id,
    where="status = 'happened' AND reports = 0",
)
Index("ix_notification_event_ended", notification_event.c.status, notification_event.c.ended_at)

# Rules: which events, for which applications and sources (null for all), to whom, and when.
notification_rule = Table(
    "notification_rule",
    metadata,
    own_id(),
    Column("label", Text, nullable=False),
    Column("kinds", Json),
    Column("application_ids", Json),
    Column("source_ids", Json),
    # A list of {"kind", "value"}.
    Column("recipients", Json, nullable=False),
    Column("frequency", String(12), nullable=False),
    Column("enabled", Boolean(create_constraint=False), nullable=False, server_default="1"),
    at("created_at", nullable=False),
)

# Webhooks, each with its encrypted signing secret.
webhook = Table(
    "webhook",
    metadata,
    own_id(),
    Column("label", Text, nullable=False),
    Column("url", Text, nullable=False),
    Column("secret", Text, nullable=False),
    at("created_at", nullable=False),
    at("disabled_at"),
    # Time of the last accepted message; since when messages fail, and the last error.
    at("sent_at"),
    at("failing_since"),
    Column("trouble", Text),
)

# Announcements: emails to the users of a source or an application, "scheduled", "sending", "sent" or
# "withdrawn".
announcement = Table(
    "announcement",
    metadata,
    own_id(),
    # "source" or "application", its ID, and its label at that time.
    Column("about", String(12), nullable=False),
    Column("about_id", String(36), nullable=False),
    Column("about_label", Text, nullable=False),
    Column("subject", Text, nullable=False),
    Column("text", Text, nullable=False),
    Column("status", String(12), nullable=False),
    at("send_at", nullable=False),
    at("created_at", nullable=False),
    Column("created_by", Text, nullable=False),
    at("ended_at"),
    # Number of written emails, and the ID of the last user to whom one was written.
    Column("written", Integer, nullable=False, server_default="0"),
    Column("place", String(36), nullable=False, server_default=""),
)
some_of("ix_announcement_due", announcement.c.send_at, where="status IN ('scheduled', 'sending')")

# Emails and webhook messages: "collected" for a summary, "waiting", "sent", "failed" or "expired".
message = Table(
    "message",
    metadata,
    own_id(),
    Column("channel", String(8), nullable=False),
    # What it is: the key of a kind of message.
    Column("kind", String(24), nullable=False),
    # Of an email: the address. Of a webhook: its label at that time, and its ID.
    Column("recipient", Text, nullable=False),
    Column("webhook_id", String(36)),
    Column("subject", Text, nullable=False),
    # The encrypted text, which can contain a code; null once it was sent and cannot be sent again.
    Column("content", Text),
    Column("status", String(12), nullable=False),
    at("created_at", nullable=False),
    # End of its validity, time of the next attempt, number of failed attempts and last error.
    at("until_at", nullable=False),
    at("next_at", nullable=False),
    Column("tries", Integer, nullable=False, server_default="0"),
    # Number of attempts of which the outcome is unknown. After the second one it is not sent again.
    Column("lost", Integer, nullable=False, server_default="0"),
    Column("trouble", Text),
    at("ended_at"),
    to("notification_event", "event_id", nullable=True, index=True),
    # Of a collected message: the rule whose summary it belongs to.
    Column("rule_id", String(36)),
)
some_of("ix_message_next", message.c.next_at, where="status IN ('collected', 'waiting')")
Index("ix_message_created", message.c.created_at)
