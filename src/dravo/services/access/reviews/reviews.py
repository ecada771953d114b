"""Access reviews: a part of the access matrix, decided row by row until a day, and kept as evidence."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.access.reasons import chain
from dravo.core.days import read_span
from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.notifications.event_kinds import REVIEW_OPENED, REVIEW_UNDECIDED
from dravo.core.notifications.reporting import Condition
from dravo.services import settings
from dravo.services.access import matrix as access_matrix
from dravo.services.access.matrix import View
from dravo.services.context import AppContext
from dravo.services.lookups import check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import matrix as access_rows
from dravo.store.access import reviews as stored
from dravo.store.access.matrix import DIRECT_ONLY, HIGHEST
from dravo.store.access.reviews import CONFIRMED, REMOVED, ListedReviewRow, ReviewRowFilter, StoredReview
from dravo.store.ids import new_id
from dravo.store.notifications import events
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import KeyAndLabel, RoleRef, UserRef

DECISIONS = (CONFIRMED, REMOVED)
MOST_ROWS = 20_000
MOST_AT_ONCE = 500


@dataclass
class ReviewPart:
    """The progress of a review in one application."""

    application: KeyAndLabel
    owner: str | None
    rows: int
    confirmed: int
    removed: int
    open: int


@dataclass
class ReviewRow:
    """A review row: the access when the review was created, and the decision."""

    id: str
    user: UserRef
    status: str
    application: KeyAndLabel
    role: RoleRef
    since: str
    reasons: list[str]
    decision: str | None
    decided_at: str | None
    decided_by: str | None
    note: str | None
    outcome: str | None


# Creating and ending reviews


def start(
    ctx: AppContext, caller: Caller, label: str, until: str, view: View, note: str | None = None
) -> Review:
    """Create a review of the current access in a part of the matrix.

    Args:
        until: the last day for decisions.
        view: which part; without an instant.

    Raises:
        InvalidInput: if the part is empty or too large.
        NotFound.
    """
    now = clock.now()
    label = check_label(label)
    with ctx.database.reading() as connection:
        span = read_span(None, until, settings.time_zone(connection))
        if not until or not span["until_at"] or span["until_at"] <= now:
            raise InvalidInput(
                "The due date is missing or in the past.",
                "Set `until` to a future date, such as 2031-04-02.",
                "until",
            )
        scope = access_matrix.scope_of(connection, ctx.catalogue.get(connection), _checked(view))
        rows = access_rows.access_in_scope(connection, scope, MOST_ROWS + 1)
    if not rows:
        raise InvalidInput("No access matches the scope of the review.", "Choose a wider scope.")
    if len(rows) > MOST_ROWS:
        raise InvalidInput(
            f"The review would have more than {MOST_ROWS:,} rows.",
            "Limit it to an application, a role or the highest roles.",
        )
    review_id = new_id()
    review = {
        "id": review_id,
        "label": label,
        "note": (note or "").strip() or None,
        "narrowed": _narrowed(view),
        "created_at": now,
        "created_by": caller.name,
        "until_at": span["until_at"],
        "until_day": span["until_day"],
    }
    values = [
        {
            "id": new_id(),
            "review_id": review_id,
            "user_id": row.user_id,
            "application_id": row.application_id,
            "role_id": row.role_id,
            "since": row.from_at,
            "reasons": [chain(each) for each in row.reasons if each["until"] is None],
        }
        for row in rows
    ]
    with ctx.database.writing() as connection:
        stored.insert_review(connection, review, values)
        for application_id in dict.fromkeys(row.application_id for row in rows):
            _note(connection, REVIEW_OPENED, review_id, application_id, now)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("created review", "review", review_id, details={"label": label, "rows": len(values)}),
        )
    return one(ctx, caller, review_id)


def _checked(view: View) -> View:
    """Return a part of the matrix that can be reviewed.

    Raises:
        InvalidInput: for a part that lists no access.
    """
    if view.only not in (None, DIRECT_ONLY, HIGHEST):
        raise InvalidInput(
            f"'{view.only}' is not a valid value for `only`.",
            f"Use one of: {DIRECT_ONLY}, {HIGHEST}.",
            "only",
        )
    return view


def _narrowed(view: View) -> dict[str, str]:
    return {
        name: value for name in ("application", "role", "only", "words") if (value := getattr(view, name))
    }


def close(ctx: AppContext, caller: Caller, review_id: str) -> Review:
    """End a review before its last day; open rows stay undecided.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = review_row(connection, review_id)
        if row.closed_at is None:
            stored.close_review(connection, review_id, now, caller.name)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("ended review", "review", review_id, details={"label": row.label}),
            )
    return one(ctx, caller, review_id)


