"""Webhooks: addresses to which events are posted, each with a secret that signs the messages."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import urlsplit

import orjson
import structlog
from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput, NotFound, StillInUse
from dravo.core.instants import Instant, later
from dravo.core.notifications import event_kinds
from dravo.core.notifications.reporting import Condition
from dravo.protocols import webhook
from dravo.protocols.addresses import AddressNotAllowed, Unreachable
from dravo.protocols.http_client import Client, check_url
from dravo.protocols.webhook import WebhookMessage
from dravo.services.context import AppContext
from dravo.services.lookups import check_label
from dravo.services.security.audit_log import AuditEvent, record_now
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import events, messages, rules
from dravo.store.notifications import webhooks as stored
from dravo.store.notifications.webhooks import StoredWebhook
from dravo.store.pagination import Page, PageRequest

# A webhook that fails for this long is disabled.
WEEK = 7 * 86_400
LONGEST_URL = 2_000

log = structlog.get_logger("webhooks")


@dataclass
class WebhookLine:
    """A webhook without its secret."""

    id: str
    label: str
    url: str
    enabled: bool
    created_at: Instant
    sent_at: Instant | None
    failing_since: Instant | None
    trouble: str | None


@dataclass
class WebhookWithSecret(WebhookLine):
    """A webhook with its new secret, which is shown once."""

    secret: str = field(repr=False)


@dataclass
class WebhookTested:
    """What a webhook answered to a test message."""

    status: int
    answer: str


class WebhookTrouble(DravoError):
    """A webhook did not accept a message.

    Attributes:
        lasting: whether trying again changes nothing.
        unknown: whether it may have been accepted, because its reply was lost.
    """

    code = "webhook_trouble"
    status = 502

    def __init__(self, message: str, hint: str, *, lasting: bool = False, unknown: bool = False) -> None:
        super().__init__(message, hint)
        self.lasting = lasting
        self.unknown = unknown


def list_webhooks(ctx: AppContext, caller: Caller, page_request: PageRequest) -> Page[WebhookLine]:
    """Return a page of webhooks by label; callers who cannot change them see only the hosts of their URLs,
    because a path can contain a secret of the receiver.
    """
    with ctx.database.reading() as connection:
        found = stored.list_webhooks(connection, page_request)
    lines = [_line(each) for each in found.items]
    if "notifications.change" not in caller.permissions:
        lines = [replace(each, url=_host_of(each.url)) for each in lines]
    return Page(lines, found.total, found.next)


def _host_of(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}"


def create(ctx: AppContext, caller: Caller, label: str, url: str) -> WebhookWithSecret:
    """Create a webhook; its secret is shown once.

    Raises:
        InvalidInput.
    """
    now, secret = clock.now(), _new_secret()
    values = {
        "id": new_id(),
        "label": check_label(label),
        "url": _checked_url(url),
        "secret": ctx.keys.encrypt(secret),
        "created_at": now,
    }
    with ctx.database.writing() as connection:
        stored.insert_webhook(connection, values)
        details = {"label": values["label"], "url": values["url"]}
        record_now(ctx, connection, caller, _event("created webhook", values["id"], details))
    return WebhookWithSecret(**vars(one(ctx, values["id"])), secret=secret)


def one(ctx: AppContext, webhook_id: str) -> WebhookLine:
    """Return a webhook.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        return _line(_known(connection, webhook_id))


def change(ctx: AppContext, caller: Caller, webhook_id: str, given: Mapping[str, Any]) -> WebhookLine:
    """Change "label", "url" or "enabled" of a webhook; None keeps a value.

    Raises:
        NotFound, InvalidInput.
    """
    now = clock.now()
    values: dict[str, Any] = {}
    if given.get("label") is not None:
        values["label"] = check_label(given["label"])
    if given.get("url") is not None:
        values["url"] = _checked_url(given["url"])
    with ctx.database.writing() as connection:
        row = _known(connection, webhook_id)
        if given.get("enabled") is not None:
            values["disabled_at"] = None if given["enabled"] else row.disabled_at or now
            values["failing_since"] = None
        details = {name: value for name, value in values.items() if getattr(row, name) != value}
        if values:
            stored.update_webhook(connection, webhook_id, **values)
            record_now(
                ctx,
                connection,
                caller,
                _event("changed webhook", webhook_id, {"label": row.label, **details}),
            )
    return one(ctx, webhook_id)


def rotate_secret(ctx: AppContext, caller: Caller, webhook_id: str) -> WebhookWithSecret:
    """Replace the secret of a webhook; the new one is shown once, and signs from now on.

    Raises:
        NotFound.
    """
    secret = _new_secret()
    with ctx.database.writing() as connection:
        row = _known(connection, webhook_id)
        stored.update_webhook(connection, webhook_id, secret=ctx.keys.encrypt(secret))
        event = _event("rotated webhook secret", webhook_id, {"label": row.label})
        record_now(ctx, connection, caller, event)
    return WebhookWithSecret(**vars(one(ctx, webhook_id)), secret=secret)


