"""Who calls the management API, and whether the caller has the permission that the route needs."""

from __future__ import annotations

import functools
import hmac
import inspect
import re
import typing
from collections.abc import Callable
from typing import Any, TypeVar

import structlog
from flask import Flask, Response, current_app, g, request
from werkzeug.exceptions import HTTPException

from dravo.core.errors import DravoError, InvalidInput, NotPermitted, NotSignedIn, did_you_mean
from dravo.services.access import assignments
from dravo.services.context import AppContext
from dravo.services.jobs import JobRegistry
from dravo.services.security import api_tokens, masking
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.permissions import PERMISSIONS, Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.second_factor import SecondFactorMissing
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store.access.assignments import application_key
from dravo.store.access.requests import application_key as application_of_request
from dravo.store.pagination import PageRequest
from dravo.web import cookies
from dravo.web.api.errors import BodyTooLarge, InvalidJson, UnknownParameter, error_response, http_error
from dravo.web.api.openapi import ApiBlueprint
from dravo.web.api.schemas.base import ProblemAnswer
from dravo.web.api.schemas.common import PageQuery
from dravo.web.bodies import LARGEST_SINGLE, LARGEST_UNKNOWN, NoJson, read_json
from dravo.web.callers import place

CSRF_HEADER = "X-Dravo-CSRF"
PREFIX = "/api/v1"
# A caller can send a name, and use it to read the progress or to stop the work.
WORK_HEADER, WORK_NAME = "Dravo-Job", re.compile(r"[A-Za-z0-9-]{8,64}")

log = structlog.get_logger("api")
View = TypeVar("View", bound=Callable[..., Any])


# The application of a route, for application owners. Routes without one are not for them.
PATH, PATH_APPLICATION, QUERY, BODY, ASSIGNMENT, ACCESS_REQUEST, ALL = (
    "path",
    "application in the path",
    "query",
    "body",
    "assignment",
    "access request",
    "all",
)


# The permission of a user for what is their own, by the session of Your applications.
USER = "user"


def needs(
    permission: str, of: str | None = None, *, before_factor: bool = False, largest: int = LARGEST_SINGLE
) -> Callable[[View], View]:
    """Mark a route with the permission that its caller needs; unmarked routes are closed.

    Args:
        permission: the permission; "nothing" for routes without a caller, `USER` for signed-in users.
        of: where the application is named; `ALL` for routes without an application, None for routes closed to
            application owners.
        before_factor: whether operators can call the route before they set up a required second factor.
        largest: the largest body, in bytes.
    """
    assert permission in PERMISSIONS or permission in ("nothing", USER), permission

    def mark(view: View) -> View:
        view.__dict__.update(permission=permission, of=of, before_factor=before_factor, largest=largest)
        return view

    return mark


def api_blueprint(name: str) -> ApiBlueprint:
    """Return a blueprint of the management API, guarded by the door."""
    blueprint = ApiBlueprint(
        name,
        __name__,
        url_prefix=PREFIX,
        abp_security=[{"token": []}, {"session": []}],
        abp_responses={"4XX": ProblemAnswer},
    )
    blueprint.before_request(check_caller)
    blueprint.after_request(_hide_rules)
    return blueprint


def _hide_rules(response: Response) -> Response:
    """Remove the conditions of rules, which contain attribute values, from the response to a caller who may
    not read attributes.
    """
    if not masking.hidden():
        return response
    rules = assignments.rules(app_context())
    if response.is_streamed:
        pieces = response.response
        response.response = (
            masking.hide_texts(piece if isinstance(piece, bytes) else piece.encode(), rules)
            for piece in pieces
        )
    else:
        response.set_data(masking.hide_texts(response.get_data(), rules))
    return response


def app_context() -> AppContext:
    """Return the organization that the application serves."""
    opened: AppContext = current_app.config["CONTEXT"]
    return opened


def jobs_registry() -> JobRegistry:
    """Return the jobs of this process."""
    known: JobRegistry = current_app.config["WAITING"]
    return known


def caller() -> Caller:
    """Return who is calling."""
    known: Caller = g.caller
    return known


def signed_in_user() -> SignedInUser:
    """Return the signed-in user who is calling."""
    known: SignedInUser = g.visitor
    return known


def _by_user_session() -> SignedInUser:
    """Return the user of a session; a request that changes something needs its CSRF token.

    Raises:
        NotSignedIn, NotPermitted.
    """
    secret = cookies.read(cookies.USER)
    known = user_sessions.by_secret(app_context(), secret) if secret else None
    if known is None:
        raise NotSignedIn("You are not signed in.", "Sign in through your identity provider.")
    if request.method not in ("GET", "HEAD"):
        given = request.headers.get(CSRF_HEADER, "")
        if not hmac.compare_digest(given.encode(), known.csrf.encode()):
            raise NotPermitted(
                "The request does not contain the CSRF token of the session.",
                f"Reload the page. Programs send the token in the header {CSRF_HEADER}.",
            )
    return known


def page_request(query: PageQuery) -> PageRequest:
    """Return the page that a query names."""
    return PageRequest(query.after, query.count)


