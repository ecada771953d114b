"""Local users and groups: those of no source, that operators enter here."""

from __future__ import annotations

from flask import Response

from dravo.core.identity.local_fields import LocalFields
from dravo.services.access import user_detail
from dravo.services.access.user_detail import UserDetail
from dravo.services.changes.preview import Preview
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.sources import membership_authority
from dravo.store.queries.groups import GroupDetail, GroupLine
from dravo.web.api.auth import app_context, caller, needs
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of, sure_of_query

# In the same blueprint, because one path must be described by one blueprint.
from dravo.web.api.routes.users import routes
from dravo.web.api.schemas.common import ConfirmedQuery, IdPath
from dravo.web.api.schemas.groups import AuthorityRequest
from dravo.web.api.schemas.local import (
    ChangeGroupRequest,
    GroupRequest,
    LocalUserFields,
    LocalUserRequest,
    MembersRequest,
)
from dravo.web.api.schemas.users import UserPath

_SURE = {"confirm", "expect"}


def _shown(user: str) -> UserDetail:
    return user_detail.user(app_context(), user)


@routes.post("/users", responses=responses("users.User", 201))
@needs("users.change")
def add_user(body: LocalUserFields) -> tuple[UserDetail, int]:
    """Create a local user.

    The user name and the email must not belong to another user.
    """
    return _shown(local_users.add(app_context(), caller(), body.model_dump())), 201


@routes.put("/users/<user>", responses=responses("users.User"))
@needs("users.change")
def change_user(path: UserPath, body: LocalUserRequest) -> UserDetail:
    """Change a local user.

    Replaces all attributes of the local record.
    """
    return _shown(
        local_users.change(app_context(), caller(), path.user, body.model_dump(exclude=_SURE), sure_of(body))
    )


@routes.get("/users/<user>/local", responses=responses("local.LocalUser"))
@needs("attributes.read")
def get_local_user(path: UserPath) -> LocalFields:
    """Get the attributes of a local user.

    As fields, to change them.
    """
    return local_users.fields_of(app_context(), path.user)


@routes.post("/users/<user>/preview", responses=responses("access.assignments.Preview"))
@needs("attributes.read")
def preview_user(path: UserPath, body: LocalUserRequest) -> Preview:
    """Preview a changed local user.

    Returns the roles that would change. Changes nothing.
    """
    return local_users.preview(app_context(), path.user, body.model_dump(exclude=_SURE))


@routes.delete("/users/<user>", responses={204: None})
@needs("users.change")
def remove_user(path: UserPath, query: ConfirmedQuery) -> Response:
    """Mark a local user as left.

    The access of the user ends. Large changes require `confirm`.
    """
    local_users.remove(app_context(), caller(), path.user, sure_of_query(query))
    return Response(status=204)


@routes.get("/users/<user>/removal", responses=responses("access.assignments.Preview"))
@needs("access.read")
def preview_removing_user(path: UserPath) -> Preview:
    """Preview a user leaving.

    Returns the roles that would end. Changes nothing.
    """
    return local_users.preview(app_context(), path.user, None)


@routes.post("/groups", responses=responses("groups.Group", 201))
@needs("groups.change")
def add_group(body: GroupRequest) -> tuple[GroupLine, int]:
    """Create a local group.

    The name must be unique among local groups.
    """
    return local_groups.add(app_context(), caller(), body.name, body.description), 201


@routes.patch("/groups/<id>", responses=responses("groups.Group"))
@needs("groups.change")
def change_group(path: IdPath, body: ChangeGroupRequest) -> GroupLine:
    """Change a local group.

    Changes the name or the description. Groups of a source are changed at their source.
    """
    return local_groups.change(app_context(), caller(), path.id, body.name, body.description)


@routes.delete("/groups/<id>", responses={204: None})
@needs("groups.change")
def remove_group(path: IdPath, query: ConfirmedQuery) -> Response:
    """Delete a local group.

    Its assignments end. Large changes require `confirm`.
    """
    local_groups.remove(app_context(), caller(), path.id, sure_of_query(query))
    return Response(status=204)


@routes.get("/groups/<id>/removal", responses=responses("access.assignments.Preview"))
@needs("access.read")
def preview_removing_group(path: IdPath) -> Preview:
    """Preview the deletion of a group.

    Returns the users who would lose or change roles. Changes nothing.
    """
    return local_groups.preview_removing(app_context(), path.id)


@routes.post("/groups/<id>/members", responses=responses("groups.Group"))
@needs("groups.change")
def change_members(path: IdPath, body: MembersRequest) -> GroupLine:
    """Add and remove group members.

    Only for local groups, and groups whose members are managed in Dravo. Large changes require `confirm`.
    """
    return local_groups.change_members(app_context(), caller(), path.id, _members(body), sure_of(body))


@routes.post("/groups/<id>/members/preview", responses=responses("access.assignments.Preview"))
@needs("access.read")
def preview_members(path: IdPath, body: MembersRequest) -> Preview:
    """Preview changed group members.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return local_groups.preview_members(app_context(), path.id, _members(body))


@routes.put("/groups/<id>/authority", responses=responses("groups.GroupDetail"))
@needs("sources.change")
def change_authority(path: IdPath, body: AuthorityRequest) -> GroupDetail:
    """Change who decides about group members.

    Only for groups of sources. Large changes require `confirm`.
    """
    return membership_authority.change_group(
        app_context(), caller(), path.id, _authority(body), sure_of(body)
    )


@routes.post("/groups/<id>/authority/preview", responses=responses("access.assignments.Preview"))
@needs("access.read")
def preview_authority(path: IdPath, body: AuthorityRequest) -> Preview:
    """Preview a changed membership authority.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return membership_authority.preview_group(app_context(), path.id, _authority(body))


def _authority(body: AuthorityRequest) -> str | None:
    return None if body.members_from == "source" else body.members_from


def _members(body: MembersRequest) -> Members:
    return Members(tuple(body.add), tuple(body.remove), tuple(body.add_groups), tuple(body.remove_groups))
