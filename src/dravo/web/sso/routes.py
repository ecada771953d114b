"""Sign-in of users at one source: SAML 2.0 bindings and the OpenID Connect code flow.

Pages here are for users who can change nothing: they say what happened, whom to contact, and the ID of the
sign-in.
"""

from __future__ import annotations

import hmac
import secrets
from urllib.parse import parse_qsl, urlsplit

import orjson
from flask import Blueprint, Response, current_app, g, make_response, redirect, render_template, request
from werkzeug.datastructures import MultiDict

from dravo.core.errors import DravoError, NotFound, TooManyTries
from dravo.protocols.oidc.keys import public_jwk
from dravo.protocols.verified_identity import SignInRefused
from dravo.services.security import operator_sso
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import responses as sign_in_responses
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import setup_checklist, verification
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.messages import FOR_USERS
from dravo.services.sign_in.responses import LINKED, SignInResult
from dravo.services.sign_in.traces import OBSERVED, SIGNED_IN
from dravo.services.sources import policy as source_policies
from dravo.web import cookies
from dravo.web.api.auth import app_context, keep_session, needs
from dravo.web.callers import place

# A form contains a response in base64, of which every character may be escaped, and a few short fields.
LARGEST_FORM, MOST_FIELDS = 3 * sign_in_responses.LARGEST_RESPONSE + 4_096, 20

# Providers may cache these documents for some minutes: keys change long before the previous ones end.
PUBLISHED = "public, max-age=300"

routes = Blueprint("sso", __name__, url_prefix="/sso")


def _base() -> str:
    return str(current_app.config["PUBLIC_URL"])


def _limiter() -> RateLimiter:
    found: RateLimiter = current_app.config["SSO_LIMITER"]
    return found


def _limit(state: str | None) -> None:
    """Refuse an address with too many failures; a sign-in that this browser started is not affected by
    others.
    """
    g.counts = not verification.has_pending_sign_in(app_context(), state, cookies.read(cookies.BROWSER))
    if g.counts:
        _limiter().check(place())


def _note_failure() -> None:
    if g.get("counts"):
        _limiter().failed(place())


@routes.before_request
def _limit_rate() -> None:
    """Count requests by address before any other work: each may query the database and check signatures.

    Raises:
        TooManyTries.
    """
    rate: RateLimiter = current_app.config["SSO_RATE"]
    rate.hit(place())


def _form() -> MultiDict[str, str]:
    """Return the fields of a posted form, if it is not too large.

    Raises:
        SignInRefused: "malformed".
    """
    if (request.content_length or 0) > LARGEST_FORM:
        raise SignInRefused(
            "malformed",
            f"The form is too large ({request.content_length:,} bytes).",
            "Configure the provider to send fewer claims.",
        )
    try:
        fields = parse_qsl(
            request.get_data(cache=False).decode("utf-8", "replace"),
            keep_blank_values=True,
            max_num_fields=MOST_FIELDS,
        )
    except ValueError:
        raise SignInRefused(
            "malformed",
            f"The form has more than {MOST_FIELDS} fields.",
            "Configure the provider to send only the response.",
        ) from None
    return MultiDict(fields)


@routes.errorhandler(TooManyTries)
def _too_many(wrong: TooManyTries) -> tuple[str, int]:
    return _told(
        "Please wait", "Too many attempts from your network. Try again in a few minutes.", "", ""
    ), 429


@routes.errorhandler(NotFound)
def _nothing(_: NotFound) -> tuple[str, int]:
    _note_failure()
    return _told("Page not found", "There is no sign-in at this address.", "", ""), 404


@routes.errorhandler(SignInRefused)
def _refused(wrong: SignInRefused) -> tuple[str, int]:
    _note_failure()
    return _told("You are not signed in", FOR_USERS.get(wrong.reason, wrong.message), wrong.hint, ""), 403


@routes.errorhandler(DravoError)
def _failed(wrong: DravoError) -> tuple[str, int]:
    return _told(
        "You are not signed in", "Sign-in is not available at the moment.", "Try again later.", ""
    ), wrong.status


@routes.get("/<source>/start")
@needs("nothing")
def start(source: str) -> Response:
    """Send the browser to the provider; with `operator` in the query, to link the signed-in operator."""
    operator = _operator(source, request.args["operator"]) if "operator" in request.args else None
    back = "/settings" if operator is not None else request.args.get("back")
    begun = sign_in_start.start(
        app_context(),
        source,
        _base(),
        sign_in_start.StartOptions(
            sign_in_test=request.args.get("sign_in_test"),
            back=back,
            browser=cookies.read(cookies.BROWSER),
            operator=operator,
        ),
    )
    if begun.form is None:
        response = make_response(redirect(begun.url, 303))
    else:
        g.nonce = secrets.token_urlsafe(16)
        where = urlsplit(begun.url)
        g.posts_to = f"{where.scheme}://{where.netloc}"
        response = make_response(render_template("post.html", url=begun.url, form=begun.form, nonce=g.nonce))
    # A response that the browser posts comes from the provider's site: only a cookie with SameSite=None is
    # sent with it, and browsers accept such a cookie only over TLS.
    cookies.keep(
        response,
        cookies.BROWSER,
        begun.browser,
        sign_in_start.BEGUN_SECONDS,
        "None" if cookies.is_secure() else "Lax",
    )
    response.headers["Cache-Control"] = "no-store"
    return response


