"""Assignments, the mapping table of an application, and how it decides about access."""

from __future__ import annotations

from flask import Response

from dravo.services.access import assignment_changes, assignments, rule_confirmations, rule_matches
from dravo.services.access import mapping as role_mapping
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.assignments import AssignmentLine
from dravo.services.access.mapping import BulkMapping, PatternTried
from dravo.services.access.rule_matches import MatchingUsers
from dravo.services.applications import applications
from dravo.services.applications.applications import ApplicationDetail
from dravo.services.changes.preview import Confirmation, Preview
from dravo.services.provisioning import holds
from dravo.services.provisioning.holds import HoldItem
from dravo.services.results import Number
from dravo.services.security.permissions import ATTRIBUTES
from dravo.store.access.assignments import AssignmentFilter
from dravo.store.pagination import ItemList, Page
from dravo.store.queries.references import UserRef
from dravo.web.api.auth import (
    ALL,
    ASSIGNMENT,
    BODY,
    PATH,
    QUERY,
    api_blueprint,
    app_context,
    caller,
    needs,
    page_request,
)
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.access.assignments import (
    AssignmentsQuery,
    AssignUsersRequest,
    BulkAssignRequest,
    ChangeAssignmentRequest,
    CheckPatternRequest,
    CheckRuleRequest,
    ConfirmUsersRequest,
    CreateAssignmentRequest,
)
from dravo.web.api.schemas.applications.applications import PolicyRequest
from dravo.web.api.schemas.common import (
    ConfirmedQuery,
    ConfirmedRequest,
    ConfirmRequest,
    IdPath,
    KeyPath,
    PageQuery,
)

routes = api_blueprint("assignments")


@routes.get("/assignments", responses=responses("access.assignments.PageOfAssignments"))
@needs("access.read", of=QUERY)
def list_assignments(query: AssignmentsQuery) -> Page[AssignmentLine]:
    """List assignments.

    Assignments with the number of matching users.
    """
    only = AssignmentFilter(
        application_key=query.application,
        group_id=query.group,
        user_id=query.user,
        direct=query.direct or None,
    )
    return assignments.list_assignments(app_context(), page_request(query), only)


@routes.post("/assignments", responses=responses("access.assignments.Assignment", 201))
@needs("assignments.change", of=BODY)
def add_assignment(body: CreateAssignmentRequest) -> tuple[AssignmentLine, int]:
    """Create an assignment.

    Needs exactly one target. Large changes require `confirm`. A stale preview in `expect` is refused with
    409.
    """
    _check_rule(body)
    return assignments.add(app_context(), caller(), wish_of(body), sure_of(body)), 201


