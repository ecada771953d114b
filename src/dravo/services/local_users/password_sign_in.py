"""Sign-in of local users with a password and a second factor.

Nobody learns from a refusal whether a name is known here. The steps of one sign-in are connected by a secret
that only the browser knows.
"""

from __future__ import annotations

import functools
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field

import orjson
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, NotSignedIn
from dravo.core.identity.names import fold, user_name_key
from dravo.core.instants import later
from dravo.protocols.verified_identity import VerifiedIdentity
from dravo.services import events, settings
from dravo.services.context import AppContext
from dravo.services.ingest.local.source import local_source_in
from dravo.services.local_users import passwords
from dravo.services.local_users.passwords import ChosenPassword
from dravo.services.security import factors, passkeys
from dravo.services.security.factors import CheckedProof, Proof
from dravo.services.security.passkeys import PasskeyChallenge
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import digest, digest_password, password_fits
from dravo.services.sign_in import sessions as user_sessions
from dravo.store import clock
from dravo.store.local import passwords as stored
from dravo.store.local.passwords import PasswordUser
from dravo.store.second_factors import steps
from dravo.store.second_factors.steps import SignInStep

SIGNED_IN, SECOND_FACTOR, NEW_PASSWORD = "signed_in", "second_factor", "new_password"
WRONG, INACTIVE, EXPIRED = "wrong_password", "inactive", "expired"
SECONDS = 600
# The issuer of passwords, which Dravo itself verifies; no provider has a name with spaces.
ISSUER = "local password"


class PasswordRefused(NotSignedIn):
    """A name and a password sign nobody in; `reason` is `WRONG`, `INACTIVE` or `EXPIRED`."""

    def __init__(self, reason: str, message: str, hint: str) -> None:
        super().__init__(message, hint)
        self.reason = reason


@dataclass(frozen=True)
class PasswordSignIn:
    """How a sign-in goes on.

    Attributes:
        outcome: `SIGNED_IN`, `SECOND_FACTOR` or `NEW_PASSWORD`.
        state: the secret of the next step, or "".
        passkey: whether the user has passkeys.
        session: the secret of the new session, or "".
    """

    outcome: str
    state: str = field(default="", repr=False)
    passkey: bool = False
    session: str = field(default="", repr=False)


def begin(ctx: AppContext, limiter: RateLimiter, name: str, password: str, network: str) -> PasswordSignIn:
    """Check the password of a local user.

    Args:
        name: the user name or the email address.
        network: the address from which the user signs in.

    Raises:
        NotPermitted: if the organization has no local users.
        PasswordRefused: for a wrong name or password without telling which, an expired one-time password, or
            an inactive user.
        TooManyTries.
    """
    # Apart from the failures of operators, whom users in the same office must not lock out.
    marks = (f"user {fold(name)} from {network}", f"users at {network}")
    return _go_on(ctx, by_password(ctx, limiter, marks, name, password))


def by_password(
    ctx: AppContext, limiter: RateLimiter, marks: Sequence[str], name: str, password: str
) -> PasswordUser:
    """Return the active local user of a name and a password.

    Args:
        marks: the names under which failures are counted; the first one is forgotten after a success.

    Raises:
        NotPermitted, PasswordRefused, TooManyTries: as `begin`.
    """
    limiter.check(*marks)
    with ctx.database.reading() as connection:
        passwords.check_allowed(connection)
        found = stored.users_named(connection, user_name_key(name.strip()), fold(name.strip()))
        contact = settings.support_contact(connection, {})
    named = [each for each in found if user_name_key(each.user_name) == user_name_key(name.strip())] or found
    user = named[0] if len(named) == 1 else None
    # A hash is verified in any case, so that the response time does not reveal whether the name exists.
    if not password_fits(user.hash if user else _nobody(), password) or user is None:
        limiter.failed(*marks)
        events.note(events.SIGN_IN, "user", what="password")
        raise PasswordRefused(
            WRONG, "The name or the password is wrong.", "Try again, or choose a new password."
        )
    if not user.active:
        raise PasswordRefused(INACTIVE, "Your user is not active.", contact or "Contact your administrator.")
    if user.until_at is not None and user.until_at <= clock.now():
        raise PasswordRefused(EXPIRED, "The one-time password has expired.", contact or "Ask for a new one.")
    limiter.worked(marks[0])
    return user


def _go_on(ctx: AppContext, user: PasswordUser) -> PasswordSignIn:
    """Return the next step for a user whose password was right."""
    with ctx.database.writing() as connection:
        if factors.has_factor(connection, user.id):
            state = _step(ctx, connection, SECOND_FACTOR, user)
            has_passkey = bool(passkeys.list_passkeys(connection, user.id))
            return PasswordSignIn(SECOND_FACTOR, state, has_passkey)
    return _enter(ctx, user)


def _enter(ctx: AppContext, user: PasswordUser) -> PasswordSignIn:
    """Start the session of a user who proved everything, or ask for a new password first."""
    with ctx.database.writing() as connection:
        if user.must_change:
            return PasswordSignIn(NEW_PASSWORD, _step(ctx, connection, NEW_PASSWORD, user))
        if user.until_at is not None and not stored.note_use(connection, user.id, user.hash):
            raise _changed()
        return PasswordSignIn(SIGNED_IN, session=start_session(ctx, connection, user.id, user.user_name))


