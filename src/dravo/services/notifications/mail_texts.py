"""Texts around emails: subject, greeting and footer of each kind, which the organization can change."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.notifications import texts
from dravo.core.notifications.texts import MailText
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.notifications.messages import SUMMARY
from dravo.store.organization import settings as stored_settings

# The kinds of emails.
NOTIFICATION, SIGN_IN_CODE = "notification", "sign_in_code"
REQUEST_DECIDED, ANNOUNCEMENT, TEST = "access_request_decided", "announcement", "test"
INVITATION, PASSWORD_RESET = "invitation", "password_reset"
LABELS = {
    NOTIFICATION: "Notification",
    SUMMARY: "Summary of notifications",
    SIGN_IN_CODE: "Sign-in code",
    INVITATION: "Invitation",
    PASSWORD_RESET: "Password reset",
    REQUEST_DECIDED: "Decision on an access request",
    ANNOUNCEMENT: "Announcement",
    TEST: "Test email",
}
# Their content cannot be sent again, because it contains a code or a link that signs in.
SECRET_KINDS = frozenset({SIGN_IN_CODE, INVITATION, PASSWORD_RESET})
DEFAULT = MailText("{title}", "", "Sent by Dravo, {address}")
PLACEHOLDERS = {
    "title": "what the email is about",
    "organization": "the name of the organization",
    "address": "the public address of Dravo",
}
# What a preview shows as content.
SAMPLES = {
    NOTIFICATION: ("Plant Records: 3 provisioning tasks failed", "403 Forbidden: the token may not write."),
    SUMMARY: ("2 events", "Plant Records: 3 provisioning tasks failed\n\nTicket Desk: drift found"),
    SIGN_IN_CODE: ("Your sign-in code", "    1234 5678"),
    INVITATION: (
        "Invitation to your applications",
        "Accept the invitation:\n\n    https://dravo.fernhollow.example/invitation#...",
    ),
    PASSWORD_RESET: (
        "Choose a new password",
        "Choose a new password:\n\n    https://dravo.fernhollow.example/new-password#...",
    ),
    REQUEST_DECIDED: ("Access to Plant Records", "Your request was approved."),
    ANNOUNCEMENT: ("Plant Records moves to a new sign-in", "From Monday, sign in with your staff account."),
    TEST: ("Test email from Dravo", "Emails from Dravo arrive at this address."),
}
# The name under which changed texts are stored.
STORED = "mail_texts"


@dataclass
class MailTextLine:
    """The text around a kind of email, and whether the organization changed it."""

    kind: str
    label: str
    subject: str
    greeting: str
    footer: str
    changed: bool


@dataclass
class MailTexts:
    """The texts of all kinds, and the placeholders with their meanings."""

    items: list[MailTextLine]
    placeholders: dict[str, str]


@dataclass
class PreviewedEmail:
    """An email as it would be sent."""

    subject: str
    text: str


def list_texts(ctx: AppContext) -> MailTexts:
    """Return the text of each kind of email."""
    with ctx.database.reading() as connection:
        changed = _changed(connection)
    lines = [
        MailTextLine(kind, LABELS[kind], **asdict(changed.get(kind, DEFAULT)), changed=kind in changed)
        for kind in LABELS
    ]
    return MailTexts(lines, PLACEHOLDERS)


def change(ctx: AppContext, caller: Caller, kind: str, text: MailText | None) -> MailTexts:
    """Change the text around a kind of email; None returns to the text that ships.

    Raises:
        InvalidInput: for an unknown kind or placeholder, an empty subject, or a text that is too long.
    """
    _check_kind(kind)
    if text is not None:
        texts.check_text(text, PLACEHOLDERS)
    with ctx.database.writing() as connection:
        changed = _changed(connection)
        before = changed.pop(kind, DEFAULT)
        if text is not None and text != DEFAULT:
            changed[kind] = text
        stored_settings.replace_value(
            connection, STORED, {name: asdict(each) for name, each in changed.items()}
        )
        details = {"before": asdict(before), "after": asdict(text or DEFAULT)}
        event = AuditEvent("changed email text", "setting", kind, details=details)
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return list_texts(ctx)


def preview(ctx: AppContext, kind: str, text: MailText) -> PreviewedEmail:
    """Return a sample email with a text that is not saved.

    Raises:
        InvalidInput: as `change`.
    """
    _check_kind(kind)
    texts.check_text(text, PLACEHOLDERS)
    title, content = SAMPLES[kind]
    with ctx.database.reading() as connection:
        return PreviewedEmail(*texts.composed(text, content, _values(ctx, connection, title)))


def composed(ctx: AppContext, connection: Connection, kind: str, title: str, content: str) -> tuple[str, str]:
    """Return the subject and the text of an email.

    Args:
        title: what it is about; the subject contains it where the organization did not change that.
        content: what stands between greeting and footer.
    """
    text = _changed(connection).get(kind, DEFAULT)
    return texts.composed(text, content, _values(ctx, connection, title))


def _values(ctx: AppContext, connection: Connection, title: str) -> dict[str, str]:
    return {
        "title": title,
        "organization": str(settings.read(connection)["organization_name"]),
        "address": ctx.public_url,
    }


def _check_kind(kind: str) -> None:
    if kind not in LABELS:
        raise InvalidInput(f"There is no kind of email '{kind}'.", did_you_mean(kind, LABELS), "kind")


def _changed(connection: Connection) -> dict[str, MailText]:
    kept: Any = stored_settings.value(connection, STORED)
    return {kind: MailText(**each) for kind, each in (kept or {}).items() if kind in LABELS}
