"""Marks users as inactive or left, whatever their sources report, until an operator removes the mark."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy import Connection

from dravo.core.days import read_span
from dravo.core.errors import InvalidInput
from dravo.core.identity.marks import STATUSES, UserMark
from dravo.core.instants import Instant
from dravo.services import settings
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import find_users
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store.queries.users import User
from dravo.store.users import user_marks as stored

# Maximum number of users in one request.
MOST_USERS = 500


@dataclass(frozen=True)
class MarkRequest:
    """A requested mark.

    Attributes:
        users: the users by ID, user name, email or external ID.
        status: "inactive" or "left"; None removes the mark.
        from_: the day or time from which the mark applies; None for now.
        note: the reason, for other operators.
    """

    users: Sequence[str]
    status: str | None
    from_: str | None = None
    note: str | None = None


@dataclass(frozen=True)
class MarkResult:
    """The number of changed users."""

    users: int


def change(
    ctx: AppContext, caller: Caller, request: MarkRequest, sure: Confirmation = UNCONFIRMED
) -> MarkResult:
    """Mark users, or remove their marks; many of them are recomputed by the worker.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        users, mark = _read(connection, request, now)
        cleared = changes_preview.check(connection, _planned(ctx, connection, users, mark), caller, sure)
    note = (request.note or "").strip() or None
    ids = [each.id for each in users]
    with ctx.database.writing() as connection:
        if mark is None:
            stored.remove_marks(connection, ids)
        else:
            stored.set_marks(connection, ids, mark, note, caller.name, now)
        recompute_marks.mark_users(connection, ids, now, cleared)
        details = {} if mark is None else {"status": mark.status, "from": mark.from_at}
        for user in users:
            event = AuditEvent(
                "removed the mark of a user" if mark is None else f"marked user as {mark.status}",
                "user",
                user.id,
                details=details,
                personal={"user_name": user.user_name, **({"note": note} if note else {})},
            )
            record_change(connection, ctx.keys, caller, now, event)
    process_marks(ctx, USERS_PER_CHUNK)
    return MarkResult(len(users))


def preview(ctx: AppContext, request: MarkRequest) -> Preview:
    """Return the effects of a mark once it applies; nothing is changed."""
    with ctx.database.reading() as connection:
        users, mark = _read(connection, request, clock.now())
        return changes_preview.shown(connection, _planned(ctx, connection, users, mark))


def _read(connection: Connection, request: MarkRequest, now: Instant) -> tuple[list[User], UserMark | None]:
    """Return the users and the mark of a request."""
    if not request.users:
        raise InvalidInput("The list of users is empty.", "Name at least one user in `users`.", "users")
    if len(request.users) > MOST_USERS:
        raise InvalidInput(
            f"The request names {len(request.users):,} users.",
            f"Name at most {MOST_USERS} users in one request.",
            "users",
        )
    if request.status is not None and request.status not in STATUSES:
        raise InvalidInput(
            f"'{request.status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )
    found = {user.id: user for user in find_users(connection, request.users)}
    users = list(found.values())
    if request.status is None:
        unmarked = [user.display_name for user in users if user.mark is None]
        if unmarked:
            raise InvalidInput(
                f"{unmarked[0]} has no mark.", "See the marked users under Users, Marked.", "users"
            )
        return users, None
    span = read_span(request.from_, None, settings.time_zone(connection))
    return users, UserMark(request.status, Instant(span["from_at"] or now))


def _planned(
    ctx: AppContext, connection: Connection, users: Sequence[User], mark: UserMark | None
) -> PlannedChange:
    """Return the change as it is once the mark applies, also where its time is in the future."""
    effective = replace(mark, from_at=min(mark.from_at, clock.now())) if mark is not None else None
    name = users[0].display_name if len(users) == 1 else f"{len(users)} users"
    return PlannedChange(
        None,
        (memberships.some_users([user.id for user in users]),),
        ctx.catalogue.get(connection),
        lambda user: replace(user, mark=effective),
        name,
    )
