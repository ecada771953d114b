"""Source policies: one for each connection type of a source, with its status."""

from __future__ import annotations

from flask import Response

from dravo.services.changes.effects import PreviewedEffects
from dravo.services.policies import group_matches, inbound, policies, preview
from dravo.services.policies.group_matches import GroupMatches
from dravo.services.policies.inbound import RecordStanding
from dravo.services.policies.policies import SourcePolicyDetail, StatusChange
from dravo.services.policies.preview import PolicyPreview
from dravo.services.sources import links_ahead
from dravo.services.sources.links_ahead import LinkAhead, LinkWish
from dravo.store.pagination import ItemList, Page
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.common import KeyPath, PageQuery
from dravo.web.api.schemas.sources.policies import (
    AcceptedGroupsRequest,
    LeftOutQuery,
    LinkAheadRequest,
    LinkPath,
    PolicyPath,
    PolicyStatusRequest,
    SourcePolicyFields,
)

routes = api_blueprint("policies")


@routes.get("/sources/<key>/policy", responses=responses("sources.policies.SourcePolicies"))
@needs("sources.read")
def list_policies(path: KeyPath) -> ItemList[SourcePolicyDetail]:
    """List the policies of a source.

    One for each connection type that the source uses.
    """
    return policies.list_policies(app_context(), path.key)


@routes.get(
    "/sources/<key>/policy/<connection_type>", responses=responses("sources.policies.SourcePolicyDetail")
)
@needs("sources.read")
def get_policy(path: PolicyPath) -> SourcePolicyDetail:
    """Get the policy of a connection type.

    Returns the policy and the status. For inbound SCIM also how many records count, are left out and wait.
    """
    return policies.one(app_context(), path.key, path.connection_type)


@routes.put(
    "/sources/<key>/policy/<connection_type>", responses=responses("sources.policies.SourcePolicyDetail")
)
@needs("sources.change")
def change_policy(path: PolicyPath, body: SourcePolicyFields) -> SourcePolicyDetail:
    """Change the policy of a connection type.

    Omitted fields keep their value. For inbound SCIM, Dravo applies the policy to all stored records in the
    background. For imports it applies from the next run, for sign-ins from the next sign-in.
    """
    return policies.change(app_context(), caller(), path.key, path.connection_type, body.model_dump())


@routes.post(
    "/sources/<key>/policy/<connection_type>/preview",
    responses=responses("sources.policies.PolicyPreview"),
)
@needs("attributes.read")
def preview_policy(path: PolicyPath, body: SourcePolicyFields) -> PolicyPreview:
    """Preview a policy of a connection type.

    Evaluates the policy with the stored records. Changes nothing.
    """
    return preview.try_policy(app_context(), path.key, path.connection_type, body.model_dump())


@routes.put(
    "/sources/<key>/policy/<connection_type>/status",
    responses=responses("sources.policies.SourcePolicyDetail"),
)
@needs("sources.change")
def change_policy_status(path: PolicyPath, body: PolicyStatusRequest) -> SourcePolicyDetail:
    """Change the status of a connection type.

    A disabled source stores what it receives and changes nothing. A pilot needs a pilot group in the policy.
    A sign-in that was not tested requires `confirm`.
    """
    wish = StatusChange(body.status, body.enabled_from, body.confirm)
    return policies.set_status(app_context(), caller(), path.key, path.connection_type, wish)


@routes.post(
    "/sources/<key>/policy/<connection_type>/status/preview",
    responses=responses("access.assignments.ChangeEffects"),
)
@needs("access.read")
def preview_policy_status(path: PolicyPath, body: PolicyStatusRequest) -> PreviewedEffects:
    """Preview a status of a connection type.

    Returns how many users would be created, change, leave and wait. Changes nothing.
    """
    ctx = app_context()
    return preview.preview_status(ctx, caller(), path.key, path.connection_type, body.status).shown()


@routes.post("/sources/<key>/group-matches", responses=responses("sources.policies.GroupMatches"))
@needs("sources.read")
def find_group_matches(path: KeyPath, body: AcceptedGroupsRequest) -> GroupMatches:
    """Find the groups that a choice names.

    Groups of the source that have one of the names or IDs, or match the pattern, now. Changes nothing.
    """
    return group_matches.find(app_context(), path.key, body.model_dump())


@routes.get("/sources/<key>/left-out", responses=responses("sources.policies.PageOfRecordStandings"))
@needs("attributes.read")
def list_left_out(path: KeyPath, query: LeftOutQuery) -> Page[RecordStanding]:
    """List records that do not count.

    Records of inbound SCIM that the policy leaves out, or of which a change waits.
    """
    return inbound.standings(app_context(), path.key, page_request(query), query.reason)


@routes.get("/sources/<key>/links", responses=responses("sources.policies.PageOfLinksAhead"))
@needs("attributes.read")
def list_links(path: KeyPath, query: PageQuery) -> Page[LinkAhead]:
    """List links ahead of the first record.

    Oldest first. A link disappears when its record arrives.
    """
    return links_ahead.list_links(app_context(), path.key, page_request(query))


@routes.post("/sources/<key>/links", responses=responses("sources.policies.LinkAhead", 201))
@needs("sources.change")
def add_link(path: KeyPath, body: LinkAheadRequest) -> tuple[LinkAhead, int]:
    """Link a subject ahead of its first record.

    The first sign-in with the subject, or the first import with the ID, is linked to the user. Only a user
    without a record of this source can be linked.
    """
    wish = LinkWish(body.connection_type, body.subject, body.user)
    return links_ahead.add(app_context(), caller(), path.key, wish), 201


@routes.delete("/sources/<key>/links/<link_id>", responses={204: None})
@needs("sources.change")
def remove_link(path: LinkPath) -> Response:
    """Remove a link ahead of the first record.

    The record is then matched by the rule of the source.
    """
    links_ahead.remove(app_context(), caller(), path.key, path.link_id)
    return Response(status=204)
