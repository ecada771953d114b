"""What local users do themselves: accept an invitation, sign in with a password, secure their sign-in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from flask import Response, current_app, jsonify

from dravo.services.local_users import acceptance, own_security, password_sign_in, passwords, resets
from dravo.services.local_users.acceptance import OpenInvitation
from dravo.services.local_users.own_security import OwnSecurity
from dravo.services.local_users.passwords import ChosenPassword
from dravo.services.security import factors, passkeys
from dravo.services.security.factors import FactorOwner, NewSecondFactor, RecoveryCodes
from dravo.services.security.passkeys import PasskeyChallenge
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import start as sign_in_start
from dravo.web import cookies
from dravo.web.api.auth import USER, api_blueprint, app_context, needs, signed_in_user
from dravo.web.api.openapi import responses
from dravo.web.api.routes.own.second_factor import PasskeyOffer, limited, passkey_of, proof_of
from dravo.web.api.schemas.common import IdPath
from dravo.web.api.schemas.local_users import (
    AcceptInvitationRequest,
    AcceptWithSourceRequest,
    ChangeOwnPasswordRequest,
    ForgottenPasswordRequest,
    InvitationSecretRequest,
    LocalSignInRequest,
    NewPasswordRequest,
    ResetPasswordRequest,
    SignInFactorRequest,
    SignInNewPasswordRequest,
    SignInStateRequest,
)
from dravo.web.api.schemas.second_factors import AddPasskeyRequest, CodeRequest, ProofRequest
from dravo.web.callers import place

Result = TypeVar("Result")
routes = api_blueprint("local sign-in")
SESSION_SECONDS = 7 * 86_400


@dataclass(frozen=True)
class GoTo:
    """The path of the next page."""

    go_to: str


@dataclass(frozen=True)
class PasswordSignIn:
    """How a sign-in with a password goes on, without the secret of the session."""

    outcome: str
    state: str
    passkey: bool


def _limiter() -> RateLimiter:
    found: RateLimiter = current_app.config["SIGN_IN_LIMITER"]
    return found


def _chosen(body: NewPasswordRequest) -> ChosenPassword:
    return ChosenPassword(body.password, body.confirm_weak)


def _signed_in(content: GoTo | PasswordSignIn, session: str) -> Response:
    """Return a response that sets the cookie of a user's session, if there is one."""
    response = jsonify(content)
    if session:
        cookies.keep(response, cookies.USER, session, SESSION_SECONDS)
    response.headers["Cache-Control"] = "no-store"
    return response


def _next_step(came: password_sign_in.PasswordSignIn) -> Response:
    return _signed_in(PasswordSignIn(came.outcome, came.state, came.passkey), came.session)


# Invitations


@routes.post("/invitation/open", responses=responses("local_users.OpenInvitation"))
@needs("nothing")
def open_invitation(body: InvitationSecretRequest) -> OpenInvitation:
    """Read your invitation.

    For the invited user, by the secret in the link.
    """
    return acceptance.read(app_context(), body.secret)


@routes.post("/invitation/accept", responses=responses("local_users.GoTo"))
@needs("nothing")
def accept_invitation(body: AcceptInvitationRequest) -> Response:
    """Accept your invitation with a password.

    Signs you in.
    """
    session = acceptance.accept_with_password(app_context(), body.secret, _chosen(body))
    return _signed_in(GoTo(sign_in_start.HOME), session)


@routes.post("/invitation/accept-with-source", responses=responses("local_users.GoTo"))
@needs("nothing")
def accept_with_source(body: AcceptWithSourceRequest) -> GoTo:
    """Accept your invitation with a source.

    Returns the path at which that sign-in starts.
    """
    return GoTo(acceptance.accept_with_source(app_context(), body.secret, body.source))


# Sign-in with a password


@routes.post("/sign-in/password", responses=responses("local_users.PasswordSignIn"))
@needs("nothing")
def sign_in_with_password(body: LocalSignInRequest) -> Response:
    """Sign in as a local user.

    Does not reveal whether the name exists. A second factor, or a new password in place of a one-time
    password, is a further step.
    """
    return _next_step(password_sign_in.begin(app_context(), _limiter(), body.name, body.password, place()))


@routes.post("/sign-in/password/passkey", responses=responses("second_factors.PasskeyOffer"))
@needs("nothing")
def ask_for_user_passkey(body: SignInStateRequest) -> PasskeyOffer:
    """Ask for the passkey of a local user.

    After the password. Returns the challenge, or null without passkeys.
    """
    return PasskeyOffer(password_sign_in.ask_passkey(app_context(), body.state))


@routes.post("/sign-in/password/factor", responses=responses("local_users.PasswordSignIn"))
@needs("nothing")
def give_user_factor(body: SignInFactorRequest) -> Response:
    """Send the second factor of a local user.

    A code, a recovery code or the response of a passkey.
    """
    return _next_step(password_sign_in.check_factor(app_context(), _limiter(), body.state, proof_of(body)))


