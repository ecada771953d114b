"""Operators' second factor: codes of an app (TOTP, RFC 6238), and recovery codes, each good once."""

from __future__ import annotations

import secrets
from typing import Any

from pyotp import TOTP, random_base32
from pyotp.exceptions import OTPVerificationError
from sqlalchemy import Connection, Select, delete, func, insert, or_, select, update

from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store import tables as t

DIGITS, STEP = 6, 30
RECOVERY_CODES = 10
# By how many steps an app's clock may be ahead or behind.
NEAR = 1


class SecondFactorNeeded(DravoError):
    """Name and password are right, and the code of the second factor is missing."""

    code = "second_factor_needed"
    status = 401


class SecondFactorMissing(DravoError):
    """The organization requires a second factor, and the operator has none yet."""

    code = "second_factor_missing"
    status = 403


def status(ctx: AppContext, caller: Caller) -> dict[str, Any]:
    """Return whether the caller has a second factor, since when, and how many recovery codes are left."""
    with ctx.database.reading() as connection:
        row = _row(connection, caller.operator_id)
        left = codes_left(connection, caller.operator_id)
        required = bool(settings.read(connection)["second_factor"])
    return {
        "on": row.factor_secret is not None,
        "since": row.factor_at,
        "recovery_left": left,
        "required": required,
    }


def begin(ctx: AppContext, caller: Caller) -> dict[str, Any]:
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
        connection.execute(
            update(t.operator)
            .where(t.operator.c.id == caller.operator_id)
            .values(factor_pending=ctx.keys.encrypt(text))
        )
    totp = TOTP(text, digits=DIGITS, interval=STEP)
    address = totp.provisioning_uri(name=caller.name, issuer_name="Dravo")
    # Imported at its first use: few processes ever draw a QR code.
    import segno

    return {
        "secret": text,
        "address": address,
        "picture": segno.make(address, error="m").svg_data_uri(scale=4, border=2, light="#fff"),
    }


def confirm(ctx: AppContext, caller: Caller, code: str) -> dict[str, Any]:
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
        connection.execute(update(t.operator).where(t.operator.c.id == caller.operator_id).values(**values))
        codes = _new_codes(connection, caller.operator_id)
        # Anyone who is signed in elsewhere by the password alone signs in again.
        s = t.operator_session.c
        connection.execute(
            delete(t.operator_session).where(
                s.operator_id == caller.operator_id, s.hash != digest(caller.session or "")
            )
        )
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("enabled second factor", "operator", caller.operator_id, details={}),
        )
    return {"recovery_codes": codes}


def _new_codes(connection: Connection, operator_id: str) -> list[str]:
    """Replace the recovery codes of an operator."""
    codes = [
        "-".join(text[at : at + 5] for at in range(0, 20, 5))
        for text in (secrets.token_hex(10) for _ in range(RECOVERY_CODES))
    ]
    connection.execute(delete(t.operator_recovery).where(t.operator_recovery.c.operator_id == operator_id))
    connection.execute(
        insert(t.operator_recovery), [{"operator_id": operator_id, "hash": _kept(each)} for each in codes]
    )
    return codes


def renew_codes(ctx: AppContext, caller: Caller, code: str) -> dict[str, Any]:
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
    return {"recovery_codes": codes}


def take_away(ctx: AppContext, caller: Caller, code: str) -> dict[str, Any]:
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
        connection.execute(delete(t.operator_session).where(t.operator_session.c.operator_id == operator_id))
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("reset second factor", "operator", operator_id, details={"name": row.name}),
        )


def fits(ctx: AppContext, connection: Connection, row: Any, code: str) -> bool:
    """Check a code of the second factor of an operator; a code works once."""
    counter = _counter(ctx.keys.decrypt(row.factor_secret), code)
    o = t.operator.c
    if counter is not None:
        fresh = (o.id == row.id, or_(o.factor_counter.is_(None), o.factor_counter < counter))
        return (
            connection.execute(update(t.operator).where(*fresh).values(factor_counter=counter)).rowcount == 1
        )
    return recovers(connection, row, code)


def recovers(connection: Connection, row: Any, code: str) -> bool:
    """Check a recovery code of an operator; a code works once."""
    r = t.operator_recovery.c
    used = (
        update(t.operator_recovery).where(*_unused(row.id), r.hash == _kept(code)).values(used_at=clock.now())
    )
    return connection.execute(used).rowcount == 1


def knows(connection: Connection, row: Any, code: str) -> bool:
    """Whether a code is a recovery code of an operator's row that was not used yet; it stays good."""
    r = t.operator_recovery.c
    return (
        connection.execute(select(r.hash).where(*_unused(row.id), r.hash == _kept(code))).first() is not None
    )


def codes_left(connection: Connection, operator_id: str) -> int:
    """Return how many recovery codes an operator has."""
    return connection.execute(
        select(func.count()).select_from(t.operator_recovery).where(*_unused(operator_id))
    ).scalar_one()


def who_recovers() -> Select[tuple[str]]:
    """Return a query for the ids of operators who have recovery codes."""
    r = t.operator_recovery.c
    return select(r.operator_id).where(r.used_at.is_(None))


def _unused(operator_id: str) -> tuple[Any, Any]:
    r = t.operator_recovery.c
    return r.operator_id == operator_id, r.used_at.is_(None)


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


def _row(connection: Connection, operator_id: str) -> Any:
    row = connection.execute(select(t.operator).where(t.operator.c.id == operator_id)).first()
    if row is None:
        raise NotFound(f"There is no operator with the ID '{operator_id}'.")
    return row


def _off(connection: Connection, operator_id: str) -> None:
    values = {"factor_secret": None, "factor_pending": None, "factor_at": None, "factor_counter": None}
    connection.execute(update(t.operator).where(t.operator.c.id == operator_id).values(**values))
    # Anyone who comes in by a source alone keeps the codes that let them in without it.
    alone = select(t.operator.c.id).where(
        t.operator.c.id == operator_id, t.operator.c.only_by_source.is_(True)
    )
    if connection.execute(alone).first() is None:
        connection.execute(
            delete(t.operator_recovery).where(t.operator_recovery.c.operator_id == operator_id)
        )


def _check_session(caller: Caller) -> None:
    if caller.session is None:
        raise InvalidInput("The second factor can be changed only in the console.", "Sign in to the console.")
