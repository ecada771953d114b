"""Access requests as operators see them: listed, approved and refused. An approval is an assignment."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.services.access import assignment_changes, assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, Preview
from dravo.services.context import AppContext
from dravo.services.notifications import mail_server, messages
from dravo.services.notifications.mail_texts import REQUEST_DECIDED
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import requests as stored
from dravo.store.access.requests import RequestFilter, StoredRequest
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import KeyAndLabel, RoleRef, UserRef

LONGEST_ANSWER = 1_000


@dataclass
class AccessRequest:
    """An access request; without a role, the operator who approves chooses one."""

    id: str
    status: str
    user: UserRef
    application: KeyAndLabel
    role: RoleRef | None
    reason: str
    requested_at: Instant
    decided_at: Instant | None
    decided_by: str | None
    answer: str | None
    assignment: str | None


@dataclass(frozen=True)
class Approval:
    """What an approval gives.

    Attributes:
        role: the key of the role; None for the requested one.
        until: the last day, or an instant; None for no end.
        answer: a text for the user.
    """

    role: str | None = None
    until: str | None = None
    answer: str = ""


def list_requests(
    ctx: AppContext, caller: Caller, page_request: PageRequest, only: RequestFilter
) -> Page[AccessRequest]:
    """Return a page of access requests, newest first; application owners see those of their applications.

    Raises:
        InvalidInput: for an unknown status.
    """
    if only.status and only.status not in stored.STATUSES:
        raise InvalidInput(
            f"'{only.status}' is not a status of a request.",
            f"Use one of: {', '.join(stored.STATUSES)}.",
            "status",
        )
    limited = RequestFilter(only.status, only.application, only.words, caller.applications)
    with ctx.database.reading() as connection:
        return stored.list_requests(connection, page_request, limited, _line)


def _line(row: StoredRequest) -> AccessRequest:
    return AccessRequest(
        id=row.id,
        status=row.status,
        user=UserRef(row.user_id, row.display_name, row.user_name),
        application=KeyAndLabel(row.application_key, row.application_label),
        role=RoleRef(row.role_key, row.role_label or "", row.role_rank or 0) if row.role_key else None,
        reason=masking.text(row.reason) or "",
        requested_at=row.requested_at,
        decided_at=row.decided_at,
        decided_by=row.decided_by,
        answer=masking.text(row.answer),
        assignment=row.assignment_id,
    )


def one(ctx: AppContext, request_id: str) -> AccessRequest:
    """Return one access request.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        return _line(_known(connection, request_id))


def _known(connection: Connection, request_id: str) -> StoredRequest:
    row = stored.get(connection, request_id)
    if row is None:
        raise NotFound(f"There is no access request with the ID '{request_id}'.", "See the list of requests.")
    return row


def _open(ctx: AppContext, request_id: str) -> StoredRequest:
    with ctx.database.reading() as connection:
        row = _known(connection, request_id)
    if row.status != stored.OPEN:
        raise AlreadyExists(f"The request is {row.status} already.", "Reload the list of requests.")
    return row


def preview(ctx: AppContext, request_id: str, approval: Approval) -> Preview:
    """Return who would gain access by an approval; nothing is changed.

    Raises:
        NotFound, InvalidInput; AlreadyExists: if the request is not open.
    """
    return assignment_changes.preview_adding(ctx, _assignment(_open(ctx, request_id), approval))


def approve(
    ctx: AppContext, caller: Caller, request_id: str, approval: Approval, sure: Confirmation = UNCONFIRMED
) -> AccessRequest:
    """Approve a request: the user gets the role by an assignment, and an email.

    Raises:
        NotFound, InvalidInput; AlreadyExists: if the request is not open, or the assignment exists;
            NeedsConfirmation, StalePreview.
    """
    _check_answer(approval.answer)
    row = _open(ctx, request_id)
    answer = approval.answer.strip()
    granted = f"Your request for {row.application_label} was approved."

    def decide(connection: Connection, assignment_id: str) -> None:
        decision = _Decision(stored.APPROVED, answer, granted, assignment_id)
        _decide(ctx, connection, caller, row, decision)

    assignments.add(ctx, caller, _assignment(row, approval), sure, also=decide)
    return one(ctx, request_id)


def _assignment(row: StoredRequest, approval: Approval) -> AssignmentRequest:
    role = approval.role or row.role_key
    if role is None:
        raise InvalidInput("The request names no role.", "Choose the role that the user gets.", "role")
    return AssignmentRequest(
        row.application_key,
        role,
        user=row.user_id,
        until_at=approval.until or None,
        note=f"Requested: {row.reason[:200]}",
    )


def refuse(ctx: AppContext, caller: Caller, request_id: str, answer: str) -> AccessRequest:
    """Refuse a request with a reason, which the user sees.

    Raises:
        NotFound, InvalidInput; AlreadyExists: if the request is not open.
    """
    _check_answer(answer)
    if not answer.strip():
        raise InvalidInput(
            "The reason is missing.", "Say why the request is refused. The user sees it.", "answer"
        )
    row = _open(ctx, request_id)
    refused = f"Your request for {row.application_label} was refused."
    with ctx.database.writing() as connection:
        _decide(ctx, connection, caller, row, _Decision(stored.REFUSED, answer.strip(), refused))
    return one(ctx, request_id)


def _check_answer(answer: str) -> None:
    if len(answer) > LONGEST_ANSWER:
        raise InvalidInput(
            f"The text has {len(answer):,} characters.",
            f"Enter at most {LONGEST_ANSWER:,} characters.",
            "answer",
        )


@dataclass(frozen=True)
class _Decision:
    """A decision about a request: its new status, the assignment, the answer, and the text of the email."""

    status: str
    answer: str
    message: str
    assignment_id: str | None = None


def _decide(
    ctx: AppContext, connection: Connection, caller: Caller, row: StoredRequest, decision: _Decision
) -> None:
    """Write a decision with its audit entry, and an email to the user."""
    now = clock.now()
    answer = decision.answer
    values = {
        "status": decision.status,
        "assignment_id": decision.assignment_id,
        "decided_at": now,
        "decided_by": caller.name,
        "answer": answer or None,
    }
    if not stored.decide(connection, row.id, **values):
        raise AlreadyExists("Another operator decided the request.", "Reload the list of requests.")
    personal = {"user": row.user_name, "user_id": row.user_id, "answer": answer}
    details = {"application": row.application_key, "decision": decision.status}
    event = AuditEvent("decided access request", "access request", row.id, details=details, personal=personal)
    record_change(connection, ctx.keys, caller, now, event)
    if row.email and mail_server.is_set_up(connection):
        text = f"{decision.message}\n" + (f"\n{answer}\n" if answer else "")
        content = (f"Your request for {row.application_label}", text)
        messages.write_email(ctx, connection, REQUEST_DECIDED, row.email, content)
