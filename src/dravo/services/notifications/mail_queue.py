"""Outbound email: the email server, and the queue of messages.

A message is written in the transaction of what it is about, and the worker sends it. It survives a crash, and
the time of a request does not reveal whether an email was sent.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import orjson
import structlog
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, later
from dravo.protocols.addresses import is_host
from dravo.protocols.smtp import NONE, SECURITIES, MailServer, MailTrouble, check_address, compose, send
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.organization import outbound_mail
from dravo.store.organization import settings as stored_settings
from dravo.store.organization.outbound_mail import QueuedMail

# Names under which the email server and its last result are stored.
SERVER, WENT = "mail_server", "mail_status"
PAUSES = (5, 15, 60, 300, 900, 3_600)
AT_ONCE = 20
# A notice is worth sending for three days.
NOTICE_SECONDS = 3 * 86_400

log = structlog.get_logger("mail")


@dataclass
class MailSettings:
    """The email server with its last result, without the password."""

    host: str
    port: int
    security: str
    user: str
    sender: str
    has_password: bool
    waiting: int
    sent_at: str | None
    trouble: str
    trouble_at: str | None


@dataclass
class MailTested(MailSettings):
    """The settings of the email server, after a test message to an address."""

    sent_to: str


def shown(ctx: AppContext) -> MailSettings:
    """Return the email server, without its password, and the result of the last message."""
    with ctx.database.reading() as connection:
        kept = _read(connection, SERVER)
        went = _read(connection, WENT)
        waiting = outbound_mail.number(connection)
    return MailSettings(
        host=kept.get("host", ""),
        port=kept.get("port", 587),
        security=kept.get("security", "starttls"),
        user=kept.get("user", ""),
        sender=kept.get("sender", ""),
        has_password=bool(kept.get("secret")),
        waiting=waiting,
        sent_at=went.get("sent_at"),
        trouble=went.get("trouble", ""),
        trouble_at=went.get("trouble_at"),
    )


def change(ctx: AppContext, caller: Caller, given: dict[str, Any]) -> MailSettings:
    """Change the email server; None keeps a value. A new host clears the password.

    Args:
        ctx: the data folder.
        caller: who changes it.
        given: "host", "port", "security", "user", "password", "sender"; with an empty host no email is sent.

    Raises:
        InvalidInput: with the field of a wrong value.
    """
    with ctx.database.writing() as connection:
        before = _read(connection, SERVER)
        kept = {
            **before,
            **{name: value for name, value in given.items() if name != "password" and value is not None},
        }
        _check(kept)
        if given.get("password") is not None:
            kept["secret"] = ctx.keys.encrypt(given["password"]) if given["password"] else None
        elif kept.get("host") != before.get("host"):
            kept["secret"] = None
        stored_settings.replace_value(connection, SERVER, kept)
        details = {
            name: value for name, value in kept.items() if name != "secret" and before.get(name) != value
        }
        if kept.get("secret") != before.get("secret"):
            details["password"] = "changed"
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("changed email server", "setting", "mail", details=details),
        )
    return shown(ctx)


def _check(kept: dict[str, Any]) -> None:
    if not kept.get("host"):
        return
    if any(sign.isspace() or sign in "/@" for sign in kept["host"]) or not is_host(kept["host"]):
        raise InvalidInput(
            f"'{kept['host']}' is not a valid host name.",
            "Enter only the host name, such as mail.fernhollow.example.",
            "host",
        )
    kept.setdefault("port", 587)
    kept.setdefault("security", "starttls")
    if kept["security"] not in SECURITIES:
        raise InvalidInput(
            f"'{kept['security']}' is not a valid value for `security`.",
            f"Use one of: {', '.join(SECURITIES)}.",
            "security",
        )
    kept["sender"] = check_address(kept.get("sender", ""), "sender")
    if kept.get("user") and kept["security"] == NONE:
        raise InvalidInput(
            "Without TLS, the password would be sent in clear text.",
            "Set `security` to tls or starttls, or clear the user name.",
            "security",
        )


def is_set_up(connection: Connection) -> bool:
    """Whether mail can be sent."""
    return bool(_read(connection, SERVER).get("host"))


def test(ctx: AppContext, caller: Caller, to: str) -> MailTested:
    """Send one message now, and return the result.

    Raises:
        InvalidInput.
        MailTrouble: with the error and a hint.
    """
    address = check_address(to, "to")
    with ctx.database.reading() as connection:
        server = _server(ctx, connection)
    if server is None:
        raise InvalidInput("No email server is configured.", "Save the email server first.", "host")
    text = f"This is a test email, sent by {caller.name}.\n\nEmails from Dravo arrive at this address.\n"
    send(server, address, compose(server.sender, address, "Test email from Dravo", text))
    with ctx.database.writing() as connection:
        stored_settings.replace_value(connection, WENT, {"sent_at": clock.now()})
    return MailTested(**vars(shown(ctx)), sent_to=address)


def write_letter(
    ctx: AppContext,
    connection: Connection,
    to: str,
    subject: str,
    text: str,
    seconds: float = NOTICE_SECONDS,
) -> None:
    """Write a message that the worker sends, in the transaction of what it is about.

    Args:
        seconds: for how long the message is worth sending.
    """
    now = clock.now()
    content = ctx.keys.encrypt(orjson.dumps([to, subject, text]).decode())
    outbound_mail.insert_message(connection, content, now, later(now, seconds))


def send_due(ctx: AppContext, now: Instant) -> int:
    """Send the messages that are due; return how many were tried."""
    with ctx.database.reading() as connection:
        rows = outbound_mail.due(connection, now, AT_ONCE)
        server = _server(ctx, connection) if rows else None
    for row in rows:
        _send_one(ctx, server, row)
    return len(rows)


def is_due(ctx: AppContext, now: Instant) -> bool:
    """Whether a message is due."""
    with ctx.database.reading() as connection:
        return bool(outbound_mail.due(connection, now, 1))


def _send_one(ctx: AppContext, server: MailServer | None, row: QueuedMail) -> None:
    now, trouble, over = clock.now(), "", row.until_at <= clock.now()
    if not over:
        to, subject, text = orjson.loads(ctx.keys.decrypt(row.content))
        try:
            if server is None:
                raise MailTrouble("No email server is configured.", "Configure it under Settings.")
            send(server, to, compose(server.sender, to, subject, text))
        except MailTrouble as wrong:
            trouble, over = f"{wrong.message} {wrong.hint}", wrong.lasting
            log.warning("an email was not accepted", reason=wrong.message, tries=row.tries + 1)
        except Exception:
            # Other messages must still be sent.
            trouble = "The email failed with an internal error. See the service log."
            log.exception("an email failed", tries=row.tries + 1)
    with ctx.database.writing() as connection:
        if trouble and not over:
            next_at = later(now, PAUSES[min(row.tries, len(PAUSES) - 1)])
            outbound_mail.postpone(connection, row.id, row.tries + 1, next_at, trouble)
        else:
            outbound_mail.delete_message(connection, row.id)
        if trouble or row.until_at <= now:
            trouble = trouble or row.trouble or "An email could not be sent in time."
            stored_settings.replace_value(
                connection, WENT, {**_read(connection, WENT), "trouble": trouble, "trouble_at": now}
            )
        else:
            stored_settings.replace_value(connection, WENT, {"sent_at": now})


def _server(ctx: AppContext, connection: Connection) -> MailServer | None:
    kept = _read(connection, SERVER)
    if not kept.get("host"):
        return None
    secret = kept.get("secret")
    made = MailServer(kept["host"], kept["port"], kept["security"], kept.get("user", ""), "", kept["sender"])
    return replace(made, password=ctx.keys.decrypt(secret)) if secret else made


def _read(connection: Connection, name: str) -> dict[str, Any]:
    kept = stored_settings.value(connection, name)
    return dict(kept) if isinstance(kept, dict) else {}
