"""The operator's own second factor: authenticator app, passkeys and recovery codes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from flask import current_app

from dravo.core.errors import InvalidInput
from dravo.services.security import passkeys, second_factor
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.factors import NewSecondFactor, Proof, RecoveryCodes, SecondFactor
from dravo.services.security.passkeys import PasskeyChallenge
from dravo.web.api.auth import ALL, api_blueprint, app_context, caller, needs
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.common import IdPath
from dravo.web.api.schemas.second_factors import (
    AddPasskeyRequest,
    CodeRequest,
    PasskeyResponse,
    ProofRequest,
)

Result = TypeVar("Result")
routes = api_blueprint("second_factor")


@dataclass(frozen=True)
class PasskeyOffer:
    """A challenge for passkeys, or None without passkeys."""

    challenge: PasskeyChallenge | None


def passkey_of(body: PasskeyResponse) -> passkeys.PasskeyResponse:
    """Return the response of an authenticator that a request contains."""
    return passkeys.PasskeyResponse(body.state, body.credential)


def proof_of(body: ProofRequest) -> Proof:
    """Return the proof of a second factor that a request contains."""
    return Proof(body.code, None if body.passkey is None else passkey_of(body.passkey))


def limited(mark: str, work: Callable[[], Result]) -> Result:
    """Do what asks for a second factor; too many wrong proofs have to wait, as at sign-in."""
    limiter = current_app.config["SIGN_IN_LIMITER"]
    limiter.check(mark)
    try:
        given = work()
    except InvalidInput as wrong:
        if wrong.field == "code":
            limiter.failed(mark)
        raise
    limiter.worked(mark)
    return given


def _by_proof(work: Callable[[], Result]) -> Result:
    return limited(operator_sessions.codes_mark(caller().operator_id), work)


@routes.get("/second-factor", responses=responses("second_factors.SecondFactor"))
@needs("own.read", of=ALL, before_factor=True)
def get_second_factor() -> SecondFactor:
    """Get your second factor.

    Returns the authenticator app, the passkeys, and the number of recovery codes.
    """
    return second_factor.status(app_context(), caller())


@routes.post("/second-factor", responses=responses("second_factors.NewSecondFactor", 201))
@needs("own.change", of=ALL, before_factor=True)
def begin_second_factor() -> tuple[NewSecondFactor, int]:
    """Start the setup of an authenticator app.

    Returns the secret once. The app is enabled after its first code.
    """
    return second_factor.begin(app_context(), caller()), 201


@routes.put("/second-factor", responses=responses("second_factors.RecoveryCodes"))
@needs("own.change", of=ALL, before_factor=True)
def confirm_second_factor(body: CodeRequest) -> RecoveryCodes:
    """Enable your authenticator app.

    Requires a code of the app. Returns the recovery codes once.
    """
    return _by_proof(lambda: second_factor.confirm(app_context(), caller(), body.code))


@routes.post("/second-factor/disable", responses=responses("second_factors.SecondFactor"))
@needs("own.change", of=ALL)
def disable_second_factor(body: ProofRequest) -> SecondFactor:
    """Disable your authenticator app.

    Requires a code, a recovery code or a passkey.
    """
    return _by_proof(lambda: second_factor.disable_app(app_context(), caller(), proof_of(body)))


@routes.post("/second-factor/passkeys/begin", responses=responses("second_factors.PasskeyChallenge", 201))
@needs("own.change", of=ALL, before_factor=True)
def begin_passkey() -> tuple[PasskeyChallenge, int]:
    """Start adding a passkey.

    Returns the challenge for the authenticator.
    """
    return second_factor.begin_passkey(app_context(), caller()), 201


@routes.post("/second-factor/passkeys", responses=responses("second_factors.RecoveryCodes", 201))
@needs("own.change", of=ALL, before_factor=True)
def add_passkey(body: AddPasskeyRequest) -> tuple[RecoveryCodes, int]:
    """Add a passkey.

    Requires the response of the authenticator. Returns recovery codes with the first second factor.
    """
    response = passkey_of(body)
    return second_factor.add_passkey(app_context(), caller(), body.label, response), 201


@routes.post("/second-factor/passkeys/ask", responses=responses("second_factors.PasskeyOffer"))
@needs("own.change", of=ALL)
def ask_passkey() -> PasskeyOffer:
    """Ask for a passkey.

    Returns a challenge for your passkeys, to confirm a change.
    """
    return PasskeyOffer(second_factor.ask_passkey(app_context(), caller()))


@routes.post("/second-factor/passkeys/<id>/delete", responses=responses("second_factors.SecondFactor"))
@needs("own.change", of=ALL)
def delete_passkey(path: IdPath, body: ProofRequest) -> SecondFactor:
    """Delete a passkey.

    Requires a code, a recovery code or a passkey.
    """
    return _by_proof(lambda: second_factor.delete_passkey(app_context(), caller(), path.id, proof_of(body)))


@routes.post("/recovery-codes", responses=responses("second_factors.RecoveryCodes", 201))
@needs("own.change", of=ALL)
def renew_recovery_codes(body: ProofRequest) -> tuple[RecoveryCodes, int]:
    """Create your recovery codes.

    Requires a proof of the second factor if you have one. Returns the new codes once.
    """
    return _by_proof(lambda: second_factor.renew_codes(app_context(), caller(), proof_of(body))), 201
