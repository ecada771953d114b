"""Signing in by sources: settings with the setup checklist, test sign-ins, traces, and what visitors are
told.
"""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app, jsonify

from dravo.services.changes.effects import PreviewedEffects
from dravo.services.ingest import claimed_groups
from dravo.services.ingest.claimed_groups import GroupInClaims, GroupMadeAhead
from dravo.services.notifications import mail_server
from dravo.services.notifications.mail_server import MailSettings, MailTested
from dravo.services.security.permissions import SIGN_INS
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import eligibility, email_codes, setup_checklist, test_sign_ins
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.eligibility import PlannedSignIn, SignInOptions
from dravo.services.sign_in.keys import UploadedKey
from dravo.services.sign_in.sessions import UserSession
from dravo.services.sign_in.settings import check as settings_check
from dravo.services.sign_in.settings import protocol_change, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.check import SignInCheck
from dravo.services.sign_in.setup_checklist import SignInSetup
from dravo.services.sign_in.start import SignInForEmail
from dravo.services.sign_in.test_sign_ins import NewSignInTest, SignInTest
from dravo.services.sign_in.traces import SIGNED_IN, SignInLine, SignInTrace
from dravo.store.pagination import ItemList, Page
from dravo.store.sign_in.traces import TraceFilter
from dravo.web import cookies
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.common import KeyPath, PageQuery
from dravo.web.api.schemas.settings import MailRequest, TestMailRequest
from dravo.web.api.schemas.sources.sign_in import (
    ChangeProtocolRequest,
    ClaimedGroupRequest,
    ClaimedQuery,
    CreateTestSignInRequest,
    KeysRequest,
    RequestCodeRequest,
    RerunRequest,
    SignInForEmailQuery,
    SignInSettingsRequest,
    SignInStatusRequest,
    SignInTracePath,
    SignInTracesQuery,
    VerifyCodeRequest,
)
from dravo.web.api.schemas.users import UserPath
from dravo.web.callers import place

routes = api_blueprint("signing in")


@dataclass
class CodeSent:
    """A requested code; send `state` back with it."""

    state: str
    source: str
    minutes: int


@dataclass
class CodeResult:
    """The result of a code: "signed_in", "observed" or "refused"."""

    outcome: str
    back: str
    message: str
    support_contact: str
    trace: str


def _base() -> str:
    return str(current_app.config["PUBLIC_URL"])


