"""Confirmation of users who match a rule for the highest role of an application later: an attribute alone
does not give that role.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.services.access import assignment_changes, assignments, rule_matches
from dravo.services.access.assignment_targets import mark, row_of
from dravo.services.access.assignments import AssignmentLine
from dravo.services.changes import preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import assignments as stored
from dravo.store.access.assignments import StoredAssignment
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import UserRef
from dravo.store.snapshots.config import raise_revision


def waiting(ctx: AppContext, assignment_id: str, page_request: PageRequest) -> Page[UserRef]:
    """Return a page of the users who meet a rule and wait for a confirmation, by name.

    Raises:
        NotFound; InvalidInput: if the assignment is no rule.
    """
    with ctx.database.reading() as connection:
        row = _rule_row(connection, assignment_id)
        found = (
            rule_matches.matching(connection, ctx.catalogue.get(connection), row)
            if row.confirmed is not None
            else []
        )
        return rule_matches.listed(
            connection, [each for each in found if each not in set(row.confirmed or ())], page_request
        )


def confirm(
    ctx: AppContext,
    caller: Caller,
    assignment_id: str,
    users: Sequence[str] | None,
    sure: Confirmation = UNCONFIRMED,
) -> AssignmentLine:
    """Confirm users who match a rule for the highest role of its application.

    Args:
        users: their IDs; None for all who wait now.

    Raises:
        NotFound.
        InvalidInput: if the assignment is no rule, or a user does not match it.
        NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        values, change = confirming(ctx, connection, assignment_id, users)
        cleared = preview.check(connection, change, caller, sure)
    with ctx.database.writing() as connection:
        row = row_of(connection, assignment_id)
        # Users whom others confirmed meanwhile stay confirmed.
        together = sorted({*values, *(row.confirmed or ())})
        stored.update_assignment(connection, assignment_id, confirmed=together)
        raise_revision(connection)
        mark(connection, vars(row), now, cleared)
        number = len(together) - len(row.confirmed or ())
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("confirmed users of a rule", "assignment", assignment_id, details={"users": number}),
        )
    process_marks(ctx, USERS_PER_CHUNK)
    return assignments.one(ctx, assignment_id)


def preview_confirming(ctx: AppContext, assignment_id: str, users: Sequence[str] | None) -> Preview:
    """Return the effects of confirming users of a rule; nothing is changed."""
    with ctx.database.reading() as connection:
        return preview.shown(connection, confirming(ctx, connection, assignment_id, users)[1])


def confirming(
    ctx: AppContext, connection: Connection, assignment_id: str, users: Sequence[str] | None
) -> tuple[list[str], PlannedChange]:
    """Return the users who would be confirmed for a rule, with those who are, and the change that this would
    be.
    """
    row, catalogue = _rule_row(connection, assignment_id), ctx.catalogue.get(connection)
    if row.confirmed is None:
        raise InvalidInput(
            "No users of this rule wait for confirmation.", "All users who match the rule have the role."
        )
    meeting = rule_matches.matching(connection, catalogue, row)
    unknown = sorted({*(users or ())} - {*meeting})
    if unknown:
        raise InvalidInput(
            f"The user '{unknown[0]}' does not match the rule.",
            "Choose users from `dravo assignment waiting`.",
            "users",
        )
    values = sorted({*row.confirmed, *(meeting if users is None else users)})
    without = assignment_changes.removing(catalogue, row)
    then = assignment_changes.adding(
        connection, without.catalogue, [{**vars(row), "confirmed": values, "future_users": False}]
    )
    return values, replace(then, user=lambda user: then.user(without.user(user)))


def _rule_row(connection: Connection, assignment_id: str) -> StoredAssignment:
    row = row_of(connection, assignment_id)
    if row.rule is None and row.expression is None:
        raise InvalidInput(
            "This assignment is not a rule.",
            "Only rules and expressions that assign the highest role need confirmation.",
        )
    return row
