"""The email server: its settings, the result of the last message, and a test email."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.protocols.addresses import is_host
from dravo.protocols.smtp import NONE, SECURITIES, Email, MailServer, check_address, send
from dravo.services.context import AppContext
from dravo.services.notifications import mail_texts
from dravo.services.notifications.mail_texts import TEST
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.notifications import messages
from dravo.store.organization import settings as stored_settings

# Names under which the email server and its last result are stored.
SERVER, WENT = "mail_server", "mail_status"


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
        waiting = messages.number_waiting(connection, messages.EMAIL)
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
        to_use = server(ctx, connection)
        content = f"This is a test email, sent by {caller.name}.\n\nEmails from Dravo arrive at this address."
        subject, text = mail_texts.composed(ctx, connection, TEST, "Test email from Dravo", content)
    if to_use is None:
        raise InvalidInput("No email server is configured.", "Save the email server first.", "host")
    send(to_use, Email(address, subject, text))
    with ctx.database.writing() as connection:
        note_sent(connection)
    return MailTested(**vars(shown(ctx)), sent_to=address)


def note_sent(connection: Connection) -> None:
    """Store that the email server accepted a message."""
    stored_settings.replace_value(connection, WENT, {"sent_at": clock.now()})


def note_trouble(connection: Connection, trouble: str) -> None:
    """Store the error of a message."""
    went = {**_read(connection, WENT), "trouble": trouble, "trouble_at": clock.now()}
    stored_settings.replace_value(connection, WENT, went)


def server(ctx: AppContext, connection: Connection) -> MailServer | None:
    """Return the email server with its password; None if none is configured."""
    kept = _read(connection, SERVER)
    if not kept.get("host"):
        return None
    secret = kept.get("secret")
    made = MailServer(kept["host"], kept["port"], kept["security"], kept.get("user", ""), "", kept["sender"])
    return replace(made, password=ctx.keys.decrypt(secret)) if secret else made


def _read(connection: Connection, name: str) -> dict[str, Any]:
    kept = stored_settings.value(connection, name)
    return dict(kept) if isinstance(kept, dict) else {}
