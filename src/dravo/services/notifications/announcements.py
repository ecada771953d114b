"""Announcements: an email to the users of a source or an application, before it is switched over."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import Instant, parse_instant
from dravo.core.notifications.texts import one_line
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, source_by_key
from dravo.services.notifications import mail_server, mail_texts, messages
from dravo.services.security.audit_log import AuditEvent, record_now
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import announcements as stored
from dravo.store.notifications import messages as message_rows
from dravo.store.notifications.announcements import (
    APPLICATION,
    SCHEDULED,
    SENDING,
    SENT,
    SOURCE,
    Addressee,
    StoredAnnouncement,
)
from dravo.store.pagination import Page, PageRequest

LONGEST_SUBJECT, LONGEST_TEXT = 200, 5_000
# How many emails are written at once; the next ones follow when these are sent, so that sign-in codes do not
# wait behind thousands of emails.
CHUNK = 200
SHOWN = 10


class StaleRecipients(AlreadyExists):
    """The number of recipients changed since the preview."""

    code = "stale_preview"


@dataclass(frozen=True)
class NewAnnouncement:
    """An announcement: to the users of a source or an application, by key.

    Attributes:
        send_at: an instant; None for at once.
        expect: the number of recipients in the preview; None without one.
    """

    about: str
    key: str
    subject: str
    text: str
    send_at: str | None = None
    expect: int | None = None


@dataclass
class AnnouncementPreview:
    """The recipients of an announcement, and a sample email.

    Attributes:
        recipients: the number of users with an email address; `without` those who have none.
        first: some of the recipients.
    """

    recipients: int
    without: int
    first: list[Addressee]
    subject: str
    text: str


@dataclass
class AnnouncementLine:
    """An announcement, and how many emails were written."""

    id: str
    about: str
    about_label: str
    subject: str
    text: str
    status: str
    send_at: Instant
    created_at: Instant
    created_by: str
    ended_at: Instant | None
    written: int


def preview(ctx: AppContext, new: NewAnnouncement) -> AnnouncementPreview:
    """Return the recipients of an announcement, and the email; nothing is sent.

    Raises:
        NotFound, InvalidInput.
    """
    _check(new)
    with ctx.database.reading() as connection:
        about_id, _ = _about(connection, new)
        users, recipients = stored.counts(connection, new.about, about_id)
        first = stored.addressees(connection, new.about, about_id, "", SHOWN)
        subject, text = mail_texts.composed(
            ctx, connection, mail_texts.ANNOUNCEMENT, one_line(new.subject), new.text
        )
    return AnnouncementPreview(recipients, users - recipients, first, subject, text)


def create(ctx: AppContext, caller: Caller, new: NewAnnouncement) -> AnnouncementLine:
    """Send an announcement, now or at a time.

    Raises:
        NotFound; InvalidInput: also without an email server, or if there is no recipient.
        StaleRecipients: if the number of recipients is another one than expected.
    """
    _check(new)
    now, announcement_id = clock.now(), new_id()
    send_at = parse_instant(new.send_at, "send_at") if new.send_at else now
    with ctx.database.writing() as connection:
        about_id, label = _about(connection, new)
        if not mail_server.is_set_up(connection):
            raise InvalidInput("No email server is configured.", "Configure it under Settings.")
        _, recipients = stored.counts(connection, new.about, about_id)
        if recipients == 0:
            raise InvalidInput(
                f"No active user of {label} has an email address.", "Choose another source or application."
            )
        if new.expect is not None and new.expect != recipients:
            raise StaleRecipients(
                f"The announcement would be sent to {recipients:,} users, not {new.expect:,}.",
                "Preview it again.",
                "expect",
            )
        values = {
            "id": announcement_id,
            "about": new.about,
            "about_id": about_id,
            "about_label": label,
            "subject": one_line(new.subject),
            "text": new.text.strip(),
            "status": SCHEDULED,
            "send_at": send_at,
            "created_at": now,
            "created_by": caller.name,
        }
        stored.insert_announcement(connection, values)
        details = {"about": label, "subject": values["subject"], "recipients": recipients, "send_at": send_at}
        record_now(ctx, connection, caller, _event("created announcement", announcement_id, details))
    return one(ctx, announcement_id)


def one(ctx: AppContext, announcement_id: str) -> AnnouncementLine:
    """Return an announcement.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        return _line(_known(connection, announcement_id))