@routes.post("/sign-in/password/new", responses=responses("local_users.PasswordSignIn"))
@needs("nothing")
def replace_one_time_password(body: SignInNewPasswordRequest) -> Response:
    """Replace a one-time password.

    At the first sign-in. Signs the user in.
    """
    return _next_step(password_sign_in.choose_password(app_context(), body.state, _chosen(body)))


@routes.post("/sign-in/password/forgotten", responses={204: None})
@needs("nothing")
def request_password_reset(body: ForgottenPasswordRequest) -> Response:
    """Request a password reset.

    Emails a link to a local user. Does not reveal whether the address exists.
    """
    current_app.config["SSO_LIMITER"].hit(f"resets from {place()}")
    resets.request(app_context(), current_app.config["LETTER_LIMITER"], body.email, place())
    return Response(status=204)


@routes.post("/sign-in/password/reset", responses={204: None})
@needs("nothing")
def reset_password(body: ResetPasswordRequest) -> Response:
    """Choose a new password.

    By the secret in the link of an email. Ends the sessions of the user.
    """
    resets.reset(app_context(), body.secret, _chosen(body))
    return Response(status=204)


# The security of a signed-in user


def _owner() -> FactorOwner:
    return own_security.owner_of(app_context(), signed_in_user())


def _by_proof(work: Callable[[FactorOwner], Result]) -> Result:
    owner = _owner()
    return limited(password_sign_in.codes_mark(owner.id), lambda: work(owner))


def _shown() -> OwnSecurity:
    return own_security.shown(app_context(), signed_in_user())


@routes.get("/me/security", responses=responses("local_users.OwnSecurity"))
@needs(USER)
def get_own_security() -> OwnSecurity:
    """Get your password and second factor.

    For a signed-in user.
    """
    return _shown()


@routes.put("/me/password", responses=responses("local_users.OwnSecurity"))
@needs(USER)
def change_users_password(body: ChangeOwnPasswordRequest) -> OwnSecurity:
    """Change your password as a user.

    Requires the current password. Other sessions end.
    """
    passwords.change_own(app_context(), _limiter(), signed_in_user(), body.present, _chosen(body))
    return _shown()


@routes.post("/me/second-factor", responses=responses("second_factors.NewSecondFactor", 201))
@needs(USER)
def begin_users_factor() -> tuple[NewSecondFactor, int]:
    """Start the setup of a user's authenticator app.

    Returns the secret once. The app is enabled after its first code.
    """
    return factors.begin(app_context(), _owner()), 201


@routes.put("/me/second-factor", responses=responses("second_factors.RecoveryCodes"))
@needs(USER)
def confirm_users_factor(body: CodeRequest) -> RecoveryCodes:
    """Enable a user's authenticator app.

    Requires a code of the app. Returns the recovery codes once.
    """
    return _by_proof(lambda owner: factors.confirm(app_context(), owner, body.code))


@routes.post("/me/second-factor/disable", responses=responses("local_users.OwnSecurity"))
@needs(USER)
def disable_users_factor(body: ProofRequest) -> OwnSecurity:
    """Disable a user's authenticator app.

    Requires a code, a recovery code or a passkey.
    """
    _by_proof(lambda owner: factors.disable_app(app_context(), owner, proof_of(body)))
    return _shown()


@routes.post("/me/passkeys/begin", responses=responses("second_factors.PasskeyChallenge", 201))
@needs(USER)
def begin_users_passkey() -> tuple[PasskeyChallenge, int]:
    """Start adding a user's passkey.

    Returns the challenge for the authenticator.
    """
    return factors.begin_passkey(app_context(), _owner()), 201


@routes.post("/me/passkeys", responses=responses("second_factors.RecoveryCodes", 201))
@needs(USER)
def add_users_passkey(body: AddPasskeyRequest) -> tuple[RecoveryCodes, int]:
    """Add a user's passkey.

    Requires the response of the authenticator. Returns recovery codes with the first second factor.
    """
    return factors.add_passkey(app_context(), _owner(), body.label, passkey_of(body)), 201


@routes.post("/me/passkeys/ask", responses=responses("second_factors.PasskeyOffer"))
@needs(USER)
def ask_users_passkey() -> PasskeyOffer:
    """Ask for a user's passkey.

    Returns a challenge for the passkeys, to confirm a change.
    """
    return PasskeyOffer(passkeys.ask(app_context(), _owner().id))


@routes.post("/me/passkeys/<id>/delete", responses=responses("local_users.OwnSecurity"))
@needs(USER)
def delete_users_passkey(path: IdPath, body: ProofRequest) -> OwnSecurity:
    """Delete a user's passkey.

    Requires a code, a recovery code or a passkey.
    """
    _by_proof(lambda owner: factors.delete_passkey(app_context(), owner, path.id, proof_of(body)))
    return _shown()


@routes.post("/me/recovery-codes", responses=responses("second_factors.RecoveryCodes", 201))
@needs(USER)
def renew_users_codes(body: ProofRequest) -> tuple[RecoveryCodes, int]:
    """Create a user's recovery codes.

    Requires a proof of the second factor if there is one. Returns the new codes once.
    """
    return _by_proof(lambda owner: factors.renew_codes(app_context(), owner, proof_of(body))), 201
