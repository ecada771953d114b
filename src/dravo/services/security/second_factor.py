"""Operators' second factor: an authenticator app, passkeys, and recovery codes, each good once."""

from __future__ import annotations

from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.core.notifications.event_kinds import RECOVERY_CODE_USED
from dravo.core.notifications.reporting import Condition
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security import factors, passkeys
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.factors import (
    FactorOwner,
    NewSecondFactor,
    Proof,
    RecoveryCodes,
    SecondFactor,
    kept_code,
)
from dravo.services.security.passkeys import PasskeyChallenge, PasskeyResponse
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store.notifications import events
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.operators import Operator
from dravo.store.second_factors import recovery_codes


class SecondFactorNeeded(DravoError):
    """Name and password are right, and the second factor is missing."""

    code = "second_factor_needed"
    status = 401


class SecondFactorMissing(DravoError):
    """The organization requires a second factor, and the operator has none yet."""

    code = "second_factor_missing"
    status = 403


def status(ctx: AppContext, caller: Caller) -> SecondFactor:
    """Return the caller's second factor: app, passkeys, and how many recovery codes are left."""
    with ctx.database.reading() as connection:
        return factors.status(ctx, connection, _owner(ctx, connection, caller))


def begin(ctx: AppContext, caller: Caller) -> NewSecondFactor:
    """Return a new secret for the caller's authenticator app, shown once; a code of it must confirm it.

    Raises:
        InvalidInput: without a session, for a token cannot change the second factor.
    """
    return factors.begin(ctx, _changing(ctx, caller))


def confirm(ctx: AppContext, caller: Caller, code: str) -> RecoveryCodes:
    """Enable the app by a code of the new secret; return the recovery codes, the only time.

    Raises:
        InvalidInput: if the setup was not started, or the code is wrong.
    """
    return factors.confirm(ctx, _changing(ctx, caller), code)


def begin_passkey(ctx: AppContext, caller: Caller) -> PasskeyChallenge:
    """Return a challenge to create a passkey of the caller.

    Raises:
        InvalidInput.
    """
    return factors.begin_passkey(ctx, _changing(ctx, caller))


def add_passkey(ctx: AppContext, caller: Caller, label: str, response: PasskeyResponse) -> RecoveryCodes:
    """Add a passkey of the caller; with the first second factor, return the recovery codes, the only time.

    Raises:
        InvalidInput, AlreadyExists.
    """
    return factors.add_passkey(ctx, _changing(ctx, caller), label, response)


def delete_passkey(ctx: AppContext, caller: Caller, passkey_id: str, proof: Proof) -> SecondFactor:
    """Delete a passkey of the caller, by a code, a recovery code or a passkey.

    Raises:
        NotFound, InvalidInput.
    """
    factors.delete_passkey(ctx, _changing(ctx, caller), passkey_id, proof)
    return status(ctx, caller)


def ask_passkey(ctx: AppContext, caller: Caller) -> PasskeyChallenge | None:
    """Return a challenge for the caller's passkeys, or None without passkeys."""
    return passkeys.ask(ctx, caller.operator_id)


def renew_codes(ctx: AppContext, caller: Caller, proof: Proof) -> RecoveryCodes:
    """Replace the caller's recovery codes; return the new ones, the only time.

    Args:
        proof: a proof of the second factor, if there is one.

    Raises:
        InvalidInput: without a session, or for a wrong proof.
    """
    return factors.renew_codes(ctx, _changing(ctx, caller), proof)


def disable_app(ctx: AppContext, caller: Caller, proof: Proof) -> SecondFactor:
    """Turn the caller's authenticator app off, by a code, a recovery code or a passkey.

    Raises:
        InvalidInput: for a wrong proof, or if a second factor is required.
    """
    factors.disable_app(ctx, _changing(ctx, caller), proof)
    return status(ctx, caller)


def reset(ctx: AppContext, caller: Caller, operator_id: str) -> None:
    """Disable the second factor of an operator who lost it and the recovery codes, and end the operator's
    sessions.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        row = _row(connection, operator_id)
        factors.reset(connection, row.id, keeps_codes=row.only_by_source)
        session_rows.delete_of_operator(connection, operator_id)
        event = AuditEvent("reset second factor", "operator", operator_id, details={"name": row.name})
        record_change(connection, ctx.keys, caller, clock.now(), event)


def proves(ctx: AppContext, row: Operator, proof: Proof) -> bool:
    """Check a proof of an operator's second factor: a code, a passkey or a recovery code; each works once."""
    checked = factors.check_proof(ctx, row.id, proof)
    with ctx.database.writing() as connection:
        return factors.use_proof(connection, row.id, checked) or (
            not checked.by_passkey and recovers(connection, row, checked.code)
        )


def recovers(connection: Connection, row: Operator, code: str) -> bool:
    """Check a recovery code of an operator; a code works once."""
    now = clock.now()
    if not factors.use_recovery_code(connection, row.id, code):
        return False
    left = recovery_codes.number_left(connection, row.id)
    told = Condition(
        kind=RECOVERY_CODE_USED,
        subject_id=row.id,
        subject=row.name,
        title=f"Operator {row.name} used a recovery code",
        text=f"Recovery codes left: {left}. If {row.name} did not do this, disable the operator.",
        path="/settings/operators",
    )
    events.happened(connection, told, now)
    return True


def knows(connection: Connection, row: Operator, code: str) -> bool:
    """Whether a code is an unused recovery code of an operator; it stays unused."""
    return recovery_codes.has_code(connection, row.id, kept_code(code))


def _row(connection: Connection, operator_id: str) -> Operator:
    row = operator_rows.get(connection, operator_id)
    if row is None:
        raise NotFound(f"There is no operator with the ID '{operator_id}'.")
    return row


def _changing(ctx: AppContext, caller: Caller) -> FactorOwner:
    """Return the caller as the owner of a second factor.

    Raises:
        InvalidInput: without a session.
    """
    if caller.session is None:
        raise InvalidInput("The second factor can be changed only in the console.", "Sign in to the console.")
    with ctx.database.reading() as connection:
        return _owner(ctx, connection, caller)


def _owner(ctx: AppContext, connection: Connection, caller: Caller) -> FactorOwner:
    row = _row(connection, caller.operator_id)

    def record(writing: Connection, action: str) -> None:
        event = AuditEvent(action, "operator", row.id, details={})
        record_change(writing, ctx.keys, caller, clock.now(), event)

    def end_other_sessions(writing: Connection) -> None:
        session_rows.delete_of_operator(writing, row.id, but=digest(caller.session or ""))

    return FactorOwner(
        id=row.id,
        name=row.name,
        required=bool(settings.read(connection)["second_factor"]),
        # Without password sign-in, the recovery codes are the only way in when the source fails.
        keeps_codes=row.only_by_source,
        record=record,
        end_other_sessions=end_other_sessions,
    )
