"""Webhook messages: a JSON body with three headers, signed with a secret that both sides know.

The signature is an HMAC with SHA-256 (RFC 2104) over the message's ID, its time and its body, each followed
by a line end except for the body. A receiver that checks it, and the time, knows that the message is ours,
unchanged and new. The headers and the body are described in docs/guides/webhooks.md.
"""

from __future__ import annotations

import hashlib
import hmac
from dataclasses import dataclass, field

from dravo.core.instants import Instant

ID, TIME, SIGNATURE = "Dravo-Message-Id", "Dravo-Message-Time", "Dravo-Message-Signature"


@dataclass(frozen=True)
class WebhookMessage:
    """A message; `id` stays the same when it is sent again, so that a receiver can drop what it knows."""

    id: str
    body: bytes = field(repr=False)


def headers(message: WebhookMessage, sent_at: Instant, secret: str) -> dict[str, str]:
    """Return the headers of a message that is sent now."""
    return {
        "Content-Type": "application/json",
        ID: message.id,
        TIME: sent_at,
        SIGNATURE: signature(message, sent_at, secret),
    }


def signature(message: WebhookMessage, sent_at: Instant, secret: str) -> str:
    """Return the signature of a message in hexadecimal digits."""
    signed = f"{message.id}\n{sent_at}\n".encode() + message.body
    return hmac.new(secret.encode(), signed, hashlib.sha256).hexdigest()