@routes.post("/assignments/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=BODY)
def preview_adding(body: CreateAssignmentRequest) -> Preview:
    """Preview a new assignment.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    _check_rule(body)
    return assignment_changes.preview_adding(app_context(), wish_of(body))


@routes.post("/assignments/users", responses=responses("access.assignments.CreatedAssignments", 201))
@needs("assignments.change", of=BODY)
def assign_users(body: AssignUsersRequest) -> tuple[ItemList[AssignmentLine], int]:
    """Create an assignment for several users.

    All or none. Users who have the same assignment are refused by name. Large changes require `confirm`.
    """
    wish = _wish_for_users(body)
    return assignments.add_users(app_context(), caller(), wish, body.users, sure_of(body)), 201


@routes.post("/assignments/users/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=BODY)
def preview_assigning_users(body: AssignUsersRequest) -> Preview:
    """Preview an assignment for several users.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return assignment_changes.preview_adding_users(app_context(), _wish_for_users(body), body.users)


def _wish_for_users(body: AssignUsersRequest) -> AssignmentRequest:
    return AssignmentRequest(
        body.application,
        body.role,
        plan=body.plan,
        excludes=body.excludes,
        from_at=body.from_,
        until_at=body.until,
        note=body.note,
    )


@routes.get("/assignments/<id>", responses=responses("access.assignments.Assignment"))
@needs("access.read", of=ASSIGNMENT)
def get_assignment(path: IdPath) -> AssignmentLine:
    """Get an assignment.

    Returns 404 if the assignment was deleted.
    """
    return assignments.one(app_context(), path.id)


@routes.put("/assignments/<id>", responses=responses("access.assignments.Assignment"))
@needs("assignments.change", of=ASSIGNMENT)
def change_assignment(path: IdPath, body: ChangeAssignmentRequest) -> AssignmentLine:
    """Change an assignment.

    Changes the role, the dates, the note, the license plan and the confirmed groups.
    """
    return assignments.change(app_context(), caller(), path.id, _edit_of(body), sure_of(body))


@routes.post("/assignments/<id>/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_changing(path: IdPath, body: ChangeAssignmentRequest) -> Preview:
    """Preview a changed assignment.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return assignment_changes.preview_changing(app_context(), path.id, _edit_of(body))


def _edit_of(body: ChangeAssignmentRequest) -> AssignmentEdit:
    return AssignmentEdit(
        from_=body.from_,
        until=body.until,
        note=body.note,
        confirmed=body.confirmed,
        plan=body.plan,
        role=body.role,
    )


@routes.delete("/assignments/<id>", responses={204: None})
@needs("assignments.change", of=ASSIGNMENT)
def remove_assignment(path: IdPath, query: ConfirmedQuery) -> Response:
    """Delete an assignment.

    Large changes require `confirm`. A stale preview in `expect` is refused with 409.
    """
    assignments.remove(app_context(), caller(), path.id, sure_of_query(query))
    return Response(status=204)


@routes.get("/assignments/<id>/removal", responses=responses("access.assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_removing(path: IdPath) -> Preview:
    """Preview the deletion of an assignment.

    Returns the users who would lose or change roles. Changes nothing.
    """
    return assignment_changes.preview_removing(app_context(), path.id)


@routes.get("/assignments/<id>/waiting", responses=responses("access.assignments.PageOfWaitingUsers"))
@needs("access.read", of=ASSIGNMENT)
def list_waiting(path: IdPath, query: PageQuery) -> Page[UserRef]:
    """List users waiting for confirmation.

    Users who match a rule for the highest role and are not confirmed.
    """
    return rule_confirmations.waiting(app_context(), path.id, page_request(query))


@routes.post("/assignments/<id>/confirm", responses=responses("access.assignments.Assignment"))
@needs("assignments.change", of=ASSIGNMENT)
def confirm_users(path: IdPath, body: ConfirmUsersRequest) -> AssignmentLine:
    """Confirm users of a rule.

    The users get the highest role that the rule assigns.
    """
    return rule_confirmations.confirm(app_context(), caller(), path.id, body.users, sure_of(body))


@routes.post("/assignments/<id>/confirm/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=ASSIGNMENT)
def preview_confirming(path: IdPath, body: ConfirmUsersRequest) -> Preview:
    """Preview a confirmation of users.

    Returns the users who would gain or change roles. Changes nothing.
    """
    return rule_confirmations.preview_confirming(app_context(), path.id, body.users)


@routes.get("/applications/<key>/mapping", responses=responses("access.assignments.PageOfAssignments"))
@needs("access.read", of=PATH)
def mapping_table(path: KeyPath, query: PageQuery) -> Page[AssignmentLine]:
    """List the role mapping.

    Assignments of groups, patterns and rules, with the number of users and warnings.
    """
    return role_mapping.table(app_context(), path.key, page_request(query))


@routes.post("/applications/<key>/mapping/bulk", responses=responses("access.assignments.Bulk"))
@needs("assignments.change", of=PATH)
def map_many(path: KeyPath, body: BulkAssignRequest) -> BulkMapping:
    """Map several groups.

    Reads lines of source, group and role. Without `apply`, returns a preview. Invalid lines prevent all
    changes.
    """
    return role_mapping.bulk(
        app_context(), caller(), path.key, body.text, apply=body.apply, sure=sure_of(body)
    )


@routes.post("/applications/<key>/mapping/pattern", responses=responses("access.assignments.PatternTried"))
@needs("access.read", of=PATH)
def try_pattern(path: KeyPath, body: CheckPatternRequest) -> PatternTried:
    """Preview a group name pattern.

    Returns the matching groups of a source and their roles. Changes nothing.
    """
    return role_mapping.try_pattern(app_context(), path.key, body.source, body.pattern, body.confirmed)


@routes.post("/rules/matches", responses=responses("access.assignments.MatchingUsers"))
@needs("attributes.read", of=ALL)
def try_rule(body: CheckRuleRequest) -> MatchingUsers:
    """List users who match a rule.

    Returns the number of users and the first ones. Changes nothing.
    """
    return rule_matches.try_rule(app_context(), body.rule)


@routes.put("/applications/<key>/policy", responses=responses("applications.applications.Application"))
@needs("applications.change")
def change_policy(path: KeyPath, body: PolicyRequest) -> ApplicationDetail:
    """Change the access policy.

    Large changes require `confirm`. A stale preview in `expect` is refused with 409.
    """
    access_policies.change(app_context(), caller(), path.key, body.model_dump(), sure_of(body))
    return applications.one(app_context(), path.key)


@routes.post("/applications/<key>/policy/preview", responses=responses("access.assignments.Preview"))
@needs("access.read", of=PATH)
def preview_policy(path: KeyPath, body: PolicyRequest) -> Preview:
    """Preview an access policy.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return access_policies.preview(app_context(), path.key, body.model_dump())


@routes.get("/holds", responses=responses("applications.holds.HoldList"))
@needs("tasks.read")
def removal_limit() -> ItemList[HoldItem]:
    """List holds.

    Removals above the removal limit, waiting for approval.
    """
    return holds.list_holds(app_context())


@routes.post("/holds/<key>/approve", responses=responses("common.Number"))
@needs("holds.approve")
def let_through(path: KeyPath, body: ConfirmRequest) -> Number:
    """Approve held removals.

    Requires the label of the application in `confirm`.
    """
    return holds.approve(app_context(), caller(), path.key, body.confirm)


@routes.post("/holds/<key>/discard", responses=responses("common.Number"))
@needs("holds.approve")
def drop(path: KeyPath, body: ConfirmRequest) -> Number:
    """Discard held removals.

    The accounts stay unchanged until the next change to the user. Requires the label in `confirm`.
    """
    return holds.discard(app_context(), caller(), path.key, body.confirm)


def _check_rule(body: CreateAssignmentRequest) -> None:
    """Make sure that a caller who asks about attributes by a rule may read them: who gets the role would
    tell them.

    Raises:
        NotPermitted: if not.
    """
    if body.rule is not None:
        caller().require(ATTRIBUTES)


def sure_of(body: ConfirmedRequest) -> Confirmation:
    """Return what was said with a change that was looked at first."""
    return Confirmation(
        body.confirm, (body.expect.gained, body.expect.lost, body.expect.changed) if body.expect else None
    )


def sure_of_query(query: ConfirmedQuery) -> Confirmation:
    """Return what was said with a removal that was looked at first."""
    seen = (query.gained, query.lost, query.changed)
    expect = (
        (query.gained or 0, query.lost or 0, query.changed or 0)
        if any(each is not None for each in seen)
        else None
    )
    return Confirmation(query.confirm, expect)


def wish_of(body: CreateAssignmentRequest) -> AssignmentRequest:
    """Return what is asked for."""
    return AssignmentRequest(
        body.application,
        body.role,
        body.user,
        body.source,
        body.group,
        body.from_,
        body.until,
        body.note,
        body.everyone,
        body.rule,
        body.pattern,
        body.excludes,
        body.new_users_only,
        tuple(body.confirmed),
        body.plan,
        body.future_users,
        body.expression,
    )
