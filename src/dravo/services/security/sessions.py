"""Sign-in of operators by password and second factor, and their sessions."""

from __future__ import annotations

import functools
import secrets as random_secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import NotSignedIn, TooManyTries
from dravo.core.identity.names import fold, user_name_key
from dravo.core.instants import later
from dravo.core.notifications.event_kinds import OPERATOR_LOCKED_OUT
from dravo.core.notifications.reporting import Condition
from dravo.protocols.verified_identity import VerifiedIdentity
from dravo.services import events, settings
from dravo.services.context import AppContext
from dravo.services.security import passkeys, second_factor
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.factors import Proof
from dravo.services.security.operators import applications_of, view_of
from dravo.services.security.passkeys import PasskeyChallenge
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.second_factor import SecondFactorNeeded
from dravo.services.security.secrets import csrf_token, digest, digest_password, password_fits
from dravo.store import clock
from dravo.store.notifications import events as notified_events
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.operators import Operator
from dravo.store.operators.sessions import OperatorSession
from dravo.store.pagination import ItemList
from dravo.store.queries.references import KeyAndLabel, key_and_label
from dravo.store.sources.sources import Source

# Operators are told once in this time that one of them is locked out.
LOCK_OUT_QUIET_SECONDS = 3_600
SESSION_HOURS = 12
IDLE_HOURS = 2
NO_PROOF = Proof()


# Sessions


@dataclass
class Session:
    """Your session."""

    name: str
    kind: str
    csrf: str = field(repr=False)
    permissions: list[str]
    applications: list[str] | None
    needs_second_factor: bool


