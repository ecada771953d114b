"""Assignments: a user, a group, a rule or everyone gets a role in an application, or is excluded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.days import read_span
from dravo.core.errors import AlreadyExists
from dravo.core.instants import Instant
from dravo.services import settings
from dravo.services.access import assignment_changes, rule_matches
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import (
    AssignmentRequest,
    mark,
    other_plan,
    other_role,
    resolve,
    row_of,
)
from dravo.services.changes import preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships
from dravo.store.access import assignments as stored
from dravo.store.access.assignments import AssignmentFilter, ListedAssignment
from dravo.store.pagination import ItemList, Page, PageRequest
from dravo.store.queries.references import GroupRef, KeyAndLabel, RoleRef, UserRef, key_and_label
from dravo.store.snapshots.config import raise_revision


def add(
    ctx: AppContext,
    caller: Caller,
    wish: AssignmentRequest,
    sure: Confirmation = UNCONFIRMED,
    also: Callable[[Connection, str], None] | None = None,
) -> AssignmentLine:
    """Create an assignment. The touched users are recomputed; many of them by the worker.

    Args:
        also: what is written in the same transaction, with the ID of the assignment.

    Raises:
        InvalidInput, NotFound, AlreadyExists; NeedsConfirmation, StalePreview.
    """
    with ctx.database.reading() as connection:
        wanted = resolve(connection, wish, clock.now())
        catalogue = ctx.catalogue.get(connection)
        row = rule_matches.confirmed(connection, catalogue, wanted.row)
        change = assignment_changes.adding(connection, catalogue, [row])
        cleared = preview.check(connection, change, caller, sure)
    try:
        with ctx.database.writing() as connection:
            write(ctx, connection, caller, row, wanted.target, cleared)
            if also is not None:
                also(connection, row["id"])
    except IntegrityError:
        raise AlreadyExists(
            "The same assignment exists already.", "Change the existing assignment."
        ) from None
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, row["id"])


def add_users(
    ctx: AppContext,
    caller: Caller,
    wish: AssignmentRequest,
    users: Sequence[str],
    sure: Confirmation = UNCONFIRMED,
) -> ItemList[AssignmentLine]:
    """Create the same assignment for several users, all or none.

    Args:
        wish: the assignment without a target.
        users: IDs, user names, emails or external IDs.

    Raises:
        InvalidInput, NotFound; AlreadyExists: if users have the same assignment; NeedsConfirmation,
            StalePreview.
    """
    with ctx.database.reading() as connection:
        wanted = assignment_changes.for_users(connection, wish, users)
        change = assignment_changes.adding(
            connection, ctx.catalogue.get(connection), [each.row for each in wanted]
        )
        cleared = preview.check(connection, change, caller, sure)
    try:
        with ctx.database.writing() as connection:
            for each in wanted:
                write(ctx, connection, caller, each.row, each.target, cleared)
    except IntegrityError:
        raise AlreadyExists(
            "One of the users got the same assignment in the meantime.", "Preview again."
        ) from None
    process_marks(ctx, USERS_PER_CHUNK)
    ids = [each.row["id"] for each in wanted]
    with ctx.database.reading() as connection:
        return ItemList(rows(connection, PageRequest(count=len(ids)), AssignmentFilter(ids=ids)).items)


def add_row(ctx: AppContext, caller: Caller, row: dict[str, Any], sure: Confirmation) -> None:
    """Create an assignment from a row of its table: undo restores a deleted one this way.

    Raises:
        AlreadyExists; NeedsConfirmation, StalePreview.
    """
    with ctx.database.reading() as connection:
        cleared = preview.check(
            connection,
            assignment_changes.adding(connection, ctx.catalogue.get(connection), [row]),
            caller,
            sure,
        )
    try:
        with ctx.database.writing() as connection:
            write(ctx, connection, caller, row, {"undone": True}, cleared)
    except IntegrityError:
        raise AlreadyExists(
            "The same assignment exists already.", "Change the existing assignment."
        ) from None


def write(
    ctx: AppContext,
    connection: Connection,
    caller: Caller,
    row: dict[str, Any],
    named: dict[str, Any],
    cleared: tuple[str, str] | None,
) -> None:
    """Write an assignment, and mark the users whom it touches.

    Args:
        row: the columns of the assignment's table.
        named: details for the audit log; those of an assignment to a user stay outside the chain.
        cleared: as in `mark_selected`.
    """
    now = clock.now()
    stored.insert_assignment(connection, {**row, "created_at": now, "created_by": caller.name})
    raise_revision(connection)
    mark(connection, row, now, cleared)
    keys = stored.keys_of(connection, row["application_id"], row["role_id"], row["plan_id"])
    what = {
        "application": keys.application,
        **({"plan": keys.plan} if keys.plan else {}),
        **({"role": keys.role} if keys.role else {"excludes": True} if row["excludes"] else {}),
    }
    record_change(
        connection,
        ctx.keys,
        caller,
        now,
        AuditEvent(
            "created assignment",
            "assignment",
            row["id"],
            details={**what, **({} if row["user_id"] else named)},
            personal=named if row["user_id"] else None,
        ),
    )


def change(
    ctx: AppContext,
    caller: Caller,
    assignment_id: str,
    edit: AssignmentEdit,
    sure: Confirmation = UNCONFIRMED,
) -> AssignmentLine:
    """Change the role, the dates, the note, the license plan or the confirmed groups of an assignment.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, StalePreview.
        AlreadyExists: if the user or group has the other role by another assignment.
    """
    with ctx.database.reading() as connection:
        planned = assignment_changes.changing(connection, ctx.catalogue.get(connection), assignment_id, edit)
        cleared = preview.check(connection, planned, caller, sure)
    try:
        _write_change(ctx, caller, assignment_id, edit, cleared)
    except IntegrityError:
        raise AlreadyExists(
            "The same assignment exists already.", "Change the existing assignment.", "role"
        ) from None
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, assignment_id)


def _write_change(
    ctx: AppContext,
    caller: Caller,
    assignment_id: str,
    edit: AssignmentEdit,
    cleared: tuple[str, str] | None,
) -> None:
    now = clock.now()
    with ctx.database.writing() as connection:
        row = row_of(connection, assignment_id)
        span = read_span(edit.from_, edit.until, settings.time_zone(connection))
        values: dict[str, Any] = {**span, "note": edit.note}
        if edit.confirmed is not None and row.pattern is not None:
            values["confirmed"] = edit.confirmed or None
        if edit.plan is not None:
            values["plan_id"] = other_plan(connection, row, edit.plan)
        if edit.role is not None:
            values["role_id"] = other_role(connection, row, edit.role)
        stored.update_assignment(connection, assignment_id, **values)
        raise_revision(connection)
        mark(connection, vars(row), now, cleared)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "changed assignment",
                "assignment",
                assignment_id,
                details={"before": {name: getattr(row, name) for name in values}, "after": values},
            ),
        )


def remove(ctx: AppContext, caller: Caller, assignment_id: str, sure: Confirmation = UNCONFIRMED) -> None:
    """Take an assignment away.

    Raises:
        NotFound; NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        planned = assignment_changes.removing(
            ctx.catalogue.get(connection), row_of(connection, assignment_id)
        )
        cleared = preview.check(connection, planned, caller, sure)
    with ctx.database.writing() as connection:
        row = row_of(connection, assignment_id)
        stored.update_assignment(connection, assignment_id, removed_at=now)
        raise_revision(connection)
        mark(connection, vars(row), now, cleared)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "deleted assignment",
                "assignment",
                assignment_id,
                details={
                    name: value
                    for name in ("application_id", "role_id", "group_id", "rule", "pattern", "expression")
                    if (value := getattr(row, name)) is not None
                },
            ),
        )
    process_marks(ctx, USERS_PER_CHUNK)