def close_expired(ctx: AppContext, now: Instant) -> None:
    """End the reviews whose last day is over."""
    with ctx.database.reading() as connection:
        if not stored.has_expired(connection, now):
            return
    with ctx.database.writing() as connection:
        for review_id, application_id in stored.undecided_expired(connection, now):
            _note(connection, REVIEW_UNDECIDED, review_id, application_id, now)
        stored.close_expired(connection, now, "its due date")


def _note(connection: Connection, kind: str, review_id: str, application_id: str, now: Instant) -> None:
    """Have notifications tell about the part of a review in one application."""
    part = stored.part_of(connection, review_id, application_id)
    opened = kind == REVIEW_OPENED
    what = "to decide" if opened else "stayed undecided"
    told = Condition(
        kind=kind,
        subject_id=review_id,
        subject=part.application_label,
        title=f"{part.application_label}: access review '{part.label}' {'created' if opened else 'ended'}",
        text=f"Rows {what}: {part.open:,}.",
        path=f"/reviews/{review_id}",
        number=part.open,
        application_id=application_id,
    )
    events.happened(connection, told, now)


# Reading


@dataclass(frozen=True)
class Review:
    """An access review with its progress; `narrowed` is the scope of the review."""

    id: str
    label: str
    note: str | None
    narrowed: dict[str, str]
    created_at: Instant
    created_by: str
    until: Instant
    until_day: str | None
    closed_at: Instant | None
    closed_by: str | None
    applications: list[ReviewPart]
    rows: int
    confirmed: int
    removed: int
    open: int


def list_reviews(ctx: AppContext, caller: Caller, page_request: PageRequest) -> Page[Review]:
    """Return a page of reviews, newest first, with their progress; application owners see their own part."""
    with ctx.database.reading() as connection:
        found = stored.list_reviews(connection, page_request, caller.applications)
        return Page(_lines(connection, caller, found.items), found.total, found.next)


def one(ctx: AppContext, caller: Caller, review_id: str) -> Review:
    """Return one review.

    Raises:
        NotFound: also for an application owner without rows in it.
    """
    with ctx.database.reading() as connection:
        return _lines(connection, caller, [review_row(connection, review_id, caller)])[0]


def review_row(connection: Connection, review_id: str, caller: Caller | None = None) -> StoredReview:
    """Return the row of a review that the caller may see; raises NotFound."""
    row = stored.get(connection, review_id, caller.applications if caller else None)
    if row is None:
        raise NotFound(
            f"There is no review with the ID '{review_id}'.", "Choose one from the list of reviews."
        )
    return row


def _lines(connection: Connection, caller: Caller, rows: Sequence[StoredReview]) -> list[Review]:
    """Return reviews as the API shows them, with their progress by application."""
    parts: defaultdict[str, list[ReviewPart]] = defaultdict(list)
    for each in stored.progress(connection, [row.id for row in rows], caller.applications):
        parts[each.review_id].append(
            ReviewPart(
                application=KeyAndLabel(each.application_key, each.application_label),
                owner=each.owner,
                rows=each.rows,
                confirmed=each.confirmed,
                removed=each.removed,
                open=each.rows - each.confirmed - each.removed,
            )
        )
    return [
        Review(
            id=row.id,
            label=row.label,
            note=row.note,
            narrowed=row.narrowed,
            created_at=row.created_at,
            created_by=row.created_by,
            until=row.until_at,
            until_day=row.until_day,
            closed_at=row.closed_at,
            closed_by=row.closed_by,
            applications=parts[row.id],
            rows=sum(each.rows for each in parts[row.id]),
            confirmed=sum(each.confirmed for each in parts[row.id]),
            removed=sum(each.removed for each in parts[row.id]),
            open=sum(each.open for each in parts[row.id]),
        )
        for row in rows
    ]


def rows(
    ctx: AppContext, review_id: str, page_request: PageRequest, only: ReviewRowFilter
) -> Page[ReviewRow]:
    """Return a page of a review's rows by application and name.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        review_row(connection, review_id)
        return stored.list_rows(connection, review_id, page_request, only, row_line)


def row_line(row: ListedReviewRow) -> ReviewRow:
    """Return a row as the API shows it."""
    return ReviewRow(
        id=row.id,
        user=UserRef(row.user_id, row.display_name, row.user_name),
        status="left" if row.left_at else "active" if row.active else "inactive",
        application=KeyAndLabel(row.application_key, row.application_label),
        role=RoleRef(row.role_key, row.role_label, row.rank),
        since=row.since,
        reasons=row.reasons,
        decision=row.decision,
        decided_at=row.decided_at,
        decided_by=row.decided_by,
        note=row.note,
        outcome=row.outcome,
    )


# Decisions