def list_announcements(ctx: AppContext, page_request: PageRequest) -> Page[AnnouncementLine]:
    """Return a page of announcements, newest first."""
    with ctx.database.reading() as connection:
        found = stored.list_announcements(connection, page_request)
    return Page([_line(each) for each in found.items], found.total, found.next)


def withdraw(ctx: AppContext, caller: Caller, announcement_id: str) -> AnnouncementLine:
    """Withdraw an announcement; emails that are written already are still sent.

    Raises:
        NotFound; InvalidInput: for one that was sent or withdrawn.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = _known(connection, announcement_id)
        if not stored.withdraw(connection, announcement_id, now):
            raise InvalidInput(f"The announcement is {row.status} already.", "Reload the list.")
        details = {"about": row.about_label, "subject": row.subject}
        record_now(ctx, connection, caller, _event("withdrew announcement", announcement_id, details))
    return one(ctx, announcement_id)


def write_due(ctx: AppContext, now: Instant) -> int:
    """Write the next emails of the announcement that is due, if few emails wait; return their number.

    The place in the list of users is stored with the emails, so that each user gets one. The emails are
    composed before the transaction that writes them.
    """
    with ctx.database.reading() as connection:
        row = stored.due(connection, now)
        if row is None or message_rows.number_waiting(connection, message_rows.EMAIL) >= CHUNK:
            return 0
        users = stored.addressees(connection, row.about, row.about_id, row.place, CHUNK)
        content = (row.subject, row.text)
        rows = [
            messages.email_row(ctx, connection, mail_texts.ANNOUNCEMENT, user.email, content)
            for user in users
        ]
    values: dict[str, Any] = {"status": SENDING, "written": row.written + len(users)}
    if len(users) < CHUNK:
        values |= {"status": SENT, "ended_at": clock.now()}
    else:
        values["place"] = users[-1].id
    with ctx.database.writing() as connection:
        # It can have been withdrawn meanwhile.
        if stored.get(connection, row.id) != row:
            return 0
        message_rows.insert_messages(connection, rows)
        stored.update_announcement(connection, row.id, **values)
    return len(users)


def _about(connection: Connection, new: NewAnnouncement) -> tuple[str, str]:
    """Return (ID, label) of what an announcement is about."""
    if new.about == SOURCE:
        source = source_by_key(connection, new.key, "key")
        return str(source.id), str(source.label)
    application = application_by_key(connection, new.key)
    return str(application.id), str(application.label)


def _check(new: NewAnnouncement) -> None:
    if new.about not in (SOURCE, APPLICATION):
        raise InvalidInput(
            f"An announcement cannot be about '{new.about}'.", "Use source or application.", "about"
        )
    if not 1 <= len(new.subject.strip()) <= LONGEST_SUBJECT:
        raise InvalidInput(
            f"A subject must have 1 to {LONGEST_SUBJECT} characters.", "Change the subject.", "subject"
        )
    if not 1 <= len(new.text.strip()) <= LONGEST_TEXT:
        raise InvalidInput(f"A text must have 1 to {LONGEST_TEXT:,} characters.", "Change the text.", "text")


def _line(row: StoredAnnouncement) -> AnnouncementLine:
    return AnnouncementLine(
        id=row.id,
        about=row.about,
        about_label=row.about_label,
        subject=row.subject,
        text=row.text,
        status=row.status,
        send_at=row.send_at,
        created_at=row.created_at,
        created_by=row.created_by,
        ended_at=row.ended_at,
        written=row.written,
    )


def _known(connection: Connection, announcement_id: str) -> StoredAnnouncement:
    row = stored.get(connection, announcement_id)
    if row is None:
        raise NotFound(
            f"There is no announcement with the ID '{announcement_id}'.", "List the announcements."
        )
    return row


def _event(action: str, announcement_id: str, details: dict[str, Any]) -> AuditEvent:
    return AuditEvent(action, "announcement", announcement_id, details=details)
