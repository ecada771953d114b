"""Access reviews: a part of the access matrix, decided row by row until a day, and kept as evidence."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.access.evaluation import Assignment
from dravo.core.access.reasons import chain, named
from dravo.core.days import read_span
from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.instants import Instant
from dravo.core.planning import UserSnapshot
from dravo.services import settings
from dravo.services.access import matrix as access_matrix
from dravo.services.access.matrix import View
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store.access import assignments as stored_assignments
from dravo.store.access import matrix as access_rows
from dravo.store.access import reviews as stored
from dravo.store.access.assignments import StoredAssignment
from dravo.store.access.matrix import DIRECT_ONLY, HIGHEST
from dravo.store.access.reviews import CONFIRMED, REMOVED, ListedReviewRow, ReviewRowFilter, StoredReview
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.applications import Application
from dravo.store.queries.references import KeyAndLabel, RoleRef, UserRef
from dravo.store.snapshots.config import raise_revision

TAKEN_AWAY = REMOVED
DECISIONS = (CONFIRMED, TAKEN_AWAY)
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


@dataclass(frozen=True)
class RemovalPlan:
    """What a decision to remove access does.

    Attributes:
        removed: the direct assignments that are deleted.
        kept_out: the IDs of users who are excluded from the application, because a group or a rule would
            still give access.
        outcomes: by ID of the row, what happens to it, in a sentence.
        names: the display names of the users, by ID.
    """

    removed: tuple[StoredAssignment, ...] = ()
    kept_out: tuple[str, ...] = ()
    outcomes: Mapping[str, str] = field(default_factory=dict)
    names: Mapping[str, str] = field(default_factory=dict)


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
        stored.close_expired(connection, now, "its due date")


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


def preview(ctx: AppContext, review_id: str, application: str, ids: Sequence[str]) -> Preview:
    """Return the effects of removing the access of some rows; nothing is changed.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        of, chosen = _chosen(connection, review_id, application, ids)
        return changes_preview.shown(
            connection, _change(ctx, connection, of, chosen, _planned(connection, of, chosen))
        )


@dataclass(frozen=True)
class ReviewDecision:
    """A decision about rows of a review.

    Attributes:
        application: the key of the application; all rows belong to it.
        rows: the IDs of the rows.
        decision: one of `DECISIONS`.
        note: why it was decided.
    """

    application: str
    rows: Sequence[str]
    decision: str
    note: str | None = None


def decide(
    ctx: AppContext,
    caller: Caller,
    review_id: str,
    chosen_rows: ReviewDecision,
    sure: Confirmation = UNCONFIRMED,
) -> Review:
    """Confirm rows of a review, or remove the access that they list.

    Removing deletes the direct assignments. A user who would keep the access through a group or a rule is
    excluded from the application, unless the user keeps another role there.

    Returns:
        The review.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, StalePreview.
    """
    application, ids, decision = chosen_rows.application, chosen_rows.rows, chosen_rows.decision
    if decision not in DECISIONS:
        raise InvalidInput(
            f"'{decision}' is not a valid decision.", f"Use one of: {', '.join(DECISIONS)}.", "decision"
        )
    now = clock.now()
    cleared = None
    plan = RemovalPlan()
    with ctx.database.reading() as connection:
        of, chosen = _chosen(connection, review_id, application, ids)
        if decision == TAKEN_AWAY:
            plan = _planned(connection, of, chosen)
            cleared = changes_preview.check(
                connection, _change(ctx, connection, of, chosen, plan), caller, sure
            )
    with ctx.database.writing() as connection:
        _check_open(review_row(connection, review_id), now)
        try:
            _remove_access(ctx, connection, caller, of, plan, cleared)
        except IntegrityError:
            raise StalePreview(
                "One of these users was excluded in the meantime.", "Reload the review."
            ) from None
        decided = {
            "decision": decision,
            "decided_at": now,
            "decided_by": caller.name,
            "note": (chosen_rows.note or "").strip() or None,
        }
        stored.decide_rows(connection, {row.id: plan.outcomes.get(row.id) for row in chosen}, decided)
        details = {"application": application, "decision": decision, "rows": len(chosen)}
        personal = {"users": sorted({row.display_name for row in chosen})[:100]}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("decided in review", "review", review_id, details=details, personal=personal),
        )
    if decision == TAKEN_AWAY:
        process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, caller, review_id)


