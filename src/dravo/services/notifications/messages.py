"""Messages: emails and webhook messages, written with what they report, and sent by the worker.

A message is written in the transaction of what it is about. It survives a crash, and the time of a request
does not reveal whether an email was sent. An attempt is noted before it begins: where its reply is lost, by a
crash too, the message is sent once more and then given up, so that it arrives at most twice.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import orjson
import structlog
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant, later
from dravo.protocols.smtp import Email, MailServer, MailTrouble, send
from dravo.services.context import AppContext
from dravo.services.notifications import mail_server, mail_texts, webhooks
from dravo.services.notifications.webhooks import WebhookTrouble
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import messages as stored
from dravo.store.notifications.messages import (
    EMAIL,
    EXPIRED,
    FAILED,
    SENT,
    STATUSES,
    UNKNOWN,
    WAITING,
    WEBHOOK,
    MessageFilter,
    StoredMessage,
)
from dravo.store.pagination import Page, PageRequest

# Seconds between attempts.
PAUSES = {EMAIL: (5, 15, 60, 300, 900, 3_600), WEBHOOK: (5, 30, 300, 1_800, 7_200, 21_600)}
AT_ONCE = 20
# How long a message is worth sending. A webhook is disabled after a week of failures.
WORTH_SECONDS = {EMAIL: 3 * 86_400, WEBHOOK: 8 * 86_400}
# How often a message is sent whose reply was lost.
MOST_LOST = 2

log = structlog.get_logger("messages")


@dataclass
class MessageLine:
    """An email or a webhook message, and whether it arrived."""

    id: str
    channel: str
    kind: str
    recipient: str
    subject: str
    status: str
    created_at: Instant
    ended_at: Instant | None
    next_at: Instant | None
    tries: int
    trouble: str | None
    event: str | None
    can_repeat: bool


def list_messages(ctx: AppContext, page_request: PageRequest, about: MessageFilter) -> Page[MessageLine]:
    """Return a page of messages, newest first.

    Raises:
        InvalidInput: for an unknown status or channel.
    """
    for name, value, known in (
        ("status", about.status, STATUSES),
        ("channel", about.channel, (EMAIL, WEBHOOK)),
    ):
        if value is not None and value not in known:
            raise InvalidInput(f"There is no {name} '{value}'.", f"Use one of: {', '.join(known)}.", name)
    with ctx.database.reading() as connection:
        found = stored.list_messages(connection, page_request, about)
    return Page([_line(each) for each in found.items], found.total, found.next)


def _line(row: StoredMessage) -> MessageLine:
    over = row.status not in (WAITING, stored.COLLECTED)
    return MessageLine(
        id=row.id,
        channel=row.channel,
        kind=row.kind,
        recipient=row.recipient,
        subject=row.subject,
        status=row.status,
        created_at=row.created_at,
        ended_at=row.ended_at,
        next_at=None if over else row.next_at,
        tries=row.tries,
        trouble=row.trouble,
        event=row.event_id,
        can_repeat=row.status != WAITING and row.content is not None,
    )


def send_again(ctx: AppContext, caller: Caller, message_id: str) -> MessageLine:
    """Send a message again that was sent or given up, as a new message; send a collected message now, in the
    summary of its rule and recipient.

    Raises:
        NotFound; InvalidInput: for a message that waits, or one with a code in it.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = stored.get(connection, message_id)
        if row is None:
            raise NotFound(f"There is no message with the ID '{message_id}'.", "Reload the list.")
        if row.status == WAITING:
            raise InvalidInput("The message is not sent yet.", "Wait until it is sent.")
        if row.status == stored.COLLECTED:
            stored.hasten(connection, row, now)
            event = AuditEvent("sent summary now", "message", message_id, details={"channel": row.channel})
            record_change(connection, ctx.keys, caller, now, event)
            return _line(replace(row, next_at=now))
        if row.content is None:
            raise InvalidInput(
                "The message contained a code or its text is deleted.", "Let the user request a new one."
            )
        made = _row(row.channel, _NewMessage(row.kind, row.recipient, row.subject, row.content))
        made |= {"webhook_id": row.webhook_id, "event_id": row.event_id}
        stored.insert_messages(connection, [made])
        event = AuditEvent(
            "sent message again", "message", message_id, details={"kind": row.kind, "channel": row.channel}
        )
        record_change(connection, ctx.keys, caller, now, event)
    return _line(StoredMessage(**made, tries=0, lost=0, trouble=None, ended_at=None))