@dataclass
class Note:
    """A warning with its hint."""

    what: str
    hint: str


@dataclass
class PatternGroup:
    """A group that matches a pattern, with the resulting role."""

    group: GroupRef
    outcome: str
    captured: str
    role: str | None
    by: str | None


@dataclass
class AssignmentLine:
    """An assignment with the number of its users.

    Attributes:
        kind: "user", "group", "rule", "pattern", "expression" or "everyone".
        confirmed: confirmed groups of a pattern.
        confirmed_users: how many users of a rule are confirmed; None where none needs to be.
        waiting: how many users of a rule wait for a confirmation.
        groups: the groups that match a pattern.
        notes: warnings.
        matching_users: how many users the assignment reaches; None where they are not counted.
    """

    id: str
    application: KeyAndLabel
    kind: str
    excludes: bool
    role: RoleRef | None
    plan: KeyAndLabel | None
    user: UserRef | None
    group: GroupRef | None
    source: KeyAndLabel | None
    rule: str | None
    pattern: str | None
    expression: str | None
    confirmed: list[str]
    future_users: bool
    confirmed_users: int | None
    new_users_since: Instant | None
    matching_users: int | None
    from_: Instant | None
    until: Instant | None
    from_day: str | None
    until_day: str | None
    note: str | None
    created_at: Instant
    created_by: str
    waiting: int | None = None
    groups: list[PatternGroup] | None = None
    notes: list[Note] = field(default_factory=list)