def _operator(source: str, word: str) -> Caller:
    """Return the signed-in operator; only a page that can read responses of the session knows the value."""
    secret = cookies.read(cookies.OPERATOR)
    known = operator_sessions.by_session(app_context(), secret) if secret else None
    if (
        known is None
        or known[0].unfinished
        or not hmac.compare_digest(operator_sso.word_for(known[1], source), word)
    ):
        raise SignInRefused(
            "operator", "You are not signed in as an operator.", "Sign in first, then start from Settings."
        )
    return known[0]


@routes.get("/<source>/saml/metadata")
@needs("nothing")
def metadata(source: str) -> Response:
    """Our metadata, for the provider."""
    content = setup_checklist.metadata(app_context(), source, _base())
    name = f"dravo-{source}-metadata.xml"
    headers = {"Content-Disposition": f'inline; filename="{name}"', "Cache-Control": PUBLISHED}
    return Response(content, content_type="application/samlmetadata+xml", headers=headers)


@routes.post("/<source>/saml/acs")
@needs("nothing")
def take_response(source: str) -> Response:
    """Take the response that a provider had the browser post."""
    try:
        form = _form()
    except SignInRefused as wrong:
        _limit(None)
        return _after(sign_in_responses.receive_saml(app_context(), source, _base(), wrong, None, None))
    relay = form.get("RelayState")
    _limit(relay)
    posted = form.getlist("SAMLResponse")
    return _after(
        sign_in_responses.receive_saml(
            app_context(), source, _base(), posted, relay, cookies.read(cookies.BROWSER)
        )
    )


@routes.get("/<source>/saml/sign-out")
@needs("nothing")
def sign_out(source: str) -> Response:
    """Handle a logout request of the provider, or the response to ours."""
    if "SAMLRequest" not in request.args:
        return signed_out(source)
    _limit(None)
    onward = user_sessions.asked_by_provider(app_context(), source, _base(), request.query_string)
    response = make_response(redirect(onward, 303)) if onward else signed_out(source)
    cookies.forget(response, cookies.USER)
    return response


@routes.get("/<source>/signed-out")
@needs("nothing")
def signed_out(source: str) -> Response:
    """Show the page after signing out at the provider."""
    return make_response(
        _told("You are signed out", "You are signed out of Dravo and of your identity provider.", "", "")
    )


@routes.get("/<source>/oidc/callback")
@needs("nothing")
def take_code(source: str) -> Response:
    """Handle the code that the browser brings back."""
    _limit(request.args.get("state"))
    return _after(
        sign_in_responses.receive_oidc(
            app_context(), source, _base(), request.args, cookies.read(cookies.BROWSER)
        )
    )


@routes.get("/<source>/oidc/keys")
@needs("nothing")
def our_keys(source: str) -> Response:
    """Return our public keys (RFC 7517), for a provider that authenticates us by them."""
    with app_context().database.reading() as connection:
        row, _ = source_policies.sign_in_of(connection, source)
        keys = sign_in_keys.of_source(app_context(), connection, row.id)
    public = [public_jwk(each.key.private_bytes(*sign_in_keys.AS_PEM), each.id) for each in keys]
    return Response(
        orjson.dumps({"keys": public}), content_type="application/json", headers={"Cache-Control": PUBLISHED}
    )


def _after(came: SignInResult) -> Response:
    if came.outcome == SIGNED_IN:
        _limiter().worked(place())
        response = make_response(redirect(came.back, 303))
        if came.user_session:
            cookies.keep(response, cookies.USER, came.user_session, 7 * 86_400)
        if came.session:
            keep_session(response, came.session)
    elif came.outcome == LINKED:
        response = make_response(redirect(came.back, 303))
    elif came.outcome == OBSERVED:
        response = make_response(
            _told("Test sign-in succeeded", "Nothing was changed. You can close this page.", "", came.trace)
        )
    else:
        _note_failure()
        response = make_response(
            _told("You are not signed in", came.message, came.support_contact, came.trace), 403
        )
    response.headers["Cache-Control"] = "no-store"
    return response


def _told(title: str, message: str, contact: str, trace: str) -> str:
    g.nonce = secrets.token_urlsafe(16)
    return render_template(
        "signing_in.html", title=title, message=message, contact=contact, trace=trace, nonce=g.nonce
    )


def visitor() -> user_sessions.SignedInUser | None:
    """Return who is signed in at this browser, as a user and not as an operator."""
    secret = cookies.read(cookies.USER)
    return user_sessions.by_secret(app_context(), secret) if secret else None