def write_email(
    ctx: AppContext,
    connection: Connection,
    kind: str,
    to: str,
    content: tuple[str, str],
    seconds: float = WORTH_SECONDS[EMAIL],
) -> None:
    """Write an email that the worker sends, in the transaction of what it is about.

    Args:
        kind: one of the kinds of emails.
        content: what it is about, in one line; and its text, which stands between greeting and footer.
        seconds: for how long it is worth sending.
    """
    stored.insert_messages(connection, [email_row(ctx, connection, kind, to, content, seconds=seconds)])


def email_row(
    ctx: AppContext,
    connection: Connection,
    kind: str,
    to: str,
    content: tuple[str, str],
    *,
    seconds: float = WORTH_SECONDS[EMAIL],
) -> dict[str, Any]:
    """Return the row of an email; arguments as for `write_email`."""
    subject, text = mail_texts.composed(ctx, connection, kind, *content)
    encrypted = ctx.keys.encrypt(orjson.dumps([to, subject, text]).decode())
    return _row(EMAIL, _NewMessage(kind, to, subject, encrypted), seconds)


def webhook_row(ctx: AppContext, webhook_id: str, label: str, subject: str, body: bytes) -> dict[str, Any]:
    """Return the row of a webhook message with its JSON body."""
    content = ctx.keys.encrypt(body.decode())
    row = _row(WEBHOOK, _NewMessage(mail_texts.NOTIFICATION, label, subject, content))
    return {**row, "webhook_id": webhook_id}


def collected_row(
    ctx: AppContext, rule_id: str, to: str, content: tuple[str, str], at: Instant
) -> dict[str, Any]:
    """Return the row of a message that becomes a part of a summary.

    Args:
        rule_id: the rule of the summary.
        content: what it is about, in one line, and its text.
        at: when the summary is sent.
    """
    encrypted = ctx.keys.encrypt(orjson.dumps(content).decode())
    row = _row(EMAIL, _NewMessage(mail_texts.NOTIFICATION, to, content[0], encrypted))
    return {**row, "status": stored.COLLECTED, "rule_id": rule_id, "next_at": at}


def summary(ctx: AppContext, rows: Sequence[StoredMessage]) -> tuple[str, str]:
    """Return the content of a summary of collected messages."""
    parts = [orjson.loads(ctx.keys.decrypt(row.content or "")) for row in rows]
    title = parts[0][0] if len(parts) == 1 else f"{len(parts)} events"
    return title, "\n\n\n".join(f"{subject}\n\n{text}" for subject, text in parts)


@dataclass(frozen=True)
class _NewMessage:
    """What is sent, and the recipient; the content is encrypted."""

    kind: str
    recipient: str
    subject: str
    content: str = field(repr=False)


def _row(channel: str, new: _NewMessage, seconds: float | None = None) -> dict[str, Any]:
    """Return the row of a message that is sent at once; every row has the same columns.

    Args:
        seconds: for how long it is worth sending; None for as long as others of the channel.
    """
    now = clock.now()
    return {
        **vars(new),
        "id": new_id(),
        "channel": channel,
        "webhook_id": None,
        "status": WAITING,
        "created_at": now,
        "until_at": later(now, WORTH_SECONDS[channel] if seconds is None else seconds),
        "next_at": now,
        "event_id": None,
        "rule_id": None,
    }


def is_due(ctx: AppContext, now: Instant, channel: str) -> bool:
    """Whether a message of a channel is due."""
    with ctx.database.reading() as connection:
        return bool(stored.due(connection, now, 1, channel))


