"""Signing in and out, the operator's own tokens, and the operators."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app, g, jsonify, make_response

from dravo.core.instants import parse_instant
from dravo.services import settings
from dravo.services.changes import setting_effects
from dravo.services.changes.effects import PreviewedEffects
from dravo.services.reporting import access_flow, overview
from dravo.services.reporting.access_flow import Flow
from dravo.services.reporting.overview import Overview
from dravo.services.security import api_tokens, operator_sso, operators, passwords, second_factor
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.api_tokens import ApiTokenLine, NewApiToken
from dravo.services.security.operator_kinds import NewOperator, OperatorEdit
from dravo.services.security.operator_sso import OperatorLinks
from dravo.services.security.operators import OperatorLine, OperatorWithPassword
from dravo.services.security.sessions import OperatorSessionLine, Session
from dravo.services.settings import SettingLine
from dravo.services.sign_in import sessions as user_sessions
from dravo.store.pagination import ItemList, Page
from dravo.web import cookies
from dravo.web.api.auth import (
    ALL,
    api_blueprint,
    app_context,
    caller,
    jobs_registry,
    keep_session,
    needs,
    page_request,
)
from dravo.web.api.openapi import responses
from dravo.web.api.routes.own.second_factor import PasskeyOffer, proof_of
from dravo.web.api.schemas.common import IdPath, PageQuery
from dravo.web.api.schemas.jobs import JobPath
from dravo.web.api.schemas.operators import (
    ChangeOperatorRequest,
    ChangePasswordRequest,
    CreateOperatorRequest,
    PasswordRequest,
    PasswordSignInRequest,
    SignInRequest,
)
from dravo.web.api.schemas.settings import SettingPath, SettingRequest
from dravo.web.api.schemas.tokens import ApiTokensQuery, CreateApiTokenRequest
from dravo.web.callers import place

routes = api_blueprint("session")


@dataclass
class Job:
    """The progress of a job."""

    done: int
    total: int


@routes.post("/session", responses=responses("operators.Session"))
@needs("nothing")
def sign_in(body: SignInRequest) -> Response:
    """Sign in with a password.

    Sets the session cookie. Requires a code or a passkey if a second factor is set up.
    """
    limiter, proof = current_app.config["SIGN_IN_LIMITER"], proof_of(body)
    secret, told = operator_sessions.sign_in(app_context(), limiter, body.name, body.password, place(), proof)
    response = make_response(jsonify(told))
    keep_session(response, secret)
    return response


@routes.post("/session/passkey", responses=responses("second_factors.PasskeyOffer"))
@needs("nothing")
def ask_for_passkey(body: PasswordRequest) -> PasskeyOffer:
    """Ask for a passkey to sign in.

    Requires name and password. Returns the challenge, or null without passkeys.
    """
    limiter = current_app.config["SIGN_IN_LIMITER"]
    found = operator_sessions.ask_passkey(app_context(), limiter, body.name, body.password, place())
    return PasskeyOffer(found)


@routes.get("/session", responses=responses("operators.Session"))
@needs("own.read", of=ALL, before_factor=True)
def session() -> Session:
    """Get your session.

    Returns the operator and the permissions.
    """
    who = caller()
    return operator_sessions.session_line(who, g.get("csrf", ""))


@routes.delete("/session", responses=responses("operators.LogoutUrl"))
@needs("own.read", of=ALL, before_factor=True)
def sign_out() -> Response:
    """Sign out.

    Returns the logout URL of the provider, if the operator signed in through a source.
    """
    onward = user_sessions.leave_as_operator(app_context(), caller(), str(current_app.config["PUBLIC_URL"]))
    response = make_response(jsonify({"go_to": onward}))
    cookies.forget(response, cookies.OPERATOR)
    return response


@routes.get("/session/others", responses=responses("operators.OperatorSessions"))
@needs("own.read", of=ALL)
def list_own_sessions() -> ItemList[OperatorSessionLine]:
    """List your sessions.

    Includes the current session.
    """
    return operator_sessions.sessions(app_context(), caller())


@routes.delete("/session/others", responses=responses("operators.OperatorSessions"))
@needs("own.change", of=ALL)
def end_other_sessions() -> ItemList[OperatorSessionLine]:
    """End your other sessions.

    The current session stays.
    """
    return operator_sessions.end_other_sessions(app_context(), caller())


@routes.put("/session/password", responses={204: None})
@needs("own.change", of=ALL)
def change_password(body: ChangePasswordRequest) -> Response:
    """Change your password.

    Requires the current password. Other sessions end.
    """
    limiter = current_app.config["SIGN_IN_LIMITER"]
    passwords.change_own(
        app_context(), caller(), limiter, body.present, body.password, revoke_tokens=body.revoke_tokens
    )
    return Response(status=204)


@routes.get("/session/links", responses=responses("operators.OperatorLinks"))
@needs("own.read", of=ALL)
def list_own_links() -> OperatorLinks:
    """List your linked sources.

    Returns the sources through which you sign in, and those that you can link.
    """
    return _own_links()


def _own_links() -> OperatorLinks:
    return operator_sso.mine(app_context(), caller(), g.get("csrf", ""))


@routes.delete("/session/links/<id>", responses=responses("operators.OperatorLinks"))
@needs("own.change", of=ALL)
def unlink(path: IdPath) -> OperatorLinks:
    """Unlink a source.

    You cannot unlink the only source while password sign-in is disabled.
    """
    operator_sso.unlink(app_context(), caller(), path.id)
    return _own_links()


@routes.put("/session/links", responses=responses("operators.OperatorLinks"))
@needs("own.change", of=ALL)
def set_only_by_source(body: PasswordSignInRequest) -> OperatorLinks:
    """Enable or disable password sign-in.

    To disable it, you must have signed in through a source and have recovery codes.
    """
    operator_sso.set_only_by_source(app_context(), caller(), only=body.only_by_source)
    return _own_links()


@routes.get("/jobs/<id>", responses=responses("jobs.Job"))
@needs("own.read", of=ALL)
def how_far(path: JobPath) -> Job:
    """Get the progress of a job.

    The ID is the value of the header Dravo-Job of your own request.
    """
    found = jobs_registry().get(caller().operator_id, path.id)
    return Job(done=found.done, total=found.total)


@routes.delete("/jobs/<id>", responses={204: None})
@needs("own.read", of=ALL)
def stop_work(path: JobPath) -> Response:
    """Stop a job.

    Stops work of your own request. Nothing is changed by it.
    """
    jobs_registry().stop(caller().operator_id, path.id)
    return Response(status=204)


@routes.get("/overview", responses=responses("overview.Overview"))
@needs("own.read", of=ALL)
def band() -> Overview:
    """Get the numbers of all stages.

    Returns for each stage the number of objects, and how many need attention.
    """
    return overview.band(app_context())


@routes.get("/overview/flow", responses=responses("overview.Flow"))
@needs("access.read")
def flow() -> Flow:
    """Get the access flow.

    The largest paths from sources through groups and roles to applications.
    """
    return access_flow.shown(app_context())


@routes.get("/settings", responses=responses("settings.OrganizationSettings"))
@needs("own.read", of=ALL)
def list_settings() -> ItemList[SettingLine]:
    """List organization settings.

    Settings with group, value, default, unit and bounds.
    """
    return settings.list_settings(app_context())


@routes.put("/settings/<name>", responses=responses("settings.OrganizationSettings"))
@needs("settings.change")
def change_setting(path: SettingPath, body: SettingRequest) -> ItemList[SettingLine]:
    """Change an organization setting.

    The value must have the kind of the setting and be within its bounds.
    """
    return settings.change(app_context(), caller(), path.name, body.value)


@routes.post("/settings/<name>/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("settings.change")
def preview_setting(path: SettingPath, body: SettingRequest) -> PreviewedEffects:
    """Preview an organization setting.

    Returns the effects of another value. Changes nothing.
    """
    return setting_effects.preview(app_context(), path.name, body.value).shown()


@routes.get("/tokens", responses=responses("tokens.PageOfApiTokens"))
@needs("own.read", of=ALL)
def tokens(query: ApiTokensQuery) -> Page[ApiTokenLine]:
    """List API tokens.

    Your tokens, or those of all operators for super administrators.
    """
    return api_tokens.tokens(app_context(), caller(), page_request(query), of_all=query.whose == "all")


@routes.post("/tokens", responses=responses("tokens.NewApiToken", 201))
@needs("own.change", of=ALL)
def add_token(body: CreateApiTokenRequest) -> tuple[NewApiToken, int]:
    """Create an API token.

    Returns the token once. It cannot have more permissions than you.
    """
    expires = parse_instant(body.expires_at, "expires_at") if body.expires_at else None
    return api_tokens.create(app_context(), caller(), body.label, body.scope, expires, body.permissions), 201


@routes.delete("/tokens/<id>", responses={204: None})
@needs("own.change", of=ALL)
def revoke_token(path: IdPath) -> Response:
    """Revoke an API token.

    Your own, or that of any operator for super administrators.
    """
    api_tokens.revoke(app_context(), caller(), path.id)
    return Response(status=204)


@routes.get("/operators", responses=responses("operators.PageOfOperators"))
@needs("operators.read")
def list_operators(query: PageQuery) -> Page[OperatorLine]:
    """List operators.

    Operators with their kind and sign-in options.
    """
    return operators.list_operators(app_context(), page_request(query))


@routes.post("/operators", responses=responses("operators.NewOperator", 201))
@needs("operators.change")
def add_operator(body: CreateOperatorRequest) -> tuple[OperatorWithPassword, int]:
    """Create an operator.

    Returns the generated password once.
    """
    return operators.add(
        app_context(),
        caller(),
        NewOperator(**body.model_dump(exclude={"password"})),
        body.password,
    ), 201


@routes.patch("/operators/<id>", responses=responses("operators.Operator"))
@needs("operators.change")
def change_operator(path: IdPath, body: ChangeOperatorRequest) -> OperatorLine:
    """Change an operator.

    Permissions change at once, for sessions and tokens too. The last super administrator keeps the kind.
    """
    return operators.change(app_context(), caller(), path.id, OperatorEdit(**body.model_dump()))


@routes.post("/operators/<id>/second-factor/reset", responses=responses("operators.Operator"))
@needs("operators.change")
def reset_second_factor(path: IdPath) -> OperatorLine:
    """Reset an operator's second factor.

    For operators who lost the app and the recovery codes.
    """
    second_factor.reset(app_context(), caller(), path.id)
    return operators.one(app_context(), path.id)


@routes.post("/operators/<id>/password", responses=responses("operators.NewOperator"))
@needs("operators.change")
def give_new_password(path: IdPath) -> OperatorWithPassword:
    """Reset the password of an operator.

    Returns the new password once, revokes tokens and enables password sign-in.
    """
    return passwords.give_new(app_context(), caller(), path.id)


@routes.post("/operators/<id>/disable", responses=responses("operators.Operator"))
@needs("operators.change")
def disable_operator(path: IdPath) -> OperatorLine:
    """Disable an operator.

    Ends the sessions and tokens of the operator. The last super administrator cannot be disabled.
    """
    return operators.disable(app_context(), caller(), path.id)


@routes.post("/operators/<id>/enable", responses=responses("operators.Operator"))
@needs("operators.change")
def enable_operator(path: IdPath) -> OperatorLine:
    """Enable a disabled operator.

    The password, the second factor and the tokens of the operator work again.
    """
    return operators.enable(app_context(), caller(), path.id)
