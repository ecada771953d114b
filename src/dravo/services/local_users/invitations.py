"""Invitations: new local users get an email with a link, or a one-time password to hand out."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from zoneinfo import ZoneInfo

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.days import end_of
from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.core.identity.invitations import PlannedInvitation, RejectedLine
from dravo.core.identity.marks import INACTIVE, UserMark
from dravo.core.identity.records import LOCAL, primary_email
from dravo.core.instants import Instant, later
from dravo.services import jobs, settings
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.ingest.local import users as local_users
from dravo.services.local_users import one_time_passwords
from dravo.services.local_users.invitation_plan import InvitationRequest, PlannedInvitations, check, planned
from dravo.services.local_users.one_time_passwords import MadePassword
from dravo.services.notifications import mail_server, messages
from dravo.services.notifications.mail_texts import INVITATION
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock, memberships, recompute_marks, records
from dravo.store.access import assignments as assignment_rows
from dravo.store.ids import new_id
from dravo.store.local import invitations as stored
from dravo.store.local.invitations import STATUSES, StoredInvitation
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import UserRef
from dravo.store.snapshots.config import raise_revision
from dravo.store.users import user_marks

_STOPPED = ("The job was stopped before this line.", "Invite the user again.")


@dataclass(frozen=True)
class InvitationLine:
    """An invitation as lists show it.

    Attributes:
        status: "open", "expired", "accepted" or "withdrawn".
        until_at: when the link expires.
        accepted_with: "password" or the key of a source; None before.
    """

    id: str
    user: UserRef
    email: str
    status: str
    invited_by: str
    invited_at: Instant
    sent_at: Instant
    until_at: Instant
    accepted_at: Instant | None
    accepted_with: str | None


@dataclass(frozen=True)
class InvitedUser:
    """An invited user; `password` is a one-time password, shown once, or None."""

    id: str
    line: int
    email: str
    user_name: str
    password: str | None = field(default=None, repr=False)


@dataclass(frozen=True)
class InvitationResult:
    """The invited users, and the rejected lines."""

    items: list[InvitedUser]
    rejected: list[RejectedLine]


def invite(ctx: AppContext, caller: Caller, request: InvitationRequest) -> InvitationResult:
    """Create the users of a list or a file, each with an invitation or a one-time password.

    One user who cannot be created does not stop the others.

    Raises:
        InvalidInput: for a file that cannot be read, or without an email server.
        NotPermitted: without the permissions for local users, and for roles or groups where they are given.
        StalePreview: if the number of users differs from the preview; NeedsConfirmation: for a highest role.
    """
    with ctx.database.reading() as connection:
        found = planned(ctx, connection, caller, request)
        check(connection, found, request)
        if not request.with_passwords:
            _check_mail(connection)
    made: list[InvitedUser] = []
    rejected = list(found.rejected)
    items = [each.invitation for each in found.items]
    for number, item in enumerate(items, 1):
        try:
            password = one_time_passwords.made() if request.with_passwords else None
            made.append(_create(ctx, caller, item, found, password))
        except DravoError as wrong:
            rejected.append(RejectedLine(item.line, item.email, wrong.message, wrong.hint))
        try:
            jobs.report_progress(number, len(items))
        except jobs.JobStopped:
            # What was done stays and is returned: a one-time password is shown only here.
            rejected += [RejectedLine(each.line, each.email, *_STOPPED) for each in items[number:]]
            break
    process_marks(ctx, USERS_PER_CHUNK)
    return InvitationResult(made, rejected)


def _create(
    ctx: AppContext,
    caller: Caller,
    item: PlannedInvitation,
    found: PlannedInvitations,
    password: MadePassword | None,
) -> InvitedUser:
    """Create one user with everything that belongs to the invitation, in one transaction.

    Args:
        password: the user's one-time password; None to send an email.
    """
    now, secret = clock.now(), secrets.token_urlsafe(32)
    role = found.role_of(item)
    assignment_id = new_id()

    def direct(user_id: str) -> Sequence[Assignment]:
        return () if role is None else (Assignment(assignment_id, role.application_id, role.id, user_id),)

    def also(connection: Connection, user_id: str) -> None:
        if role is not None:
            row = {
                "id": assignment_id,
                "application_id": role.application_id,
                "role_id": role.id,
                "user_id": user_id,
                "created_at": now,
                "created_by": caller.name,
                "note": "Invited",
            }
            assignment_rows.insert_assignment(connection, row)
            raise_revision(connection)
        for group_id, _ in item.groups:
            memberships.add_users(connection, group_id, [user_id], now)
        if item.groups or item.until:
            recompute_marks.mark_users(connection, [user_id], now)
        if item.until:
            mark = UserMark(INACTIVE, end_of(item.until, found.zone))
            note = f"Invited until {item.until}"
            user_marks.set_marks(connection, [user_id], mark, note, caller.name, now)
        details = {
            "groups": [name for _, name in item.groups],
            **({"application": item.application, "role": item.role} if role is not None else {}),
            **({"until": item.until} if item.until else {}),
        }
        personal = {"user_name": item.fields["user_name"]}
        event = AuditEvent("invited user", "user", user_id, details=details, personal=personal)
        record_change(connection, ctx.keys, caller, now, event)
        if password is not None:
            one_time_passwords.store(connection, user_id, password)
        else:
            _write(ctx, connection, caller, user_id, item.email, secret)

    data = local_users.read({**item.fields, "active": password is not None})
    user_id = local_users.take_in(ctx, caller, data, direct, also)
    text = password.text if password is not None else None
    return InvitedUser(user_id, item.line, item.email, item.fields["user_name"], text)


def _write(
    ctx: AppContext, connection: Connection, caller: Caller, user_id: str, email: str, secret: str
) -> None:
    """Insert an invitation, and write its email."""
    now = clock.now()
    until = _until(connection, now)
    row = {
        "id": new_id(),
        "user_id": user_id,
        "email": email,
        "hash": digest(secret),
        "invited_by": caller.name,
        "invited_at": now,
        "sent_at": now,
        "until_at": until,
    }
    stored.insert_invitation(connection, row)
    _send(ctx, connection, email, secret, until)


def _until(connection: Connection, now: Instant) -> Instant:
    return later(now, settings.read(connection)["invitation_days"] * 86_400)


def _send(ctx: AppContext, connection: Connection, email: str, secret: str, until: Instant) -> None:
    values = settings.read(connection)
    organization = str(values["organization_name"])
    zone = ZoneInfo(str(values["time_zone"]))
    at = datetime.fromisoformat(until).astimezone(zone).strftime("%d %B %Y, %H:%M (%Z)")
    of = f" of {organization}" if organization else ""
    text = (
        f"You are invited to the applications{of}.\n\n"
        f"Accept the invitation by {at}:\n\n    {ctx.public_url}/invitation#{secret}\n\n"
        "The link is for you alone. Do not forward this email.\n"
    )
    messages.write_email(ctx, connection, INVITATION, email, ("Invitation to your applications", text))


def _check_mail(connection: Connection) -> None:
    if not mail_server.is_set_up(connection):
        raise InvalidInput(
            "Invitations need an email server, and none is set up.",
            "Set it up under Settings, Organization, or create the users with one-time passwords.",
        )


# Lists, and what happens to an invitation


def list_invitations(
    ctx: AppContext, page_request: PageRequest, status: str | None, words: str | None
) -> Page[InvitationLine]:
    """Return a page of invitations, newest first.

    Raises:
        InvalidInput: for an unknown status.
    """
    if status is not None and status not in STATUSES:
        raise InvalidInput(f"There is no status '{status}'.", f"Use one of: {', '.join(STATUSES)}.", "status")
    now = clock.now()
    with ctx.database.reading() as connection:
        only = None if status is None else (status, now)
        searched = None if masking.hidden() else words
        return stored.list_invitations(connection, page_request, lambda row: _line(row, now), only, searched)


def of_user(connection: Connection, user_id: str) -> InvitationLine | None:
    """Return the invitation of a user, or None."""
    row = stored.of_user(connection, user_id)
    return None if row is None else _line(row, clock.now())


def _line(row: StoredInvitation, now: Instant) -> InvitationLine:
    return InvitationLine(
        id=row.id,
        user=UserRef(row.user_id, row.display_name, row.user_name),
        email=masking.email(row.email) or "" if masking.hidden() else row.email,
        status=row.status(now),
        invited_by=row.invited_by,
        invited_at=row.invited_at,
        sent_at=row.sent_at,
        until_at=row.until_at,
        accepted_at=row.accepted_at,
        accepted_with=row.accepted_with,
    )


def resend(ctx: AppContext, caller: Caller, invitation_id: str) -> InvitationLine:
    """Send an invitation again, with a new link; the former link stops working.

    Raises:
        NotFound; InvalidInput: for an invitation that is accepted or withdrawn, or without an email server.
    """
    now, secret = clock.now(), secrets.token_urlsafe(32)
    with ctx.database.writing() as connection:
        row = _undecided(connection, invitation_id)
        _check_mail(connection)
        until = _until(connection, now)
        # An operator may have corrected the address of the user.
        record = records.of_user(connection, row.user_id, LOCAL)
        email = (primary_email(record.data) if record is not None else None) or row.email
        stored.renew(connection, row.id, email, digest(secret), (now, until))
        _send(ctx, connection, email, secret, until)
        _record(ctx, connection, caller, row, "sent invitation again")
    return _line(replace(row, email=email, sent_at=now, until_at=until), now)


def withdraw(ctx: AppContext, caller: Caller, invitation_id: str) -> InvitationLine:
    """Withdraw an invitation: the link stops working, and the user, who never was active, leaves.

    Raises:
        NotFound; InvalidInput: for an invitation that is accepted or withdrawn.
    """
    with ctx.database.reading() as connection:
        row = _undecided(connection, invitation_id)

    def also(connection: Connection) -> None:
        # The user may have accepted it since.
        stored.withdraw(connection, _undecided(connection, invitation_id), clock.now())
        _record(ctx, connection, caller, row, "withdrew invitation")

    local_users.remove(ctx, caller, row.user_id, also=also)
    with ctx.database.reading() as connection:
        found = stored.get(connection, invitation_id)
    return _line(found or row, clock.now())


def _undecided(connection: Connection, invitation_id: str) -> StoredInvitation:
    row = stored.get(connection, invitation_id)
    if row is None:
        raise NotFound(
            f"There is no invitation with the ID '{invitation_id}'.",
            "Choose an ID from the list of invitations.",
        )
    now = clock.now()
    if row.status(now) in (stored.ACCEPTED, stored.WITHDRAWN):
        raise InvalidInput(f"The invitation is {row.status(now)} already.", "Nothing has to be done.")
    return row


def _record(
    ctx: AppContext, connection: Connection, caller: Caller, row: StoredInvitation, action: str
) -> None:
    event = AuditEvent(action, "user", row.user_id, details={}, personal={"user_name": row.user_name})
    record_change(connection, ctx.keys, caller, clock.now(), event)
