"""What signed-in users see and do: their applications, their access requests, and sign-out."""

from __future__ import annotations

from flask import Response, current_app, jsonify

from dravo.services.access.requests import asking
from dravo.services.access.requests.asking import OwnRequests
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.sessions import UserPortal
from dravo.web import cookies
from dravo.web.api.auth import USER, api_blueprint, app_context, needs, signed_in_user
from dravo.web.api.downloads import png_response
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.access.requests import RequestAccessRequest
from dravo.web.api.schemas.applications.applications import IconQuery
from dravo.web.api.schemas.common import IdPath, KeyPath

routes = api_blueprint("me")


@routes.get("/me/applications", responses=responses("sources.sign_in.UserPortal"))
@needs(USER)
def yours() -> UserPortal:
    """List your applications.

    For a signed-in user: the applications with roles, and the support contact.
    """
    return user_sessions.mine(app_context(), signed_in_user())


@routes.get("/me/applications/<key>/icon", responses={200: None})
@needs(USER)
def own_application_icon(path: KeyPath, query: IconQuery) -> Response:
    """Get the icon of your application.

    Returns a PNG image, or 404 without an icon.
    """
    image = user_sessions.icon_of(app_context(), signed_in_user(), path.key)
    return png_response(image, cached=query.version is not None)


@routes.delete("/me/session", responses=responses("operators.LogoutUrl"))
@needs(USER)
def end_own_session() -> Response:
    """Sign out a user.

    Returns the logout URL of the provider, if it has one.
    """
    known = signed_in_user()
    base = str(current_app.config["PUBLIC_URL"])
    response = jsonify({"go_to": user_sessions.leave(app_context(), known, base)})
    cookies.forget(response, cookies.USER)
    return response


@routes.get("/me/requests", responses=responses("access.requests.OwnRequests"))
@needs(USER)
def own_requests() -> OwnRequests:
    """List your access requests.

    For a signed-in user: the requests, newest first, and the applications that can be requested.
    """
    return asking.mine(app_context(), signed_in_user())


@routes.post("/me/requests", responses=responses("access.requests.OwnRequests", 201))
@needs(USER)
def request_access(body: RequestAccessRequest) -> tuple[OwnRequests, int]:
    """Request access to an application.

    For a signed-in user. The owner of the application, else administrators, get an email.
    """
    user = signed_in_user()
    return asking.request(app_context(), user, body.application, body.role, body.reason), 201


@routes.delete("/me/requests/<id>", responses=responses("access.requests.OwnRequests"))
@needs(USER)
def withdraw_request(path: IdPath) -> OwnRequests:
    """Withdraw your access request.

    The request must be open.
    """
    return asking.withdraw(app_context(), signed_in_user(), path.id)
