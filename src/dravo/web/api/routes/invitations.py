"""Invitations and one-time passwords of local users, and the deletion of several."""

from __future__ import annotations

from flask import current_app

from dravo.core.identity.invitations import InvitationDefaults
from dravo.services.changes.preview import Preview
from dravo.services.ingest.local import removal
from dravo.services.ingest.local.removal import RemovalResult
from dravo.services.local_users import (
    invitation_plan,
    invitations,
    one_time_passwords,
    own_security,
    password_checks,
)
from dravo.services.local_users.invitation_plan import InvitationPreview, InvitationRequest
from dravo.services.local_users.invitations import InvitationLine, InvitationResult
from dravo.services.local_users.one_time_passwords import OneTimePassword
from dravo.services.local_users.own_security import LocalSignIn
from dravo.services.local_users.password_checks import CheckRequest, PasswordCheck
from dravo.services.uploads import file_content
from dravo.store.pagination import ItemList, Page
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import IdPath, KeyPath
from dravo.web.api.schemas.local_users import (
    CheckPasswordRequest,
    DeleteUsersRequest,
    InvitationsQuery,
    InviteRequest,
    UsersRequest,
)
from dravo.web.api.schemas.users import UserPath
from dravo.web.bodies import LARGEST_SINGLE

routes = api_blueprint("invitations")
# A list, or a CSV file in base64.
LARGEST = max(LARGEST_SINGLE, 6_000_000)


@routes.get("/invitations", responses=responses("local_users.PageOfInvitations"))
@needs("users.read")
def list_invitations(query: InvitationsQuery) -> Page[InvitationLine]:
    """List invitations.

    Newest first, with their status.
    """
    return invitations.list_invitations(app_context(), page_request(query), query.status, query.q)


@routes.post("/invitations", responses=responses("local_users.InvitationResult", 201))
@needs("users.change", largest=LARGEST)
def invite(body: InviteRequest) -> tuple[InvitationResult, int]:
    """Invite users.

    Creates local users, as a list or from a CSV file, and emails each a link; or creates one-time passwords,
    returned once. A line that cannot be used does not stop the others.
    """
    return invitations.invite(app_context(), caller(), _request_of(body)), 201


@routes.post("/invitations/preview", responses=responses("local_users.InvitationPreview"))
@needs("users.change", largest=LARGEST)
def preview_invitations(body: InviteRequest) -> InvitationPreview:
    """Preview an invitation.

    Returns the users with the roles that they would get, and the rejected lines. Changes nothing.
    """
    return invitation_plan.preview(app_context(), caller(), _request_of(body))


def _request_of(body: InviteRequest) -> InvitationRequest:
    return InvitationRequest(
        users=[each.model_dump() for each in body.users],
        csv=file_content(body.csv, "csv"),
        defaults=InvitationDefaults(tuple(body.groups), body.application, body.role, body.until),
        with_passwords=body.with_passwords,
        expect=body.expect,
        confirm=body.confirm,
    )


@routes.post("/invitations/<id>/resend", responses=responses("local_users.Invitation"))
@needs("users.change")
def resend_invitation(path: IdPath) -> InvitationLine:
    """Send an invitation again.

    With a new link. The previous link stops working.
    """
    return invitations.resend(app_context(), caller(), path.id)


@routes.post("/invitations/<id>/withdraw", responses=responses("local_users.Invitation"))
@needs("users.change")
def withdraw_invitation(path: IdPath) -> InvitationLine:
    """Withdraw an invitation.

    The link stops working, and the pending user is deleted.
    """
    return invitations.withdraw(app_context(), caller(), path.id)


@routes.post("/one-time-passwords", responses=responses("local_users.OneTimePasswords", 201))
@needs("users.change")
def create_one_time_passwords(body: UsersRequest) -> tuple[ItemList[OneTimePassword], int]:
    """Create one-time passwords.

    For local users, returned once. Their present passwords stop working, and their sessions end.
    """
    return one_time_passwords.create(app_context(), caller(), body.users), 201


@routes.post("/applications/<key>/password-check", responses=responses("local_users.PasswordCheck"))
@needs("passwords.check")
def check_password(path: KeyPath, body: CheckPasswordRequest) -> PasswordCheck:
    """Check a password for an application.

    For applications with their own sign-in form: returns the local user and the roles, or why the user has no
    access. Failures are limited by name and by application.
    """
    limiter, wanted = current_app.config["SIGN_IN_LIMITER"], CheckRequest(body.name, body.password, body.code)
    return password_checks.check(app_context(), limiter, path.key, wanted)


@routes.post("/local-users/delete", responses=responses("local_users.DeletedUsers"))
@needs("users.change")
def delete_users(body: DeleteUsersRequest) -> RemovalResult:
    """Delete several local users.

    Their access ends as for any user who leaves. Large changes require `confirm`.
    """
    return removal.remove(app_context(), caller(), body.users, sure_of(body))


@routes.post("/local-users/delete/preview", responses=responses("access.assignments.Preview"))
@needs("access.read")
def preview_deleting_users(body: UsersRequest) -> Preview:
    """Preview the deletion of several local users.

    Returns the roles that would end. Changes nothing.
    """
    return removal.preview(app_context(), body.users)


@routes.get("/users/<user>/local-sign-in", responses=responses("local_users.LocalSignIn"))
@needs("users.read")
def get_local_sign_in(path: UserPath) -> LocalSignIn:
    """Get how a local user signs in.

    Password, second factor and invitation.
    """
    return own_security.of_user(app_context(), path.user)


@routes.post("/users/<user>/second-factor/reset", responses=responses("local_users.LocalSignIn"))
@needs("users.change")
def reset_users_second_factor(path: UserPath) -> LocalSignIn:
    """Reset a local user's second factor.

    For users who lost the app, the passkeys and the recovery codes. Ends their sessions.
    """
    return own_security.reset_second_factor(app_context(), caller(), path.user)