def delete(ctx: AppContext, caller: Caller, webhook_id: str) -> None:
    """Delete a webhook; what waits for it is given up.

    Raises:
        NotFound; StillInUse: if a rule names it.
    """
    with ctx.database.writing() as connection:
        row = _known(connection, webhook_id)
        using = [
            rule.label
            for rule in rules.all_rules(connection)
            if {"kind": "webhook", "value": webhook_id} in rule.recipients
        ]
        if using:
            raise StillInUse(
                f"The rule '{using[0]}' sends to this webhook.",
                "Change the rule first, or disable the webhook.",
            )
        messages.end_of_webhook(connection, webhook_id, clock.now(), "The webhook was deleted.")
        stored.delete_webhook(connection, webhook_id)
        record_now(ctx, connection, caller, _event("deleted webhook", webhook_id, {"label": row.label}))


def test(ctx: AppContext, caller: Caller, webhook_id: str) -> WebhookTested:
    """Post a test message now, and return the answer.

    Raises:
        NotFound; WebhookTrouble: without an answer, or for an address that is not called.
    """
    with ctx.database.reading() as connection:
        row = _known(connection, webhook_id)
    body = {
        "id": new_id(),
        "kind": "test",
        "status": "happened",
        "title": f"Test message, sent by {caller.name}",
        "text": "",
        "at": clock.now(),
    }
    status, answer = _post(ctx, row, WebhookMessage(str(body["id"]), orjson.dumps(body)))
    return WebhookTested(status, answer)


def send(ctx: AppContext, webhook_id: str, message_id: str, body: bytes) -> None:
    """Post a message.

    Raises:
        WebhookTrouble: if it is not accepted, with a status of 2xx.
    """
    with ctx.database.reading() as connection:
        row = stored.get(connection, webhook_id)
    if row is None or row.disabled_at is not None:
        raise WebhookTrouble(
            "The webhook is disabled.", "Enable it, then send the message again.", lasting=True
        )
    status, answer = _post(ctx, row, WebhookMessage(message_id, body))
    if not 200 <= status < 300:
        raise WebhookTrouble(
            f"The webhook answered {status}: {' '.join(answer.split())[:200]}",
            "The receiver must answer with a status from 200 to 299.",
        )


def note_outcome(ctx: AppContext, connection: Connection, webhook_id: str, trouble: str) -> None:
    """Store whether a webhook accepted a message, and disable it after a week of failures.

    Args:
        trouble: what is wrong; "" for a success.
    """
    row, now = stored.get(connection, webhook_id), clock.now()
    if row is None or row.disabled_at is not None:
        return
    if not trouble:
        stored.update_webhook(connection, webhook_id, sent_at=now, failing_since=None, trouble=None)
        return
    since = row.failing_since or now
    stored.update_webhook(connection, webhook_id, failing_since=since, trouble=trouble)
    if later(since, WEEK) > now:
        return
    stored.update_webhook(connection, webhook_id, disabled_at=now)
    messages.end_of_webhook(connection, webhook_id, now, "The webhook was disabled after a week of failures.")
    events.happened(
        connection,
        Condition(
            kind=event_kinds.WEBHOOK_DISABLED,
            subject_id=webhook_id,
            subject=row.label,
            title=f"Webhook '{row.label}' disabled",
            text=f"It has accepted no message for a week. The last error: {trouble}\n\n"
            "Correct the receiver or the address, then enable the webhook.",
            path="/settings/notifications",
        ),
        now,
    )
    log.warning("a webhook was disabled", webhook=row.label, failing_since=since)


def _post(ctx: AppContext, row: StoredWebhook, message: WebhookMessage) -> tuple[int, str]:
    sent_at = clock.now()
    headers = webhook.headers(message, sent_at, ctx.keys.decrypt(row.secret))
    with contextlib.closing(Client()) as client:
        try:
            found = client.post(row.url, message.body, headers)
        except Unreachable as wrong:
            raise WebhookTrouble(
                f"The webhook does not answer: {wrong}.",
                "Check the address, and that the receiver is running.",
                unknown=wrong.sent,
            ) from None
        except AddressNotAllowed as wrong:
            raise WebhookTrouble(wrong.message, wrong.hint, lasting=True) from None
    return found.status, found.excerpt


def _line(row: StoredWebhook) -> WebhookLine:
    return WebhookLine(
        id=row.id,
        label=row.label,
        url=row.url,
        enabled=row.disabled_at is None,
        created_at=row.created_at,
        sent_at=row.sent_at,
        failing_since=row.failing_since,
        trouble=row.trouble,
    )


def _known(connection: Connection, webhook_id: str) -> StoredWebhook:
    row = stored.get(connection, webhook_id)
    if row is None:
        raise NotFound(f"There is no webhook with the ID '{webhook_id}'.", "List the webhooks.")
    return row


def _checked_url(url: str) -> str:
    if len(url) > LONGEST_URL:
        raise InvalidInput(f"The URL has {len(url):,} characters.", "Enter a shorter URL.", "url")
    return check_url(url, "url")


def _new_secret() -> str:
    return secrets.token_urlsafe(32)


def _event(action: str, webhook_id: str, details: dict[str, Any]) -> AuditEvent:
    return AuditEvent(action, "webhook", webhook_id, details=details)
