"""What users request, and the requests that they made."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import Instant, later
from dravo.core.notifications.event_kinds import ACCESS_REQUESTED
from dravo.core.notifications.reporting import Condition
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import clock
from dravo.store.access import requests as stored
from dravo.store.access.requests import RequestableRole, StoredRequest
from dravo.store.ids import new_id
from dravo.store.notifications import events
from dravo.store.queries.references import KeyAndLabel

# Who asks, in the audit log; the name of the user is outside the chain.
USER = Caller("", "a user", "user")
LONGEST_REASON, MOST_OPEN, MOST_SHOWN = 1_000, 20, 50
# Each request sends emails, so a user cannot make as many as they like by withdrawing them.
MOST_A_DAY, DAY_SECONDS = 30, 86_400


@dataclass
class OfferedRole:
    """A role that can be requested; `description` is what it permits."""

    key: str
    label: str
    description: str | None


@dataclass
class OfferedApplication:
    """An application that can be requested."""

    key: str
    label: str
    roles: list[OfferedRole]


@dataclass
class OwnRequest:
    """A request of the signed-in user."""

    id: str
    status: str
    application: KeyAndLabel
    role: str | None
    reason: str
    requested_at: Instant
    decided_at: Instant | None
    answer: str | None


@dataclass
class OwnRequests:
    """The requests of the signed-in user, newest first, and what can be requested."""

    items: list[OwnRequest]
    offered: list[OfferedApplication]


def mine(ctx: AppContext, user: SignedInUser) -> OwnRequests:
    """Return the requests of a signed-in user, and what the user can request."""
    with ctx.database.reading() as connection:
        rows = stored.of_user(connection, user.user_id, MOST_SHOWN)
        roles = stored.requestable_roles(connection, user.user_id)
    waiting = {row.application_id for row in rows if row.status == stored.OPEN}
    offered: dict[str, OfferedApplication] = {}
    for role in roles:
        if role.application_id not in waiting:
            line = OfferedApplication(role.application_key, role.application_label, [])
            offered.setdefault(role.application_id, line).roles.append(
                OfferedRole(role.role_key, role.role_label, role.description)
            )
    return OwnRequests([_own(row) for row in rows], list(offered.values()))


def _own(row: StoredRequest) -> OwnRequest:
    return OwnRequest(
        id=row.id,
        status=row.status,
        application=KeyAndLabel(row.application_key, row.application_label),
        role=row.role_label,
        reason=row.reason,
        requested_at=row.requested_at,
        decided_at=row.decided_at,
        answer=row.answer,
    )


def request(
    ctx: AppContext, user: SignedInUser, application: str, role: str | None, reason: str
) -> OwnRequests:
    """Request access to an application; who decides gets an email.

    Args:
        role: the key of a role; None if the user does not know which one.

    Raises:
        NotFound: for an application or a role that cannot be requested, also if it exists.
        InvalidInput: for a missing or too long reason, or too many open requests.
        AlreadyExists: for an open request.
    """
    reason = reason.strip()
    if not reason or len(reason) > LONGEST_REASON:
        raise InvalidInput(
            f"A reason must have 1 to {LONGEST_REASON:,} characters.", "Say why you need access.", "reason"
        )
    now = clock.now()
    try:
        with ctx.database.writing() as connection:
            wanted = _wanted(connection, user.user_id, application, role)
            if stored.number_open(connection, user.user_id) >= MOST_OPEN:
                raise InvalidInput(
                    f"You have {MOST_OPEN} open requests.", "Wait for a decision, or withdraw a request."
                )
            if stored.number_since(connection, user.user_id, later(now, -DAY_SECONDS)) >= MOST_A_DAY:
                raise InvalidInput(f"You made {MOST_A_DAY} requests in 24 hours.", "Request access tomorrow.")
            row = {
                "id": new_id(),
                "user_id": user.user_id,
                "application_id": wanted.application_id,
                "role_id": wanted.role_id if role else None,
                "reason": reason,
                "status": stored.OPEN,
                "requested_at": now,
            }
            made = stored.insert_request(connection, row)
            _record(ctx, connection, made, "requested access")
            _notify(connection, made)
    except IntegrityError:
        raise AlreadyExists(
            "You have an open request for this application.",
            "Wait for the decision, or withdraw the request.",
        ) from None
    return mine(ctx, user)


def _wanted(connection: Connection, user_id: str, application: str, role: str | None) -> RequestableRole:
    of_application = [
        each for each in stored.requestable_roles(connection, user_id) if each.application_key == application
    ]
    found = [each for each in of_application if role is None or each.role_key == role]
    if not of_application:
        raise NotFound(
            f"You cannot request access to '{application}'.",
            "Choose one of the offered applications.",
            "application",
        )
    if not found:
        raise NotFound(f"You cannot request the role '{role}'.", "Choose one of the offered roles.", "role")
    return found[0]


def withdraw(ctx: AppContext, user: SignedInUser, request_id: str) -> OwnRequests:
    """Withdraw an open request of the signed-in user.

    Raises:
        NotFound: for a request of another user, or one that is not open.
    """
    with ctx.database.writing() as connection:
        row = stored.get(connection, request_id)
        if row is None or row.user_id != user.user_id or row.status != stored.OPEN:
            raise NotFound("You have no open request with this ID.", "Reload the page.")
        stored.decide(connection, request_id, status=stored.WITHDRAWN, decided_at=clock.now())
        _record(ctx, connection, row, "withdrew an access request")
    return mine(ctx, user)


def _record(ctx: AppContext, connection: Connection, row: StoredRequest, action: str) -> None:
    details = {"application": row.application_key, **({"role": row.role_key} if row.role_key else {})}
    personal = {"user": row.user_name, "user_id": row.user_id, "reason": row.reason}
    event = AuditEvent(action, "access request", row.id, details=details, personal=personal)
    record_change(connection, ctx.keys, USER, clock.now(), event)


def _notify(connection: Connection, row: StoredRequest) -> None:
    """Have notifications tell who decides."""
    role = f", role {row.role_label}" if row.role_label else ""
    event = Condition(
        kind=ACCESS_REQUESTED,
        subject_id=row.id,
        subject=row.application_label,
        title=f"Access request for {row.application_label}",
        text=f"{row.display_name} ({row.user_name}) requests access to {row.application_label}{role}.\n\n"
        f"Reason:\n{row.reason}\n\n"
        "Approve or refuse the request under Access > Requests.",
        path="/access/requests",
        application_id=row.application_id,
    )
    events.happened(connection, event, clock.now())
