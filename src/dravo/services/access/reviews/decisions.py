"""Decisions of an access review: preview, confirm and remove."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.access.reasons import named
from dravo.core.access.types import Assignment
from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.instants import Instant
from dravo.core.plan_types import UserSnapshot
from dravo.services.access.reviews.reviews import DECISIONS, MOST_AT_ONCE, Review, one, review_row
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store.access import assignments as stored_assignments
from dravo.store.access import reviews as stored
from dravo.store.access.assignments import StoredAssignment
from dravo.store.access.reviews import REMOVED, ListedReviewRow, StoredReview
from dravo.store.ids import new_id
from dravo.store.queries.applications import Application
from dravo.store.snapshots.config import raise_revision


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
        if decision == REMOVED:
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
    if decision == REMOVED:
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
    settled = next((row for row in found if row.decision == REMOVED), None)
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
