"""Operators' second factor: codes of an app (TOTP, RFC 6238), and recovery codes, each good once."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field

from pyotp import TOTP, random_base32
from pyotp.exceptions import OTPVerificationError
from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.core.notifications.event_kinds import RECOVERY_CODE_USED
from dravo.core.notifications.reporting import Condition
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store.notifications import events
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import recovery_codes
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.operators import Operator

DIGITS, STEP = 6, 30
RECOVERY_CODES = 10
# Number of time steps by which the clock of an app may differ.
NEAR = 1


@dataclass
class SecondFactor:
    """Your second factor."""

    on: bool
    since: str | None
    recovery_left: int
    required: bool


@dataclass
class NewSecondFactor:
    """A new secret, as text, as URI (`address`) and as QR code (`picture`)."""

    secret: str = field(repr=False)
    address: str = field(repr=False)
    picture: str = field(repr=False)


class SecondFactorNeeded(DravoError):
    """Name and password are right, and the code of the second factor is missing."""

    code = "second_factor_needed"
    status = 401


class SecondFactorMissing(DravoError):
    """The organization requires a second factor, and the operator has none yet."""

    code = "second_factor_missing"
    status = 403


def status(ctx: AppContext, caller: Caller) -> SecondFactor:
    """Return whether the caller has a second factor, since when, and how many recovery codes are left."""
    with ctx.database.reading() as connection:
        row = _row(connection, caller.operator_id)
        left = recovery_codes.number_left(connection, caller.operator_id)
        required = bool(settings.read(connection)["second_factor"])
    return SecondFactor(
        on=row.factor_secret is not None,
        since=row.factor_at,
        recovery_left=left,
        required=required,
    )


def begin(ctx: AppContext, caller: Caller) -> NewSecondFactor:
    """Return a new secret for the caller's authenticator app, shown once; a code of it must confirm it.

    Raises:
        InvalidInput: without a session, for a token cannot change the second factor.
    """
    _check_session(caller)
    text = random_base32()
    with ctx.database.writing() as connection:
        if _row(connection, caller.operator_id).factor_secret is not None:
            raise InvalidInput(
                "A second factor is already set up.", "Disable it first with one of its codes."
            )
        pending = ctx.keys.encrypt(text)
        operator_rows.update_operator(connection, caller.operator_id, factor_pending=pending)
    totp = TOTP(text, digits=DIGITS, interval=STEP)
    address = totp.provisioning_uri(name=caller.name, issuer_name="Dravo")
    # Imported at its first use: few processes ever draw a QR code.
    import segno

    return NewSecondFactor(
        secret=text,
        address=address,
        picture=segno.make(address, error="m").svg_data_uri(scale=4, border=2, light="#fff"),
    )


@dataclass(frozen=True)
class RecoveryCodes:
    """New recovery codes of an operator, shown once."""

    recovery_codes: list[str] = field(repr=False)


def confirm(ctx: AppContext, caller: Caller, code: str) -> RecoveryCodes:
    """Enable the second factor by a code of the new secret; return the recovery codes, the only time.

    Raises:
        InvalidInput: if the setup was not started, or the code is wrong.
    """
    _check_session(caller)
    now = clock.now()
    with ctx.database.writing() as connection:
        row = _row(connection, caller.operator_id)
        if row.factor_pending is None:
            raise InvalidInput("The setup of the second factor was not started.", "Start the setup again.")
        counter = _counter(ctx.keys.decrypt(row.factor_pending), code)
        if counter is None:
            raise InvalidInput(
                "The code is wrong.", "Check the clock of the device, and enter the current code.", "code"
            )
        values = {
            "factor_secret": row.factor_pending,
            "factor_pending": None,
            "factor_at": now,
            "factor_counter": counter,
        }
        operator_rows.update_operator(connection, caller.operator_id, **values)
        codes = _new_codes(connection, caller.operator_id)
        # Sessions without a second factor end.
        this = digest(caller.session or "")
        session_rows.delete_of_operator(connection, caller.operator_id, but=this)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("enabled second factor", "operator", caller.operator_id, details={}),
        )
    return RecoveryCodes(codes)


def _new_codes(connection: Connection, operator_id: str) -> list[str]:
    """Replace the recovery codes of an operator."""
    codes = [
        "-".join(text[at : at + 5] for at in range(0, 20, 5))
        for text in (secrets.token_hex(10) for _ in range(RECOVERY_CODES))
    ]
    recovery_codes.replace_codes(connection, operator_id, [_kept(each) for each in codes])
    return codes


def renew_codes(ctx: AppContext, caller: Caller, code: str) -> RecoveryCodes:
    """Replace the caller's recovery codes; return the new ones, the only time.

    Args:
        code: a code of the second factor, if one is enabled.

    Raises:
        InvalidInput: without a session, or for a wrong code.
    """
    _check_session(caller)
    with ctx.database.writing() as connection:
        row = _row(connection, caller.operator_id)
        if row.factor_secret is not None and not fits(ctx, connection, row, code):
            raise InvalidInput("The code is wrong.", "Enter the current code, or a recovery code.", "code")
        codes = _new_codes(connection, caller.operator_id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("created recovery codes", "operator", caller.operator_id, details={}),
        )
    return RecoveryCodes(codes)


def take_away(ctx: AppContext, caller: Caller, code: str) -> SecondFactor:
    """Turn the caller's second factor off, by a code of it or a recovery code.

    Raises:
        InvalidInput: if it is neither.
    """
    _check_session(caller)
    with ctx.database.writing() as connection:
        row = _row(connection, caller.operator_id)
        if settings.read(connection)["second_factor"]:
            raise InvalidInput(
                "A second factor is required for all operators.",
                "A super administrator can change this in the settings.",
            )
        if row.factor_secret is None or not fits(ctx, connection, row, code):
            raise InvalidInput("The code is wrong.", "Enter the current code, or a recovery code.", "code")
        _off(connection, caller.operator_id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("disabled second factor", "operator", caller.operator_id, details={}),
        )
    return status(ctx, caller)


def reset(ctx: AppContext, caller: Caller, operator_id: str) -> None:
    """Disable the second factor of an operator who lost both app and recovery codes, and end the operator's
    sessions.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        row = _row(connection, operator_id)
        _off(connection, operator_id)
        session_rows.delete_of_operator(connection, operator_id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("reset second factor", "operator", operator_id, details={"name": row.name}),
        )


