"""Plans of created, changed and deleted assignments, for previews and for applying them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from types import SimpleNamespace
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.days import read_span
from dravo.core.errors import AlreadyExists, InvalidInput
from dravo.core.plan_types import ConfigSnapshot
from dravo.services import settings
from dravo.services.access import rule_matches
from dravo.services.access.assignment_targets import (
    AssignmentRequest,
    ResolvedAssignment,
    other_plan,
    other_role,
    resolve,
    row_of,
)
from dravo.services.changes.preview import PlannedChange, Preview, shown
from dravo.services.context import AppContext
from dravo.services.lookups import find_users
from dravo.store import clock, memberships
from dravo.store.access import assignments as stored
from dravo.store.access.assignments import StoredAssignment
from dravo.store.snapshots.config import (
    assignment_of,
    condition_of,
    extensions,
    labels,
    matched,
    role_expression_of,
)


def preview_adding(ctx: AppContext, wish: AssignmentRequest) -> Preview:
    """Return the effects of a new assignment; nothing is changed.

    Raises:
        InvalidInput, NotFound: as creating it.
    """
    with ctx.database.reading() as connection:
        catalogue = ctx.catalogue.get(connection)
        row = rule_matches.confirmed(connection, catalogue, resolve(connection, wish, clock.now()).row)
        return shown(connection, adding(connection, catalogue, [row]))


def preview_adding_users(ctx: AppContext, wish: AssignmentRequest, users: Sequence[str]) -> Preview:
    """Return the effects of the same assignment for several users; nothing is changed.

    Raises:
        InvalidInput, NotFound, AlreadyExists: as creating them.
    """
    with ctx.database.reading() as connection:
        rows = [each.row for each in for_users(connection, wish, users)]
        return shown(connection, adding(connection, ctx.catalogue.get(connection), rows))


def for_users(
    connection: Connection, wish: AssignmentRequest, users: Sequence[str]
) -> list[ResolvedAssignment]:
    """Return the assignments of several users, each user once.

    Raises:
        InvalidInput, NotFound: for names that do not exist or are ambiguous, or none at all.
        AlreadyExists: if users have the same assignment; these are named.
    """
    if not users:
        raise InvalidInput("No user is named.", "Name at least one user.", "users")
    now = clock.now()
    found = {user.id: user for user in find_users(connection, users)}
    resolved = [resolve(connection, replace(wish, user=user_id), now) for user_id in found]
    row = resolved[0].row
    same = stored.users_with_same(
        connection, row["application_id"], row["role_id"], list(found), excludes=row["excludes"]
    )
    if same:
        names = ", ".join(found[user_id].display_name for user_id in same[:10])
        raise AlreadyExists(
            f"{len(same)} of {len(found)} users have the same assignment already: {names}.",
            "Leave these users out.",
            "users",
        )
    return resolved


def preview_removing(ctx: AppContext, assignment_id: str) -> Preview:
    """Return the effects of deleting an assignment; nothing is changed."""
    with ctx.database.reading() as connection:
        row = row_of(connection, assignment_id)
        return shown(connection, removing(ctx.catalogue.get(connection), row))


@dataclass(frozen=True)
class AssignmentEdit:
    """New values of an assignment.

    Attributes:
        from_, until: the first and the last day, or instants; None: no limit.
        note: why the assignment exists.
        confirmed: IDs of the groups that may give the highest role through a name pattern; None keeps them.
        plan: the key of the license plan; "" removes the plan, None keeps it.
        role: the key of another role, of an assignment to a user or a group; None keeps it.
    """

    from_: str | None = None
    until: str | None = None
    note: str | None = None
    confirmed: list[str] | None = None
    plan: str | None = None
    role: str | None = None


def preview_changing(ctx: AppContext, assignment_id: str, edit: AssignmentEdit) -> Preview:
    """Preview new values of an assignment.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        planned = changing(connection, ctx.catalogue.get(connection), assignment_id, edit)
        return shown(connection, planned)


def changing(
    connection: Connection, catalogue: ConfigSnapshot, assignment_id: str, edit: AssignmentEdit
) -> PlannedChange:
    """Plan new values of an assignment.

    Raises:
        NotFound, InvalidInput.
    """
    row = row_of(connection, assignment_id)
    values = {**vars(row), **read_span(edit.from_, edit.until, settings.time_zone(connection))}
    if edit.confirmed is not None:
        values["confirmed"] = edit.confirmed
    if edit.plan is not None:
        values["plan_id"] = other_plan(connection, row, edit.plan)
    if edit.role is not None:
        values["role_id"] = other_role(connection, row, edit.role)
    without = removing(catalogue, row)
    then = replace(adding(connection, without.catalogue, [values]), serious="")
    return replace(then, user=lambda user: then.user(without.user(user)))


def adding(
    connection: Connection, catalogue: ConfigSnapshot, rows: Sequence[dict[str, Any]]
) -> PlannedChange:
    """Return the change that making assignments would be; all are of one application.

    Args:
        rows: with the columns of the assignment's table.
    """
    by_group = dict(catalogue.by_group)
    general = list(catalogue.general)
    direct: dict[str, tuple[Assignment, ...]] = {}
    patterned = set(catalogue.patterned)
    for values in rows:
        row = SimpleNamespace(**values)
        if values["pattern"] is not None:
            patterned.add(values["source_id"])
            for group_id, assignment in matched(connection, [row], catalogue.roles):
                by_group[group_id] = (*by_group.get(group_id, ()), assignment)
            continue
        condition = (
            condition_of(values["rule"], extensions(connection)) if values["rule"] is not None else None
        )
        assignment = assignment_of(row, condition, role_expression_of(row, catalogue.roles.values()))
        if assignment.user_id is not None:
            direct[assignment.user_id] = (*direct.get(assignment.user_id, ()), assignment)
        elif assignment.group_id is not None:
            by_group[assignment.group_id] = (*by_group.get(assignment.group_id, ()), assignment)
        else:
            general.append(assignment)
    then = replace(catalogue, by_group=by_group, general=tuple(general), patterned=frozenset(patterned))
    if then.asks_groups and not catalogue.asks_groups:
        then = replace(then, labels=labels(connection, None))
    everyone = tuple(memberships.users_of_target(values) for values in rows)
    serious = (
        "Every user who matches this rule later gets the role without confirmation."
        if any(each.get("future_users") for each in rows)
        else ""
    )
    return PlannedChange(
        rows[0]["application_id"],
        everyone,
        then,
        lambda user: replace(user, direct=(*user.direct, *direct.get(user.user_id, ()))),
        serious=serious,
    )


def removing(catalogue: ConfigSnapshot, row: StoredAssignment) -> PlannedChange:
    """Return the change that taking an assignment away would be."""
    by_group = {
        group_id: left
        for group_id, given in catalogue.by_group.items()
        if (left := tuple(each for each in given if each.id != row.id))
    }
    general = tuple(each for each in catalogue.general if each.id != row.id)
    then = replace(catalogue, by_group=by_group, general=general)
    return PlannedChange(
        row.application_id,
        (memberships.users_of_target(vars(row)),),
        then,
        lambda user: replace(user, direct=tuple(each for each in user.direct if each.id != row.id)),
    )