@dataclass
class OperatorSessionLine:
    """One of your sessions."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: KeyAndLabel | None


def sign_in(
    ctx: AppContext, limiter: RateLimiter, name: str, password: str, address: str, proof: Proof = NO_PROOF
) -> tuple[str, Session]:
    """Sign an operator in; return the secret of the new session and what the console shows.

    Args:
        proof: of the second factor.

    Raises:
        NotSignedIn: for a wrong name or password, without telling which.
        SecondFactorNeeded: if only the second factor is missing.
        TooManyTries.
    """
    marks = _marks(name, address)
    row, recovers = _by_password(ctx, limiter, name, password, address)
    if row.has_factor:
        _check_factor(ctx, limiter, marks, row, proof, address)
    with ctx.database.writing() as connection:
        # The code is used up only now: if a second factor is required, it is sent twice.
        if recovers and not second_factor.recovers(connection, row, password):
            raise _does_not_fit()
        limiter.worked(marks[0])
        return begin_session(ctx, connection, row)


def ask_passkey(
    ctx: AppContext, limiter: RateLimiter, name: str, password: str, address: str
) -> PasskeyChallenge | None:
    """Return a challenge for the passkeys of an operator whose password is right; None without passkeys.

    Raises:
        NotSignedIn, TooManyTries: as `sign_in`.
    """
    row, _ = _by_password(ctx, limiter, name, password, address)
    return passkeys.ask(ctx, row.id)


def _marks(name: str, address: str) -> tuple[str, str]:
    """Return the names under which failures are counted."""
    # By name and address together, so that nobody can lock an operator out from elsewhere.
    return f"{fold(name)} from {address}", f"address {address}"


def _by_password(
    ctx: AppContext, limiter: RateLimiter, name: str, password: str, address: str
) -> tuple[Operator, bool]:
    """Return the operator of a name and a password, and whether the password is a recovery code.

    Raises:
        NotSignedIn, TooManyTries.
    """
    marks = _marks(name, address)
    limiter.check(*marks)
    with ctx.database.reading() as connection:
        row = operator_rows.by_name(connection, user_name_key(name))
    # A hash is verified in any case, so that the response time does not reveal whether the name exists.
    fits = password_fits(row.password_hash if row else _nobody(), password)
    recovers = False
    if row is not None and row.only_by_source:
        recovers = True
        # If the source is not available, a recovery code works in place of the password, which is disabled.
        with ctx.database.reading() as connection:
            fits = second_factor.knows(connection, row, password)
    if row is None or not fits or row.disabled_at:
        limiter.failed(*marks)
        _note_failure(ctx, limiter, row, address, "disabled" if fits and row is not None else "password")
        if row is not None:
            _note_lock_out(ctx, limiter, row, marks[0])
        raise _does_not_fit()
    return row, recovers


def _does_not_fit() -> NotSignedIn:
    return NotSignedIn("The name or the password is wrong.", "Try again. The password is case-sensitive.")


def begin_session(
    ctx: AppContext,
    connection: Connection,
    row: Any,
    source: Source | None = None,
    proved: VerifiedIdentity | None = None,
) -> tuple[str, Session]:
    """Start a session of an operator; return its secret and what the console shows.

    Args:
        source: the source through which the operator signed in; None with a password.
        proved: the identity that the provider verified.
    """
    now = clock.now()
    secret = random_secrets.token_urlsafe(32)
    session_rows.delete_expired(connection, now)
    session = OperatorSession(
        hash=digest(secret),
        operator_id=row.id,
        source_id=source.id if source is not None else None,
        provider_session=proved.session if proved is not None else None,
        subject=proved.subject if proved is not None else None,
        subject_format=proved.format if proved is not None else None,
        created_at=now,
        last_seen_at=now,
        expires_at=later(now, SESSION_HOURS * 3600),
    )
    session_rows.insert_session(connection, session)
    unfinished = source is None and lacks_factor(connection, row)
    who = Caller(
        row.id,
        row.name,
        row.kind,
        applications=applications_of(connection, row),
        **view_of(row),
        unfinished=unfinished,
    )
    record_change(
        connection,
        ctx.keys,
        who,
        now,
        AuditEvent(
            "signed in", "operator", row.id, details={"source": source.key} if source is not None else {}
        ),
    )
    return secret, session_line(who, csrf_token(secret))


def lacks_factor(connection: Connection, row: Any) -> bool:
    """Whether an operator who signed in with a password must set up a second factor first."""
    return not row.has_factor and bool(settings.read(connection)["second_factor"])


def codes_mark(operator_id: str) -> str:
    """Return the name under which wrong codes of an operator's second factor are counted, on every page."""
    return f"codes of {operator_id}"


def _note_failure(ctx: AppContext, limiter: RateLimiter, row: Any, address: str, what: str) -> None:
    """Write down that a user could not sign in: in the log each time, in the audit log of an operator once
    in a while.
    """
    events.note(
        events.SIGN_IN, "operator", operator=row.name if row is not None else None, address=address, what=what
    )
    if row is None:
        return
    mark = f"failures noted of {row.id}"
    try:
        limiter.check(mark)
    except TooManyTries:
        return
    limiter.failed(mark)
    with ctx.database.writing() as connection:
        who = Caller("", f"unknown caller at {address}", row.kind)
        record_change(
            connection,
            ctx.keys,
            who,
            clock.now(),
            AuditEvent("failed to sign in", "operator", row.id, details={"name": row.name, "what": what}),
        )


def _note_lock_out(ctx: AppContext, limiter: RateLimiter, row: Any, *marks: str) -> None:
    """Store that an operator's last failure was one too many; further attempts do not get here."""
    try:
        limiter.check(*marks)
    except TooManyTries as wrong:
        told = Condition(
            kind=OPERATOR_LOCKED_OUT,
            subject_id=row.id,
            subject=row.name,
            title=f"Operator {row.name} is locked out",
            text=f"{wrong.message} The sign-in is possible again after {limiter.seconds // 60} minutes.",
            path="/activity?kind=change",
        )
        now = clock.now()
        with ctx.database.writing() as connection:
            # Attempts from many addresses are no reason for many emails.
            since = later(now, -LOCK_OUT_QUIET_SECONDS)
            if not notified_events.happened_since(connection, told.kind, told.subject_id, since):
                notified_events.happened(connection, told, now)