def fits(ctx: AppContext, connection: Connection, row: Operator, code: str) -> bool:
    """Check a code of the second factor of an operator; a code works once."""
    secret = row.factor_secret
    counter = _counter(ctx.keys.decrypt(secret), code) if secret is not None else None
    if counter is not None:
        return operator_rows.use_counter(connection, row.id, counter)
    return recovers(connection, row, code)


def recovers(connection: Connection, row: Operator, code: str) -> bool:
    """Check a recovery code of an operator; a code works once."""
    now = clock.now()
    if not recovery_codes.use_code(connection, row.id, _kept(code), now):
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
    return recovery_codes.has_code(connection, row.id, _kept(code))


def _kept(code: str) -> str:
    return digest(code.strip().lower().replace(" ", "").replace("-", ""))


def _counter(secret: str, code: str) -> int | None:
    """Return the time step of a code (RFC 6238, section 4); None for a code of no step near now."""
    digits = code.replace(" ", "").strip()
    if len(digits) != DIGITS or not (digits.isascii() and digits.isdigit()):
        return None
    try:
        return TOTP(secret, digits=DIGITS, interval=STEP).verify_and_get_timecode(digits, valid_window=NEAR)
    except OTPVerificationError:
        return None


def _row(connection: Connection, operator_id: str) -> Operator:
    row = operator_rows.get(connection, operator_id)
    if row is None:
        raise NotFound(f"There is no operator with the ID '{operator_id}'.")
    return row


def _off(connection: Connection, operator_id: str) -> None:
    values = {"factor_secret": None, "factor_pending": None, "factor_at": None, "factor_counter": None}
    operator_rows.update_operator(connection, operator_id, **values)
    # Without password sign-in, the recovery codes are the only way in when the source fails.
    if not _row(connection, operator_id).only_by_source:
        recovery_codes.delete_codes(connection, operator_id)


def _check_session(caller: Caller) -> None:
    if caller.session is None:
        raise InvalidInput("The second factor can be changed only in the console.", "Sign in to the console.")