def kind_of(row: ListedAssignment) -> str:
    """Return the kind of users of an assignment."""
    if row.user_id is not None:
        return "user"
    if row.group_id is not None:
        return "group"
    if row.expression is not None:
        return "expression"
    return "rule" if row.rule is not None else "pattern" if row.pattern is not None else "everyone"


def _line(row: ListedAssignment) -> AssignmentLine:
    return AssignmentLine(
        id=row.id,
        application=KeyAndLabel(row.application_key, row.application_label),
        kind=kind_of(row),
        excludes=row.excludes,
        role=RoleRef(row.role_key, row.role_label or "", row.rank or 0) if row.role_key else None,
        plan=key_and_label(row.plan_key, row.plan_label),
        user=UserRef(row.user_id, row.display_name or "", row.user_name or "") if row.user_id else None,
        group=GroupRef(
            row.group_id, row.group_name or "", row.external_id, gone=row.group_deleted_at is not None
        )
        if row.group_id
        else None,
        source=key_and_label(row.source_key, row.source_label),
        rule=row.rule,
        pattern=row.pattern,
        expression=row.expression,
        confirmed=(row.confirmed or []) if row.pattern is not None else [],
        future_users=row.future_users,
        confirmed_users=len(row.confirmed) if row.pattern is None and row.confirmed is not None else None,
        new_users_since=row.new_users_since,
        matching_users=row.matching_users if row.group_id else 1 if row.user_id else None,
        from_=row.from_at,
        until=row.until_at,
        from_day=row.from_day,
        until_day=row.until_day,
        note=row.note,
        created_at=row.created_at,
        created_by=row.created_by,
    )


def list_assignments(
    ctx: AppContext, page_request: PageRequest, only: AssignmentFilter
) -> Page[AssignmentLine]:
    """Return a page of assignments, oldest first, each with the number of its users."""
    with ctx.database.reading() as connection:
        return rows(connection, page_request, only)


def rows(connection: Connection, page_request: PageRequest, only: AssignmentFilter) -> Page[AssignmentLine]:
    """Return a page of assignments; users in a group by nesting are reached too."""
    found = stored.list_assignments(connection, page_request, only, _line)
    nested = memberships.with_inner_groups(connection, [line.group.id for line in found.items if line.group])
    for line in found.items:
        if line.group and line.group.id in nested:
            line.matching_users = memberships.how_many_within(connection, line.group.id)
    return found


def rules(ctx: AppContext) -> list[str]:
    """Return the conditions of all rules, deleted ones included."""
    with ctx.database.reading() as connection:
        return stored.rules(connection)


def one(ctx: AppContext, assignment_id: str) -> AssignmentLine:
    """Return one assignment.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row_of(connection, assignment_id)
        return rows(connection, PageRequest(count=1), AssignmentFilter(ids=[assignment_id])).items[0]
