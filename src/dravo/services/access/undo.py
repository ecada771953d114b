"""Undoes changes of assignments and access policies from the audit log, with a preview. An undo is a change
too.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import row_of
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import Confirmation, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.security.permissions import Caller
from dravo.store.access import assignments as stored
from dravo.store.access import license_plans as stored_plans
from dravo.store.ids import new_id
from dravo.store.operators import audit_log as audit_rows
from dravo.store.operators.audit_log import AuditEntry
from dravo.store.queries import applications as application_rows

ADDED, CHANGED, REMOVED, POLICY = (
    "created assignment",
    "changed assignment",
    "deleted assignment",
    "changed policy",
)
UNDOABLE = (ADDED, CHANGED, REMOVED, POLICY)


def preview(ctx: AppContext, entry_id: int) -> Preview:
    """Return the effects of undoing an entry; nothing is changed.

    Raises:
        NotFound, InvalidInput, AlreadyExists: if it cannot be undone, with the reason.
    """
    with ctx.database.reading() as connection:
        entry = _entry(connection, entry_id)
        if entry.action == POLICY:
            key, before = _policy(connection, entry)
            return access_policies.preview(ctx, key, before)
        catalogue = ctx.catalogue.get(connection)
        if entry.action == ADDED:
            return changes_preview.shown(
                connection, assignment_changes.removing(catalogue, row_of(connection, entry.object_id))
            )
        if entry.action == REMOVED:
            return changes_preview.shown(
                connection, assignment_changes.adding(connection, catalogue, [_removed(connection, entry)])
            )
        edit = _before(connection, entry)
        return changes_preview.shown(
            connection, assignment_changes.changing(connection, catalogue, entry.object_id, edit)
        )


def undo(ctx: AppContext, caller: Caller, entry_id: int, sure: Confirmation) -> None:
    """Take an entry back.

    Raises:
        NotFound, InvalidInput, AlreadyExists; NeedsConfirmation, StalePreview.
    """
    with ctx.database.reading() as connection:
        entry = _entry(connection, entry_id)
        policy = _policy(connection, entry) if entry.action == POLICY else None
        row = _removed(connection, entry) if entry.action == REMOVED else None
        before = _before(connection, entry) if entry.action == CHANGED else None
    if policy is not None:
        access_policies.change(ctx, caller, *policy, sure)
    elif row is not None:
        assignments.add_row(ctx, caller, row, sure)
        process_marks(ctx, USERS_PER_CHUNK)
    elif entry.action == ADDED:
        assignments.remove(ctx, caller, entry.object_id, sure)
    elif before is not None:
        assignments.change(ctx, caller, entry.object_id, before, sure)


def _entry(connection: Connection, entry_id: int) -> AuditEntry:
    row = audit_rows.get(connection, entry_id)
    if row is None:
        raise NotFound(f"There is no entry {entry_id} in the audit log.")
    if row.action not in UNDOABLE:
        raise InvalidInput(
            f"'{row.action}' cannot be undone.",
            "Only changes to assignments and access policies can be undone here.",
        )
    return row


def _before(connection: Connection, entry: AuditEntry) -> AssignmentEdit:
    """Return the edit that restores an assignment to its values before a change."""
    before = entry.details["before"]
    plan = None
    if "plan_id" in before:
        plan = stored_plans.key_of(connection, before["plan_id"]) or ""
    role = application_rows.role_key_of(connection, before["role_id"]) if "role_id" in before else None
    return AssignmentEdit(
        role=role,
        from_=before["from_day"] or before["from_at"],
        until=before["until_day"] or before["until_at"],
        note=before["note"],
        confirmed=before.get("confirmed"),
        plan=plan,
    )


def _removed(connection: Connection, entry: AuditEntry) -> dict[str, Any]:
    """Return the row of a deleted assignment, as a new one.

    Raises:
        AlreadyExists: if the same assignment exists again.
        NotFound: if its application was deleted.
    """
    row = stored.get(connection, entry.object_id)
    if row is None:
        raise NotFound("The application of this assignment was deleted.")
    values = vars(row)
    if row.pattern is not None and row.source_id is None:
        raise NotFound(
            "The source of this pattern was deleted.", "Create a new assignment for another source."
        )
    if stored.has_same(connection, values):
        raise AlreadyExists("The same assignment exists again.", "Nothing needs to be undone.")
    return {
        **{
            name: value
            for name, value in values.items()
            if name not in ("created_at", "created_by", "removed_at")
        },
        "id": new_id(),
    }


def _policy(connection: Connection, entry: AuditEntry) -> tuple[str, dict[str, Any]]:
    """Return an application's key and its policy as it was before a change."""
    key = application_rows.key_of(connection, entry.object_id)
    if key is None:
        raise NotFound("The application was deleted.")
    before = dict(entry.details["before"])
    default = before.pop("default_role_id", None)
    if default is not None:
        before["fallback_role"] = application_rows.role_key_of(connection, default)
    return key, before
