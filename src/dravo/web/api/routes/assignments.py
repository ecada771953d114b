"""Assignments, the mapping table of an application, and how it decides about access."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.services.access import assignment_changes, assignments, rule_confirmations, rule_matches
from dravo.services.access import mapping as role_mapping
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes.preview import Sure
from dravo.services.provisioning import applications, holds
from dravo.services.security.permissions import ATTRIBUTES
from dravo.web.api.auth import ALL, ASSIGNMENT, BODY, PATH, QUERY, ask, caller, house, needs, room
from dravo.web.api.openapi import answers
from dravo.web.api.schemas.applications import PolicyRequest
from dravo.web.api.schemas.assignments import (
    AssignmentsQuery,
    BulkAssignRequest,
    ChangeAssignmentRequest,
    CheckPatternRequest,
    CheckRuleRequest,
    ConfirmUsersRequest,
    CreateAssignmentRequest,
)
from dravo.web.api.schemas.common import ConfirmedQuery, ConfirmedRequest, ConfirmRequest, IdPath, KeyPath, PageQuery

rooms = room("assignments")


@rooms.get("/assignments", responses=answers("assignments.PageOfAssignments"))
@needs("access.read", of=QUERY)
def list_assignments(query: AssignmentsQuery) -> dict[str, Any]:
    """Assignments, with how many people each reaches now."""
    return assignments.listing(house(), ask(query), query.application, query.group, query.person, direct=query.direct)


@rooms.post("/assignments", responses=answers("assignments.Assignment", 201))
@needs("assignments.change", of=BODY)
def add_assignment(body: CreateAssignmentRequest) -> tuple[dict[str, Any], int]:
    """Give a role to a person, a group, everybody, or those whom a rule or a pattern reaches; let them in; or keep them out."""
    _check_rule(body)
    return assignments.add(house(), caller(), wish_of(body), sure_of(body)), 201


@rooms.post("/assignments/preview", responses=answers("assignments.Preview"))
@needs("access.read", of=BODY)
def preview_adding(body: CreateAssignmentRequest) -> dict[str, Any]:
    """What an assignment would do; nothing is changed."""
    _check_rule(body)
    return assignment_changes.preview_adding(house(), wish_of(body))


@rooms.get("/assignments/<id>", responses=answers("assignments.Assignment"))
@needs("access.read", of=ASSIGNMENT)
def get_assignment(path: IdPath) -> dict[str, Any]:
    """One assignment."""
    return assignments.one(house(), path.id)


@rooms.put("/assignments/<id>", responses=answers("assignments.Assignment"))
@needs("assignments.change", of=ASSIGNMENT)
def change_assignment(path: IdPath, body: ChangeAssignmentRequest) -> dict[str, Any]:
    """Change from when until when an assignment counts, its note, and which groups are confirmed."""
    return assignments.change(house(), caller(), path.id, body.from_, body.until, body.note, body.confirmed, sure_of(body), body.plan)


@rooms.post("/assignments/<id>/preview", responses=answers("assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_changing(path: IdPath, body: ChangeAssignmentRequest) -> dict[str, Any]:
    """What a change of an assignment would do; nothing is changed."""
    return assignment_changes.preview_changing(house(), path.id, body.from_, body.until, body.confirmed, body.plan)


@rooms.delete("/assignments/<id>", responses={204: None})
@needs("assignments.change", of=ASSIGNMENT)
def remove_assignment(path: IdPath, query: ConfirmedQuery) -> Response:
    """Take an assignment away."""
    assignments.remove(house(), caller(), path.id, sure_of_query(query))
    return Response(status=204)


@rooms.get("/assignments/<id>/removal", responses=answers("assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_removing(path: IdPath) -> dict[str, Any]:
    """What taking an assignment away would do; nothing is changed."""
    return assignment_changes.preview_removing(house(), path.id)


@rooms.get("/assignments/<id>/waiting", responses=answers("assignments.PageOfWaitingUsers"))
@needs("access.read", of=ASSIGNMENT)
def list_waiting(path: IdPath, query: PageQuery) -> dict[str, Any]:
    """List users who meet a rule and wait for a confirmation, because it gives the highest role."""
    return rule_confirmations.waiting(house(), path.id, ask(query))


@rooms.post("/assignments/<id>/confirm", responses=answers("assignments.Assignment"))
@needs("assignments.change", of=ASSIGNMENT)
def confirm_users(path: IdPath, body: ConfirmUsersRequest) -> dict[str, Any]:
    """Confirm users who meet a rule: they get its role."""
    return rule_confirmations.confirm(house(), caller(), path.id, body.users, sure_of(body))


@rooms.post("/assignments/<id>/confirm/preview", responses=answers("assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_confirming(path: IdPath, body: ConfirmUsersRequest) -> dict[str, Any]:
    """Preview what confirming users of a rule would do; nothing is changed."""
    return rule_confirmations.preview_confirming(house(), path.id, body.users)


@rooms.get("/applications/<key>/mapping", responses=answers("assignments.PageOfAssignments"))
@needs("access.read", of=PATH)
def mapping_table(path: KeyPath, query: PageQuery) -> dict[str, Any]:
    """Which groups, patterns and rules give which role, whom each reaches, and what is amiss."""
    return role_mapping.table(house(), path.key, ask(query))


@rooms.post("/applications/<key>/mapping/bulk", responses=answers("assignments.Bulk"))
@needs("assignments.change", of=PATH)
def map_many(path: KeyPath, body: BulkAssignRequest) -> dict[str, Any]:
    """Map many groups at once, `source, group, role` on each line; only looked at unless `apply` is said."""
    return role_mapping.bulk(house(), caller(), path.key, body.text, apply=body.apply, sure=sure_of(body))


@rooms.post("/applications/<key>/mapping/pattern", responses=answers("assignments.PatternTried"))
@needs("access.read", of=PATH)
def try_pattern(path: KeyPath, body: CheckPatternRequest) -> dict[str, Any]:
    """What a pattern makes of the groups of a source; nothing is changed."""
    return role_mapping.try_pattern(house(), path.key, body.source, body.pattern, body.confirmed)


@rooms.post("/rules/try", responses=answers("assignments.Reached"))
@needs("attributes.read", of=ALL)
def try_rule(body: CheckRuleRequest) -> dict[str, Any]:
    """Whom a rule reaches now; nothing is changed."""
    return rule_matches.try_rule(house(), body.rule)


@rooms.put("/applications/<key>/policy", responses=answers("applications.Application"))
@needs("applications.change")
def change_policy(path: KeyPath, body: PolicyRequest) -> dict[str, Any]:
    """Set how the application decides: who may come in, what if nothing maps, which of several roles, which assignments are heard."""
    access_policies.change(house(), caller(), path.key, body.model_dump(), sure_of(body))
    return applications.one(house(), path.key)


@rooms.post("/applications/<key>/policy/preview", responses=answers("assignments.Preview"))
@needs("access.read", of=PATH)
def preview_policy(path: KeyPath, body: PolicyRequest) -> dict[str, Any]:
    """What another policy would do; nothing is changed."""
    return access_policies.preview(house(), path.key, body.model_dump())


@rooms.get("/guard", responses=answers("holds.GuardListing"))
@needs("deliveries.read")
def guard() -> dict[str, Any]:
    """What the guard holds: removals beyond the limits, that wait for a person."""
    return holds.listing(house())


@rooms.post("/guard/<key>/let-through", responses=answers("common.Number"))
@needs("guard.release")
def let_through(path: KeyPath, body: ConfirmRequest) -> dict[str, Any]:
    """Let what is held for an application through; its label, typed, confirms."""
    return holds.let_through(house(), caller(), path.key, body.confirm)


@rooms.post("/guard/<key>/drop", responses=answers("common.Number"))
@needs("guard.release")
def drop(path: KeyPath, body: ConfirmRequest) -> dict[str, Any]:
    """Drop what is held for an application: accounts stay there as they are, until something about them changes."""
    return holds.drop(house(), caller(), path.key, body.confirm)


def _check_rule(body: CreateAssignmentRequest) -> None:
    """Make sure that a caller who asks about attributes by a rule may read them: who gets the role would tell them.

    Raises:
        NotPermitted: if not.
    """
    if body.rule is not None:
        caller().require(ATTRIBUTES)


def sure_of(body: ConfirmedRequest) -> Sure:
    """Return what was said with a change that was looked at first."""
    return Sure(body.confirm, (body.expect.gained, body.expect.lost, body.expect.changed) if body.expect else None)


def sure_of_query(query: ConfirmedQuery) -> Sure:
    """Return what was said with a removal that was looked at first."""
    seen = (query.gained, query.lost, query.changed)
    expect = (query.gained or 0, query.lost or 0, query.changed or 0) if any(each is not None for each in seen) else None
    return Sure(query.confirm, expect)


def wish_of(body: CreateAssignmentRequest) -> Wish:
    """Return what is asked for."""
    return Wish(
        body.application, body.role, body.person, body.source, body.group, body.from_, body.until, body.note,
        body.everybody, body.rule, body.pattern, body.excludes, body.newcomers_only, tuple(body.confirmed), body.plan,
        body.future_users,
    )  # fmt: skip