def _chosen(
    connection: Connection, review_id: str, application: str, ids: Sequence[str]
) -> tuple[Application, list[ListedReviewRow]]:
    """Return an application's row, and rows of a review that are of this application."""
    _check_open(review_row(connection, review_id), clock.now())
    of = application_by_key(connection, application)
    wanted = list(dict.fromkeys(ids))[:MOST_AT_ONCE]
    found = stored.some_rows(connection, review_id, of.id, wanted)
    if len(found) != len(set(ids)):
        hint = f"Decide at most {MOST_AT_ONCE} rows of one application at a time."
        raise NotFound(f"Some of these rows do not belong to '{of.label}' in this review.", hint, "rows")
    settled = next((row for row in found if row.decision == TAKEN_AWAY), None)
    if settled is not None:
        raise InvalidInput(
            f"The role {settled.role_label} of {settled.display_name} was removed already.",
            "To restore it, assign the role on the application's page.",
        )
    return of, found


def _check_open(review: StoredReview, now: Instant) -> None:
    if review.closed_at is not None or review.until_at <= now:
        raise InvalidInput("The review has ended.", "Create a new review.")


def _planned(connection: Connection, of: Application, chosen: Sequence[ListedReviewRow]) -> RemovalPlan:
    """Plan the removal of access, from the state in this transaction."""
    users = {row.user_id for row in chosen}
    direct = stored_assignments.direct_of_users(connection, of.id, list(users))
    held: defaultdict[str, dict[str, list[dict[str, Any]]]] = defaultdict(dict)
    for access in stored.reasons_of_access(connection, of.id, users):
        held[access.user_id][access.role_id] = [each for each in access.reasons if each["until"] is None]
    taken = {(row.user_id, row.role_id) for row in chosen}
    removed = tuple(each for each in direct if (each.user_id, each.role_id) in taken)
    kept_out: set[str] = set()
    outcomes = {}
    for row in chosen:
        reasons = held[row.user_id].get(row.role_id)
        others = [each for each in reasons or () if each["kind"] != "direct"]
        remaining = [role_id for role_id in held[row.user_id] if (row.user_id, role_id) not in taken]
        if reasons is None:
            outcomes[row.id] = "The user no longer had the role."
        elif not others:
            outcomes[row.id] = "The assignment was deleted."
        elif not remaining:
            kept_out.add(row.user_id)
            outcomes[row.id] = (
                f"The user is excluded from {of.label}, because the role comes through "
                f"{', '.join(named(each) for each in others)}."
            )
        else:
            outcomes[row.id] = (
                f"The user still has the role through {', '.join(named(each) for each in others)} and "
                "keeps another role. Remove the user there."
            )
    names = {row.user_id: row.display_name for row in chosen}
    return RemovalPlan(removed, tuple(sorted(kept_out)), outcomes, names)


def _change(
    ctx: AppContext,
    connection: Connection,
    of: Application,
    chosen: Sequence[ListedReviewRow],
    plan: RemovalPlan,
) -> PlannedChange:
    gone = {each.id for each in plan.removed}
    shut = frozenset(plan.kept_out)

    def then(user: UserSnapshot) -> UserSnapshot:
        direct = tuple(each for each in user.direct if each.id not in gone)
        if user.user_id in shut:
            direct = (*direct, Assignment("review", of.id, None, user.user_id, excludes=True))
        return replace(user, direct=direct)

    touched = memberships.some_users({row.user_id for row in chosen})
    return PlannedChange(of.id, (touched,), ctx.catalogue.get(connection), then)


def _remove_access(
    ctx: AppContext,
    connection: Connection,
    caller: Caller,
    of: Application,
    plan: RemovalPlan,
    cleared: tuple[str, str] | None,
) -> None:
    if not plan.removed and not plan.kept_out:
        return
    now = clock.now()
    for each in plan.removed:
        stored_assignments.update_assignment(connection, each.id, removed_at=now)
        details: dict[str, Any] = {"application_id": of.id, "role_id": each.role_id, "by": "review"}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "deleted assignment",
                "assignment",
                each.id,
                details=details,
                personal={"user": plan.names.get(each.user_id or "", "")},
            ),
        )
    for user_id in plan.kept_out:
        assignment_id = new_id()
        row: dict[str, Any] = {
            "id": assignment_id,
            "application_id": of.id,
            "user_id": user_id,
            "excludes": True,
            "note": "Removed in a review",
        }
        stored_assignments.insert_assignment(
            connection, {**row, "created_at": now, "created_by": caller.name}
        )
        details = {"application": of.key, "excludes": True, "by": "review"}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "created assignment",
                "assignment",
                assignment_id,
                details=details,
                personal={"user": plan.names[user_id]},
            ),
        )
    raise_revision(connection)
    touched = [*{each.user_id for each in plan.removed} | {*plan.kept_out}]
    recompute_marks.mark_users(connection, touched, now, cleared)