def _check_factor(
    ctx: AppContext, limiter: RateLimiter, marks: Sequence[str], row: Any, proof: Proof, address: str
) -> None:
    if not proof.given:
        raise SecondFactorNeeded(
            "Your second factor is missing.",
            "Enter the code from your app or a recovery code, or use a passkey.",
            "code",
        )
    # By name alone, from all addresses: only those who have the password get here, so they lock out nobody
    # else.
    limiter.check(codes_mark(row.id))
    if second_factor.proves(ctx, row, proof):
        limiter.worked(codes_mark(row.id))
    else:
        limiter.failed(*marks, codes_mark(row.id))
        _note_failure(ctx, limiter, row, address, "second factor")
        _note_lock_out(ctx, limiter, row, marks[0], codes_mark(row.id))
        if proof.passkey is not None:
            raise NotSignedIn("The passkey was not accepted.", "Try again, or enter a code.", "code")
        raise NotSignedIn(
            "The code is wrong.", "Enter the current code or a recovery code. Each code works once.", "code"
        )


@functools.cache
def _nobody() -> str:
    """Return the hash of a password that no operator has."""
    return digest_password(random_secrets.token_urlsafe(32))


def session_line(who: Caller, csrf: str) -> Session:
    """Return what the console shows about its session."""
    return Session(
        name=who.name,
        kind=who.kind,
        csrf=csrf,
        permissions=sorted(who.permissions),
        applications=None if who.applications is None else sorted(who.applications),
        needs_second_factor=who.unfinished,
    )


def by_session(ctx: AppContext, secret: str) -> tuple[Caller, str] | None:
    """Return the operator of a session with its CSRF token; None if the session is unknown or has ended."""
    now, kept = clock.now(), digest(secret)
    with ctx.database.reading() as connection:
        row = session_rows.owner_of(connection, kept, now, later(now, -IDLE_HOURS * 3600))
        if row is None:
            return None
        owned = applications_of(connection, row)
        unfinished = row.source_id is None and lacks_factor(connection, row)
    if row.last_seen_at < later(now, -60):
        with ctx.database.writing() as connection:
            session_rows.note_use(connection, kept, now)
    return Caller(
        row.id,
        row.name,
        row.kind,
        session=secret,
        applications=owned,
        **view_of(row),
        unfinished=unfinished,
    ), csrf_token(secret)


def end_session(ctx: AppContext, caller: Caller) -> OperatorSession | None:
    """End the caller's session; return its row, or None."""
    if not caller.session:
        return None
    with ctx.database.writing() as connection:
        return session_rows.take(connection, digest(caller.session))


def sessions(ctx: AppContext, caller: Caller) -> ItemList[OperatorSessionLine]:
    """Return the caller's sessions, this one included."""
    now = clock.now()
    idle_since = later(now, -IDLE_HOURS * 3600)
    with ctx.database.reading() as connection:
        rows = session_rows.list_sessions(connection, caller.operator_id, now, idle_since)
    this = digest(caller.session) if caller.session else ""
    return ItemList(
        [
            OperatorSessionLine(
                created_at=row.session.created_at,
                last_seen_at=row.session.last_seen_at,
                until_at=row.session.expires_at,
                this=row.session.hash == this,
                source=key_and_label(row.source_key, row.source_label),
            )
            for row in rows
        ]
    )


def end_other_sessions(ctx: AppContext, caller: Caller) -> ItemList[OperatorSessionLine]:
    """End every session of the caller but this one."""
    this = digest(caller.session) if caller.session else ""
    with ctx.database.writing() as connection:
        ended = session_rows.delete_of_operator(connection, caller.operator_id, but=this)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("ended own sessions", "operator", caller.operator_id, details={"ended": ended}),
        )
    return sessions(ctx, caller)