@routes.get("/sources/<key>/sign-in", responses=responses("sources.sign_in.SignIn"))
@needs("sources.read")
def get_sign_in(path: KeyPath) -> SignInSetup:
    """Get the sign-in settings.

    Returns the settings and the setup checklist, without the secret.
    """
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.put("/sources/<key>/sign-in", responses=responses("sources.sign_in.SignIn"))
@needs("sources.change")
def change_sign_in(path: KeyPath, body: SignInSettingsRequest) -> SignInSetup:
    """Change the sign-in settings.

    Omitted fields keep their value. Incomplete settings can be saved.
    """
    sign_in_settings.change(app_context(), caller(), path.key, body.model_dump())
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.post("/sources/<key>/sign-in/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("sources.change")
def preview_sign_in(path: KeyPath, body: SignInSettingsRequest) -> PreviewedEffects:
    """Preview sign-in settings.

    Returns the effects of other settings. Changes nothing, and fetches nothing from the provider.
    """
    return rollout.preview_settings(app_context(), caller(), path.key, body.model_dump()).shown()


@routes.post("/sources/<key>/sign-in/check", responses=responses("sources.sign_in.SignInCheck"))
@needs("sources.change")
def check_sign_in(path: KeyPath, body: SignInSettingsRequest) -> SignInCheck:
    """Test sign-in settings.

    Asks the provider with the given settings, before they are saved. Omitted fields have their saved value.
    Changes nothing.
    """
    return settings_check.check(app_context(), caller(), path.key, body.model_dump(), _base())


@routes.post("/sources/<key>/sign-in/protocol", responses=responses("sources.sign_in.SignIn"))
@needs("sources.change")
def change_protocol(path: KeyPath, body: ChangeProtocolRequest) -> SignInSetup:
    """Change the sign-in protocol.

    The sign-in must be disabled. Users keep their access, and are matched again at their next sign-in.
    """
    protocol_change.change(app_context(), caller(), path.key, body.protocol, body.confirm)
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.post(
    "/sources/<key>/sign-in/protocol/preview", responses=responses("access.assignments.ChangeEffects")
)
@needs("sources.read")
def preview_protocol(path: KeyPath, body: ChangeProtocolRequest) -> PreviewedEffects:
    """Preview another sign-in protocol.

    Returns what would be kept and deleted. Changes nothing.
    """
    return protocol_change.preview(app_context(), path.key, body.protocol).shown()


@routes.delete("/sources/<key>/sign-in", responses={204: None})
@needs("sources.change")
def forget_sign_in(path: KeyPath) -> Response:
    """Remove the sign-in of a source.

    Its users stay. Sessions through it end.
    """
    sign_in_settings.forget(app_context(), caller(), path.key)
    return Response(status=204)


@routes.post("/sources/<key>/sign-in/status", responses=responses("sources.sign_in.SignIn"))
@needs("sources.change")
def set_sign_in_status(path: KeyPath, body: SignInStatusRequest) -> SignInSetup:
    """Change the sign-in status.

    Enabling untested settings requires the label in `confirm`.
    """
    rollout.set_status(app_context(), caller(), path.key, body.status, body.enabled_from, body.confirm)
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.post("/sources/<key>/sign-in/status/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("sources.read")
def preview_sign_in_status(path: KeyPath, body: SignInStatusRequest) -> PreviewedEffects:
    """Preview a sign-in status.

    Returns the sessions that would end and who could sign in. Changes nothing.
    """
    return rollout.preview_status(app_context(), caller(), path.key, body.status).shown()


@routes.post("/sources/<key>/sign-in/certificates", responses=responses("sources.sign_in.SignIn"))
@needs("sources.change")
def use_certificates(path: KeyPath) -> SignInSetup:
    """Accept new certificates.

    Accepts the certificates from the metadata of the provider.
    """
    sign_in_settings.use_waiting_certificates(app_context(), caller(), path.key)
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.post("/sources/<key>/sign-in/keys", responses=responses("sources.sign_in.SignIn"))
@needs("sources.change")
def change_keys(path: KeyPath, body: KeysRequest) -> SignInSetup:
    """Rotate the key of Dravo.

    `next` creates the next key, `upload` takes one of yours as the next key, `use` activates it.
    """
    uploaded = UploadedKey(body.private_key, body.certificate)
    sign_in_settings.change_keys(app_context(), caller(), path.key, body.what, uploaded)
    return setup_checklist.shown(app_context(), caller(), path.key, _base())


@routes.get("/sources/<key>/sign-in/tests", responses=responses("sources.sign_in.PageOfSignInTests"))
@needs("sources.read")
def list_sign_in_tests(path: KeyPath, query: PageQuery) -> Page[SignInTest]:
    """List test sign-ins.

    Test sign-ins with their status, newest first.
    """
    return test_sign_ins.list_test_sign_ins(app_context(), path.key, page_request(query))


@routes.post("/sources/<key>/sign-in/tests", responses=responses("sources.sign_in.NewSignInTest", 201))
@needs("sources.change")
def create_sign_in_test(path: KeyPath, body: CreateTestSignInRequest) -> tuple[NewSignInTest, int]:
    """Create a test sign-in.

    Returns the link for one user once.
    """
    wanted = test_sign_ins.NewTestSignIn(user=body.user, mode=body.mode, minutes=body.minutes)
    return test_sign_ins.begin(app_context(), caller(), path.key, wanted, _base()), 201


@routes.get("/sources/<key>/sign-in/traces", responses=responses("sources.sign_in.PageOfSignIns"))
@needs("sign_ins.read")
def list_sign_ins(path: KeyPath, query: SignInTracesQuery) -> Page[SignInLine]:
    """List sign-ins.

    Sign-ins with their outcome, newest first.
    """
    only = TraceFilter(query.outcome, query.sign_in_test, query.q)
    return sign_in_traces.list_traces(app_context(), path.key, page_request(query), only)


@routes.get("/sources/<key>/sign-in/traces/<trace>", responses=responses("sources.sign_in.SignInTrace"))
@needs("sign_ins.read")
def get_sign_in_trace(path: SignInTracePath) -> SignInTrace:
    """Get a sign-in trace.

    Returns the steps, the received claims and the result.
    """
    return sign_in_traces.one(app_context(), caller(), path.key, path.trace)


@routes.post(
    "/sources/<key>/sign-in/traces/<trace>/rerun", responses=responses("sources.sign_in.PlannedSignIn")
)
@needs("attributes.read")
def plan_again(path: SignInTracePath, body: RerunRequest) -> PlannedSignIn:
    """Evaluate a sign-in again.

    Uses the current settings or the given policy. Changes nothing. Needs the permission `sign_ins.read` too.
    """
    caller().require(SIGN_INS)
    return eligibility.plan_again(app_context(), path.key, path.trace, body.policy.model_dump())


@routes.get("/claimed-groups", responses=responses("sources.sign_in.GroupsInClaims"))
@needs("users.read")
def list_claimed_groups(query: ClaimedQuery) -> ItemList[GroupInClaims]:
    """List groups from claims.

    Groups in claims of sign-ins that do not exist in their source yet.
    """
    return claimed_groups.seen(app_context(), query.q)


@routes.post("/sources/<key>/sign-in/groups", responses=responses("sources.sign_in.GroupMadeAhead", 201))
@needs("groups.change")
def make_claimed_group(path: KeyPath, body: ClaimedGroupRequest) -> tuple[GroupMadeAhead, int]:
    """Create a group from claims.

    Creates the group, so that it can be mapped before the first sign-in.
    """
    return claimed_groups.make(app_context(), caller(), path.key, body.name), 201


@routes.get("/users/<user>/sessions", responses=responses("sources.sign_in.UserSessions"))
@needs("users.read")
def list_sessions(path: UserPath) -> ItemList[UserSession]:
    """List sessions of a user.

    Current sessions with source and times.
    """
    return user_sessions.of_user(app_context(), path.user)


@routes.get("/users/<user>/sign-in-options", responses=responses("sources.sign_in.SignInOptions"))
@needs("users.read")
def list_ways(path: UserPath) -> SignInOptions:
    """List sign-in options of a user.

    Shows which sources allow the user, and why others refuse.
    """
    return eligibility.of_user(app_context(), path.user)


@routes.delete("/users/<user>/sessions", responses=responses("sources.sign_in.UserSessions"))
@needs("users.change")
def end_sessions(path: UserPath) -> ItemList[UserSession]:
    """End all sessions of a user.

    The user must sign in again.
    """
    return user_sessions.end_of_user(app_context(), caller(), path.user)


# Mail


@routes.get("/mail", responses=responses("settings.MailSettings"))
@needs("audit.read")
def get_mail() -> MailSettings:
    """Get the email server.

    Returns the settings and the last error, without the password.
    """
    return mail_server.shown(app_context())


@routes.put("/mail", responses=responses("settings.MailSettings"))
@needs("settings.change")
def change_mail(body: MailRequest) -> MailSettings:
    """Change the email server.

    Omitted fields keep their value. The password is stored encrypted.
    """
    return mail_server.change(app_context(), caller(), body.model_dump())


@routes.post("/mail/test", responses=responses("settings.MailTested"))
@needs("settings.change")
def test_mail(body: TestMailRequest) -> MailTested:
    """Send a test email.

    Returns the error of the server if it refuses the email.
    """
    return mail_server.test(app_context(), caller(), body.to)


# What everyone else sees


@routes.get("/sign-in", responses=responses("sources.sign_in.SignInForEmail"))
@needs("nothing")
def where_to_sign_in(query: SignInForEmailQuery) -> SignInForEmail:
    """Find the source of an email.

    Returns the sign-in for the domain. Does not reveal whether the address exists.
    """
    return sign_in_start.source_for_email(app_context(), query.email)


@routes.post("/sign-in/code", responses=responses("sources.sign_in.CodeSent"))
@needs("nothing")
def ask_for_code(body: RequestCodeRequest) -> Response:
    """Request a sign-in code.

    Sends a code if the address can sign in. Does not reveal whether it can.
    """
    address = place()
    _limiter().check(address)
    wanted = email_codes.CodeRequest(
        email=body.email,
        network=address,
        browser=cookies.read(cookies.BROWSER),
        sign_in_test=body.sign_in_test,
        back=body.back,
        source=body.source,
    )
    asked = email_codes.ask(app_context(), current_app.config["LETTER_LIMITER"], _base(), wanted)
    _limiter().failed(address)
    response = jsonify(
        CodeSent(
            state=asked.state,
            source=asked.source,
            minutes=asked.minutes,
        )
    )
    cookies.keep(response, cookies.BROWSER, asked.browser, email_codes.SECONDS)
    return response


@routes.post("/sign-in/code/verify", responses=responses("sources.sign_in.CodeResult"))
@needs("nothing")
def give_code(body: VerifyCodeRequest) -> Response:
    """Verify a sign-in code.

    Signs the user in. The code works once, in the browser that requested it.
    """
    entered = email_codes.EnteredCode(
        state=body.state,
        code=body.code,
        browser=cookies.read(cookies.BROWSER),
        given_name=body.given_name,
        family_name=body.family_name,
    )
    came = email_codes.verify(app_context(), _base(), entered)
    if came.outcome == SIGNED_IN:
        _limiter().worked(place())
    response = jsonify(
        CodeResult(
            outcome=came.outcome,
            back=came.back,
            message=came.message,
            support_contact=came.support_contact,
            trace=came.trace,
        )
    )
    if came.user_session:
        cookies.keep(response, cookies.USER, came.user_session, 7 * 86_400)
    response.headers["Cache-Control"] = "no-store"
    return response


def _limiter() -> RateLimiter:
    found: RateLimiter = current_app.config["SSO_LIMITER"]
    return found