def start_session(ctx: AppContext, connection: Connection, user_id: str, user_name: str) -> str:
    """Start the session of a user who signed in with a password; return its secret."""
    hours = int(settings.read(connection)["user_session_hours"])
    proved = VerifiedIdentity(ISSUER, user_id)
    session = user_sessions.begin(connection, user_id, local_source_in(connection), proved, hours)
    passwords.note(ctx, connection, (user_id, user_name), "signed in")
    return session


def ask_passkey(ctx: AppContext, state: str) -> PasskeyChallenge | None:
    """Return a challenge for the passkeys of a user whose password was right; None without passkeys.

    Raises:
        NotFound: if the sign-in took too long.
    """
    with ctx.database.reading() as connection:
        step, _ = _read(ctx, connection, state, SECOND_FACTOR)
    return passkeys.ask(ctx, step.owner_id)


def check_factor(ctx: AppContext, limiter: RateLimiter, state: str, proof: Proof) -> PasswordSignIn:
    """Check the second factor of a sign-in.

    Raises:
        NotFound: if the sign-in took too long; InvalidInput: for a wrong proof; TooManyTries.
    """
    with ctx.database.reading() as connection:
        step, user = _read(ctx, connection, state, SECOND_FACTOR)
    # By user, from all addresses: only those who have the password get here.
    mark = codes_mark(user.id)
    limiter.check(mark)
    checked = factors.check_proof(ctx, user.id, proof)
    with ctx.database.writing() as connection:
        fits = use_proof(ctx, connection, user, checked)
        if fits and steps.take(connection, step.hash, SECOND_FACTOR, clock.now()) is None:
            raise _over()
    if not fits:
        limiter.failed(mark)
        events.note(events.SIGN_IN, "user", what="second factor")
        if checked.by_passkey:
            raise InvalidInput("The passkey was not accepted.", "Try again, or enter a code.", "code")
        raise InvalidInput(
            "The code is wrong.", "Enter the current code or a recovery code. Each code works once.", "code"
        )
    limiter.worked(mark)
    return _enter(ctx, user)


def use_proof(ctx: AppContext, connection: Connection, user: PasswordUser, checked: CheckedProof) -> bool:
    """Use up a proof of a user's second factor, or a recovery code; return False if it was wrong or used."""
    if factors.use_proof(connection, user.id, checked):
        return True
    if checked.by_passkey or not factors.use_recovery_code(connection, user.id, checked.code):
        return False
    passwords.note(ctx, connection, (user.id, user.user_name), "used a recovery code")
    return True


def choose_password(ctx: AppContext, state: str, chosen: ChosenPassword) -> PasswordSignIn:
    """Replace a one-time password at the first sign-in, and sign the user in.

    Raises:
        NotFound: if the sign-in took too long; InvalidInput, WeakPassword: for the new password.
    """
    with ctx.database.reading() as connection:
        step, user = _read(ctx, connection, state, NEW_PASSWORD)
        if password_fits(user.hash, chosen.text):
            raise InvalidInput(
                "The new password is the same as the one-time password.", "Choose another one.", "password"
            )
        kept = passwords.hashed(connection, user.names, chosen)
    with ctx.database.writing() as connection:
        if steps.take(connection, step.hash, NEW_PASSWORD, clock.now()) is None:
            raise _over()
        if not stored.replace_hash(connection, user.id, user.hash, kept, clock.now()):
            raise _changed()
        passwords.note(ctx, connection, (user.id, user.user_name), "changed own password")
        return PasswordSignIn(SIGNED_IN, session=start_session(ctx, connection, user.id, user.user_name))


def codes_mark(user_id: str) -> str:
    """Return the name under which wrong codes of a user's second factor are counted, on every page."""
    return f"codes of {user_id}"


def _step(ctx: AppContext, connection: Connection, purpose: str, user: PasswordUser) -> str:
    state = secrets.token_urlsafe(32)
    # With the password that was right: another one, chosen meanwhile, ends the sign-in.
    data = ctx.keys.encrypt(orjson.dumps(digest(user.hash)).decode())
    until = later(clock.now(), SECONDS)
    steps.insert_step(connection, SignInStep(digest(state), purpose, user.id, data, until))
    return state


def _read(
    ctx: AppContext, connection: Connection, state: str, purpose: str
) -> tuple[SignInStep, PasswordUser]:
    passwords.check_allowed(connection)
    step = steps.get(connection, digest(state), purpose, clock.now())
    user = stored.user_by_id(connection, step.owner_id) if step is not None else None
    if step is None or user is None or not user.active:
        raise _over()
    if orjson.loads(ctx.keys.decrypt(step.data or "")) != digest(user.hash):
        raise _over()
    return step, user


def _over() -> NotFound:
    return NotFound("The sign-in took too long.", "Sign in again.")


def _changed() -> InvalidInput:
    return InvalidInput("The password was changed in the meantime.", "Sign in again.")


@functools.cache
def _nobody() -> str:
    """Return the hash of a password that no user has."""
    return digest_password(secrets.token_urlsafe(32))