def check_caller() -> None:
    """Authenticate the caller, and check the permission.

    Raises:
        NotSignedIn, NotPermitted, TooManyTries.
    """
    view = current_app.view_functions[request.endpoint or ""]
    permission = getattr(view, "permission", None)
    if permission == "nothing":
        _check_body(LARGEST_UNKNOWN)
        return
    if permission == USER:
        g.visitor = _by_user_session()
        _check_body(getattr(view, "largest", LARGEST_SINGLE))
        return
    known = _by_token() if request.headers.get("Authorization") else _by_session()
    if permission is None:
        raise NotPermitted("This operation has no permission and is not available.")
    if known.unfinished and not getattr(view, "before_factor", False):
        raise SecondFactorMissing(
            "A second factor is required, and you have not set one up.",
            "Set up a second factor in the console.",
        )
    known.require(permission)
    _check_body(getattr(view, "largest", LARGEST_SINGLE))
    if known.applications is not None:
        _check_own(known, getattr(view, "of", None))
    _check_query(view)
    g.caller = known
    masking.hide_for(known)
    name = request.headers.get(WORK_HEADER)
    # Requests about a job are not jobs themselves.
    if name and request.method not in ("GET", "HEAD") and not request.path.startswith(f"{PREFIX}/jobs/"):
        if not WORK_NAME.fullmatch(name):
            raise InvalidInput(
                f"The header {WORK_HEADER} is invalid.",
                "Send 8 to 64 letters, digits and hyphens.",
                WORK_HEADER,
            )
        g.waited_for = jobs_registry().for_(known.operator_id, name)
        g.waited_for.__enter__()


def end_job(_: BaseException | None) -> None:
    """End the caller's job: its response is ready."""
    masking.hide_for(None)
    waited_for = g.pop("waited_for", None)
    if waited_for is not None:
        waited_for.__exit__(None, None, None)


@functools.cache
def _parameters(view: Callable[..., Any]) -> frozenset[str]:
    """Return the names of an operation's query parameters."""
    model = typing.get_type_hints(inspect.unwrap(view)).get("query")
    return (
        frozenset(field.alias or name for name, field in model.model_fields.items())
        if model is not None
        else frozenset()
    )


def _check_query(view: Callable[..., Any]) -> None:
    """Refuse unknown query parameters: a misspelled filter would return everything.

    Raises:
        UnknownParameter.
    """
    known = _parameters(view)
    for name in request.args:
        if name not in known:
            hint = did_you_mean(name, sorted(known)) if known else "Remove the parameter."
            raise UnknownParameter(f"The query parameter '{name}' is unknown.", hint, name)


def _check_own(known: Caller, of: str | None) -> None:
    """Check that an application owner names one of their applications.

    Raises:
        NotPermitted: also for an application that does not exist.
    """
    if of == ALL:
        return
    key = _application_asked(of)
    own = ", ".join(sorted(known.applications or ()))
    if key is None or key not in (known.applications or ()):
        raise NotPermitted(
            "Application owners can do this only for their own applications.", f"Name one of them: {own}."
        )


def _application_asked(of: str | None) -> str | None:
    """Return the key of the application that a request is about; None if it names none, or more than one."""
    values = request.view_args or {}
    if of == PATH:
        return str(values.get("key"))
    if of == PATH_APPLICATION:
        return str(values.get("application"))
    if of == QUERY:
        given = request.args.getlist("application")
        return given[0] if len(given) == 1 else None
    if of == BODY:
        body = request.get_json(silent=True)
        found = body.get("application") if isinstance(body, dict) else None
        return found if isinstance(found, str) else None
    if of == ASSIGNMENT:
        with app_context().database.reading() as connection:
            return application_key(connection, str(values.get("id")))
    if of == ACCESS_REQUEST:
        with app_context().database.reading() as connection:
            return application_of_request(connection, str(values.get("id")))
    return None


def _check_body(largest: int) -> None:
    """Refuse a body that is too large, before it is parsed, or that is no JSON.

    Raises:
        BodyTooLarge, InvalidJson.
    """
    size = request.content_length or 0
    if size > largest:
        raise BodyTooLarge(f"The body has {size:,} bytes. The maximum is {largest:,}.", "Split the request.")
    if not request.is_json:
        return
    try:
        read_json(request.get_data() or b"null")
    except NoJson as wrong:
        raise InvalidJson(f"The body {wrong}.", "Send a JSON object.") from None


def _by_token() -> Caller:
    limiter: RateLimiter = current_app.config["TOKEN_LIMITER"]
    address = place()
    scheme, _, token = request.headers["Authorization"].partition(" ")
    known = api_tokens.by_text(app_context(), token.strip()) if scheme.lower() == "bearer" else None
    if known is None:
        # A valid token always works, however many invalid ones come from the same address.
        limiter.check(address)
        limiter.failed(address)
        raise NotSignedIn(
            "The API token is unknown, revoked or expired.",
            "Create a token in the console or with 'dravo token create'.",
        )
    return known


def keep_session(response: Response, secret: str) -> None:
    """Set the cookie of an operator's session."""
    cookies.keep(response, cookies.OPERATOR, secret, operator_sessions.SESSION_HOURS * 3600, "Strict")


def _by_session() -> Caller:
    secret = cookies.read(cookies.OPERATOR)
    known = operator_sessions.by_session(app_context(), secret) if secret else None
    if known is None:
        raise NotSignedIn(
            "You are not signed in.", "Sign in, or send an API token as 'Authorization: Bearer TOKEN'."
        )
    who, csrf = known
    if request.method not in ("GET", "HEAD") and not hmac.compare_digest(
        request.headers.get(CSRF_HEADER, "").encode(), csrf.encode()
    ):
        raise NotPermitted(
            "The request does not carry the session's CSRF token.",
            f"Send it in the header {CSRF_HEADER}; reload the page.",
        )
    g.csrf = csrf
    return who


def register_errors(app: Flask) -> None:
    """Answer all errors of the API in one form; unexpected ones are logged, and answered without details."""
    app.register_error_handler(DravoError, error_response)
    app.register_error_handler(HTTPException, http_error)

    @app.errorhandler(Exception)
    def unforeseen(wrong: Exception) -> Response:
        log.error("unforeseen error", path=request.path, exc_info=wrong)
        problem = DravoError("Internal error.", "Nothing was changed. See the service log for details.")
        problem.code, problem.status = "internal", 500
        return error_response(problem)