def send_due(ctx: AppContext, now: Instant, channel: str) -> int:
    """Send the messages of a channel that are due; return how many were tried."""
    with ctx.database.reading() as connection:
        rows = stored.due(connection, now, AT_ONCE, channel)
        server = mail_server.server(ctx, connection) if rows and channel == EMAIL else None
    for row in rows:
        _send_one(ctx, server, row)
    return len(rows)


@dataclass(frozen=True)
class _Outcome:
    """How an attempt ended: "" for a success, else what is wrong; whether trying again changes nothing, and
    whether the reply was lost.
    """

    trouble: str = ""
    lasting: bool = False
    unknown: bool = False


def _send_one(ctx: AppContext, server: MailServer | None, row: StoredMessage) -> None:
    if row.until_at <= clock.now():
        with ctx.database.writing() as connection:
            _give_up(connection, row, EXPIRED, row.trouble or "The message could not be sent in time.")
        return
    if row.lost >= MOST_LOST:
        with ctx.database.writing() as connection:
            _give_up(connection, row, UNKNOWN, "The reply was lost twice. The message may have arrived.")
        return
    with ctx.database.writing() as connection:
        if not stored.begin_attempt(connection, row.id):
            return
    outcome = _attempt(ctx, server, row)
    with ctx.database.writing() as connection:
        _settle(connection, row, outcome)
        if row.channel == WEBHOOK and row.webhook_id is not None:
            webhooks.note_outcome(ctx, connection, row.webhook_id, outcome.trouble)


def _attempt(ctx: AppContext, server: MailServer | None, row: StoredMessage) -> _Outcome:
    try:
        content = ctx.keys.decrypt(row.content or "")
        if row.channel == WEBHOOK:
            webhooks.send(ctx, row.webhook_id or "", row.id, content.encode())
        elif server is None:
            raise MailTrouble("No email server is configured.", "Configure it under Settings.")
        else:
            to, subject, text = orjson.loads(content)
            send(server, Email(to, subject, text, row.id))
    except (MailTrouble, WebhookTrouble) as wrong:
        log.warning(
            "a message was not accepted", channel=row.channel, reason=wrong.message, tries=row.tries + 1
        )
        return _Outcome(str(wrong), wrong.lasting, wrong.unknown)
    except Exception:
        # Other messages must still be sent.
        log.exception("a message failed", channel=row.channel, tries=row.tries + 1)
        return _Outcome("The message failed with an internal error. See the service log.")
    return _Outcome()


def _settle(connection: Connection, row: StoredMessage, outcome: _Outcome) -> None:
    now = clock.now()
    # The attempt was counted as lost when it began; now its outcome is known.
    lost = row.lost + 1 if outcome.unknown else row.lost
    if not outcome.trouble:
        values = {"status": SENT, "ended_at": now, "trouble": None, "lost": lost}
        if row.kind in mail_texts.SECRET_KINDS:
            values["content"] = None
        stored.update_message(connection, row.id, **values)
        if row.channel == EMAIL:
            mail_server.note_sent(connection)
        return
    if outcome.lasting:
        _give_up(connection, row, FAILED, outcome.trouble)
        return
    pauses = PAUSES[row.channel]
    next_at = later(now, pauses[min(row.tries, len(pauses) - 1)])
    stored.update_message(
        connection, row.id, tries=row.tries + 1, next_at=next_at, trouble=outcome.trouble, lost=lost
    )
    if row.channel == EMAIL:
        mail_server.note_trouble(connection, outcome.trouble)


def _give_up(connection: Connection, row: StoredMessage, status: str, trouble: str) -> None:
    values = {"status": status, "ended_at": clock.now(), "trouble": trouble, "tries": row.tries + 1}
    if row.kind in mail_texts.SECRET_KINDS:
        values["content"] = None
    stored.update_message(connection, row.id, **values)
    if row.channel == EMAIL:
        mail_server.note_trouble(connection, trouble)
