"""What an assignment names: an application, a role, and a user, group, pattern, rule or everyone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.conditions import read_entered_condition
from dravo.core.access.patterns import compile_pattern
from dravo.core.days import read_span
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.expressions import compile_expression
from dravo.core.instants import Instant
from dravo.services import settings
from dravo.services.access.license_plans import plan_by_key
from dravo.services.lookups import application_by_key, find_group, find_user, role_by_key, source_by_key
from dravo.store import memberships, recompute_marks
from dravo.store.access import assignments as stored
from dravo.store.access.assignments import StoredAssignment
from dravo.store.ids import new_id
from dravo.store.queries import applications as application_rows
from dravo.store.queries.applications import Application
from dravo.store.snapshots.config import extensions


@dataclass(frozen=True)
class AssignmentRequest:
    """A new assignment: application and role by key, and for whom: a user, a group of a source, everyone,
    users who match a rule, groups of a source whose names match a pattern (the captured part names the role),
    or users for whom an expression has roles as its values.

    Attributes:
        from_at, until_at: an instant, or a day in the organization's time zone; the last day is included.
        excludes: exclude users instead of giving a role.
        new_users_only: only for users who are created later.
        confirmed: IDs of groups that may give the highest role by a pattern.
        plan: the key of a license plan.
        future_users: of a rule for a source: users who match later get even the highest role without
            confirmation.
    """

    application: str
    role: str | None
    user: str | None = None
    source: str | None = None
    group: str | None = None
    from_at: str | None = None
    until_at: str | None = None
    note: str | None = None
    everyone: bool = False
    rule: str | None = None
    pattern: str | None = None
    excludes: bool = False
    new_users_only: bool = False
    confirmed: tuple[str, ...] = ()
    plan: str | None = None
    future_users: bool = False
    expression: str | None = None


@dataclass(frozen=True)
class ResolvedAssignment:
    """A requested assignment with IDs in place of names.

    Attributes:
        row: the columns of the assignment's table.
        target: the names of the target, for the audit log.
    """

    row: dict[str, Any]
    target: dict[str, Any]


def resolve(connection: Connection, wish: AssignmentRequest, now: Instant) -> ResolvedAssignment:
    """Return the row of a requested assignment, and the names of its target.

    Raises:
        InvalidInput, NotFound: for names that do not exist or are ambiguous.
    """
    span = read_span(wish.from_at, wish.until_at, settings.time_zone(connection))
    if span["until_at"] and span["until_at"] <= now:
        raise InvalidInput("The end date is in the past.", "Set `until` to a future date.", "until")
    _check_request(wish)
    application = application_by_key(connection, wish.application)
    row = {
        "id": new_id(),
        "application_id": application.id,
        "role_id": _role(connection, application, wish),
        "excludes": wish.excludes,
        "plan_id": _plan(connection, application, wish),
        "user_id": None,
        "group_id": None,
        "rule": None,
        "pattern": None,
        "source_id": None,
        "expression": None,
        "confirmed": None,
        "future_users": wish.future_users,
        "new_users_since": now if wish.new_users_only else None,
        "note": (wish.note or "").strip() or None,
        **span,
    }
    if wish.user is not None:
        user = find_user(connection, wish.user)
        return ResolvedAssignment({**row, "user_id": user.id}, {"user": user.display_name})
    if wish.group is not None:
        group = find_group(connection, wish.group, wish.source)
        target = {"group": group.display_name, "source": group.source_key or ""}
        return ResolvedAssignment({**row, "group_id": group.id}, target)
    if wish.rule is not None:
        return _resolve_rule(connection, wish, wish.rule, row)
    if wish.pattern is not None:
        return _resolve_pattern(connection, wish, wish.pattern, row)
    if wish.expression is not None:
        return _resolve_expression(connection, wish, wish.expression, row)
    return ResolvedAssignment(row, {"everyone": True})


def _check_request(wish: AssignmentRequest) -> None:
    """Refuse a request whose fields contradict each other."""
    subjects = [
        wish.user is not None,
        wish.group is not None,
        wish.everyone,
        wish.rule is not None,
        wish.pattern is not None,
        wish.expression is not None,
    ]
    if sum(subjects) != 1:
        raise InvalidInput(
            "The assignment needs exactly one target.",
            "Set one of `user`, `group`, `rule`, `pattern`, `expression` and `everyone`.",
        )
    if wish.future_users and (wish.rule is None or wish.source is None):
        raise InvalidInput(
            "A rule without a source cannot be confirmed for future users.",
            "Set `source` to the source that reports the attributes.",
            "source",
        )
    if wish.new_users_only and wish.user is not None:
        raise InvalidInput(
            "An assignment to one user cannot be limited to new users.",
            "Omit `new_users_only` or `user`.",
            "new_users_only",
        )


def _resolve_rule(
    connection: Connection, wish: AssignmentRequest, rule: str, row: dict[str, Any]
) -> ResolvedAssignment:
    condition = read_entered_condition(rule, extensions(connection))
    row = {**row, "rule": condition.text}
    if wish.source is None:
        return ResolvedAssignment(row, {"rule": condition.text})
    source = source_by_key(connection, wish.source, "source")
    target: dict[str, Any] = {"rule": condition.text, "source": source.key}
    if wish.future_users:
        target["future_users"] = True
    return ResolvedAssignment({**row, "source_id": source.id}, target)


def _resolve_expression(
    connection: Connection, wish: AssignmentRequest, expression: str, row: dict[str, Any]
) -> ResolvedAssignment:
    if not expression.strip():
        raise InvalidInput(
            "The expression is empty.", "Enter an expression, such as: userType.", "expression"
        )
    text = compile_expression(expression.strip()).text
    row, target = {**row, "expression": text}, {"expression": text}
    if wish.source is not None:
        source = source_by_key(connection, wish.source, "source")
        row, target = {**row, "source_id": source.id}, {**target, "source": source.key}
    if stored.has_expression(connection, row):
        raise AlreadyExists(
            "The same assignment exists already.", "Change the existing assignment.", "expression"
        )
    return ResolvedAssignment(row, target)


def _resolve_pattern(
    connection: Connection, wish: AssignmentRequest, pattern: str, row: dict[str, Any]
) -> ResolvedAssignment:
    if not wish.source:
        raise InvalidInput(
            "A group name pattern needs a source.",
            "Set `source`. Groups of other sources could have matching names.",
            "source",
        )
    compile_pattern(pattern)
    source = source_by_key(connection, wish.source, "source")
    columns = {"pattern": pattern, "source_id": source.id, "confirmed": list(wish.confirmed) or None}
    return ResolvedAssignment({**row, **columns}, {"pattern": pattern, "source": source.key})


def _role(connection: Connection, application: Application, wish: AssignmentRequest) -> str | None:
    if wish.expression is not None:
        if wish.role or wish.excludes:
            raise InvalidInput(
                "The values of an expression are the roles.",
                "Omit `role` and `excludes`, or assign the role by a rule.",
                "role",
            )
        return None
    if wish.excludes and (wish.role or wish.pattern is not None):
        raise InvalidInput(
            "An exclusion cannot have a role.",
            "Omit `role`. To exclude the groups of a pattern, exclude each group.",
            "role",
        )
    if wish.pattern is not None:
        if wish.role:
            raise InvalidInput(
                "An assignment by pattern cannot have a fixed role: the captured part names the role.",
                "Omit `role`, or map each group.",
                "role",
            )
        return None
    return str(role_by_key(connection, application, wish.role).id) if wish.role else None


def _plan(connection: Connection, application: Application, wish: AssignmentRequest) -> str | None:
    if not wish.plan:
        return None
    if wish.excludes or (wish.role is None and wish.pattern is None and wish.expression is None):
        raise InvalidInput("A license plan needs a role.", "Set `role`, or omit `plan`.", "plan")
    return str(plan_by_key(connection, application, wish.plan).id)


def other_plan(connection: Connection, row: StoredAssignment, key: str) -> str | None:
    """Return the ID of another license plan of an assignment; an empty key removes the plan.

    Raises:
        NotFound.
        InvalidInput: if the assignment gives no role.
    """
    if not key:
        return None
    if row.excludes or (row.role_id is None and row.pattern is None and row.expression is None):
        raise InvalidInput("A license plan needs a role.", "Give the assignment a role first.", "plan")
    application = application_rows.by_id(connection, row.application_id)
    return str(plan_by_key(connection, application, key).id)


def other_role(connection: Connection, row: StoredAssignment, key: str) -> str:
    """Return the ID of another role of an assignment.

    Raises:
        NotFound.
        InvalidInput: if the assignment is not one of a user or a group to a role.
    """
    if row.role_id is None or (row.user_id is None and row.group_id is None):
        # Of a rule, the users who match later are confirmed for its role.
        raise InvalidInput(
            "Only the role of a user or a group can be changed.",
            "Create an assignment with the other role, and delete this one.",
            "role",
        )
    application = application_rows.by_id(connection, row.application_id)
    return str(role_by_key(connection, application, key).id)


def row_of(connection: Connection, assignment_id: str) -> StoredAssignment:
    """Return the row of an assignment.

    Raises:
        NotFound: if it does not exist or was deleted.
    """
    row = stored.get(connection, assignment_id)
    if row is None or row.removed_at is not None:
        raise NotFound(
            f"There is no assignment with the id '{assignment_id}'.",
            "It may have been deleted. List the assignments with `dravo assignment list`.",
        )
    return row


def mark(
    connection: Connection, row: Mapping[str, Any], now: Instant, cleared: tuple[str, str] | None = None
) -> None:
    """Mark all users of an assignment to be recomputed; `cleared` as in `mark_selected`."""
    recompute_marks.mark_selected(connection, memberships.users_of_target(row), now, cleared)
