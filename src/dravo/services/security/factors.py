"""Second factors of operators and users: codes of an app (TOTP, RFC 6238), passkeys, and recovery codes.

The owner is a `FactorOwner`; the rules are the same for operators and users.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field

from pyotp import TOTP, random_base32
from pyotp.exceptions import OTPVerificationError
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.services.context import AppContext
from dravo.services.security import passkeys
from dravo.services.security.passkeys import (
    Passkey,
    PasskeyChallenge,
    PasskeyResponse,
    VerifiedPasskey,
    relying_party,
)
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store.second_factors import passkeys as stored_passkeys
from dravo.store.second_factors import recovery_codes, totp

DIGITS, STEP = 6, 30
RECOVERY_CODES = 10
# Number of time steps by which the clock of an app may differ.
NEAR = 1
WRONG_CODE = ("The code is wrong.", "Enter the current code, or a recovery code.", "code")


@dataclass(frozen=True)
class FactorOwner:
    """An operator or a user with a second factor.

    Attributes:
        id: the ID of the operator or the user.
        name: what authenticators show.
        required: whether the owner must have a second factor.
        keeps_codes: whether recovery codes are needed without a second factor too.
        record: writes an action to the audit log.
        end_other_sessions: ends the sessions of the owner but this one.
    """

    id: str
    name: str
    required: bool
    keeps_codes: bool
    record: Callable[[Connection, str], None]
    end_other_sessions: Callable[[Connection], None]


@dataclass
class SecondFactor:
    """Your second factor.

    Attributes:
        on: whether there is one, an app or a passkey.
        since: the time when the app was set up, or None.
        passkeys_at: the address at which passkeys can be used; empty if they cannot.
    """

    on: bool
    app: bool
    since: str | None
    passkeys: list[Passkey]
    passkeys_at: str
    recovery_left: int
    required: bool


@dataclass
class NewSecondFactor:
    """A new secret, as text, as URI (`address`) and as QR code (`picture`)."""

    secret: str = field(repr=False)
    address: str = field(repr=False)
    picture: str = field(repr=False)


@dataclass(frozen=True)
class RecoveryCodes:
    """New recovery codes, shown once; none with another second factor, which came with codes."""

    recovery_codes: list[str] = field(repr=False)


@dataclass(frozen=True)
class Proof:
    """The proof of a second factor: a code of the app, a recovery code, or the response of a passkey."""

    code: str = field(default="", repr=False)
    passkey: PasskeyResponse | None = None

    @property
    def given(self) -> bool:
        """Whether there is a proof at all."""
        return bool(self.code.strip()) or self.passkey is not None


@dataclass(frozen=True)
class CheckedProof:
    """A proof that was checked and is not used up yet.

    Attributes:
        code: the code as typed; it may be a recovery code.
        counter: the time step of a right code of the app, or None.
        passkey: the passkey that signed, or None.
        by_passkey: whether the proof was the response of a passkey.
    """

    code: str = field(default="", repr=False)
    counter: int | None = None
    passkey: VerifiedPasskey | None = None
    by_passkey: bool = False


def status(ctx: AppContext, connection: Connection, owner: FactorOwner) -> SecondFactor:
    """Return what an owner has set up."""
    row = totp.get(connection, owner.id)
    party = relying_party(ctx.public_url)
    known = passkeys.list_passkeys(connection, owner.id)
    app = row is not None and row.secret is not None
    return SecondFactor(
        on=app or bool(known),
        app=app,
        since=row.since if row is not None else None,
        passkeys=known,
        passkeys_at=party.origin if party is not None else "",
        recovery_left=recovery_codes.number_left(connection, owner.id),
        required=owner.required,
    )


def has_factor(connection: Connection, owner_id: str) -> bool:
    """Return whether an owner has a second factor."""
    return _number_of_factors(connection, owner_id) > 0


def has_app(connection: Connection, owner_id: str) -> bool:
    """Return whether an owner has an authenticator app, confirmed by a code."""
    row = totp.get(connection, owner_id)
    return row is not None and row.secret is not None


def _number_of_factors(connection: Connection, owner_id: str) -> int:
    return stored_passkeys.number_of(connection, owner_id) + has_app(connection, owner_id)


# The app


def begin(ctx: AppContext, owner: FactorOwner) -> NewSecondFactor:
    """Return a new secret for an authenticator app, shown once; a code of it must confirm it.

    Raises:
        InvalidInput: if an app is set up already.
    """
    text = random_base32()
    with ctx.database.writing() as connection:
        if has_app(connection, owner.id):
            raise InvalidInput("An authenticator app is already set up.", "Disable it first with a code.")
        totp.set_pending(connection, owner.id, ctx.keys.encrypt(text))
    address = TOTP(text, digits=DIGITS, interval=STEP).provisioning_uri(name=owner.name, issuer_name="Dravo")
    # Imported at its first use: few processes ever draw a QR code.
    import segno

    picture = segno.make(address, error="m").svg_data_uri(scale=4, border=2, light="#fff")
    return NewSecondFactor(secret=text, address=address, picture=picture)


def confirm(ctx: AppContext, owner: FactorOwner, code: str) -> RecoveryCodes:
    """Enable the app by a code of the new secret; return the recovery codes, the only time.

    Raises:
        InvalidInput: if the setup was not started, or the code is wrong.
    """
    with ctx.database.writing() as connection:
        row = totp.get(connection, owner.id)
        if row is None or row.pending is None:
            raise InvalidInput("The setup of the second factor was not started.", "Start the setup again.")
        counter = _counter(ctx.keys.decrypt(row.pending), code)
        if counter is None:
            raise InvalidInput(
                "The code is wrong.", "Check the clock of the device, and enter the current code.", "code"
            )
        totp.confirm(connection, owner.id, counter, clock.now())
        return _enabled(connection, owner, "enabled second factor")


def disable_app(ctx: AppContext, owner: FactorOwner, proof: Proof) -> None:
    """Turn the app off, by a code or a passkey.

    Raises:
        InvalidInput: for a wrong proof, or if a second factor is required.
    """
    checked = check_proof(ctx, owner.id, proof)
    with ctx.database.writing() as connection:
        _check_removable(owner, stored_passkeys.number_of(connection, owner.id))
        if not has_app(connection, owner.id):
            raise InvalidInput("No authenticator app is set up.", "Reload the page.")
        _use(connection, owner, checked)
        totp.delete_totp(connection, owner.id)
        _drop_codes(connection, owner)
        owner.record(connection, "disabled second factor")


# Passkeys


def begin_passkey(ctx: AppContext, owner: FactorOwner) -> PasskeyChallenge:
    """Return a challenge to create a passkey.

    Raises:
        InvalidInput: as `passkeys.begin`.
    """
    return passkeys.begin(ctx, owner.id, owner.name)


def add_passkey(ctx: AppContext, owner: FactorOwner, label: str, response: PasskeyResponse) -> RecoveryCodes:
    """Add a passkey; with the first second factor, return the recovery codes, the only time.

    Raises:
        InvalidInput, AlreadyExists.
    """
    row = passkeys.verified_new(ctx, owner.id, label, response)
    with ctx.database.writing() as connection:
        passkeys.add(connection, response.state, row)
        return _enabled(connection, owner, "added passkey")


def delete_passkey(ctx: AppContext, owner: FactorOwner, passkey_id: str, proof: Proof) -> None:
    """Delete a passkey, by a code or a passkey.

    Raises:
        NotFound; InvalidInput: for a wrong proof, or if a second factor is required.
    """
    checked = check_proof(ctx, owner.id, proof)
    with ctx.database.writing() as connection:
        _check_removable(owner, _number_of_factors(connection, owner.id) - 1)
        _use(connection, owner, checked)
        if stored_passkeys.delete_passkey(connection, owner.id, passkey_id) is None:
            raise NotFound(f"You have no passkey with the ID '{passkey_id}'.", "Reload the page.")
        _drop_codes(connection, owner)
        owner.record(connection, "deleted passkey")


# Recovery codes, and checks


def renew_codes(ctx: AppContext, owner: FactorOwner, proof: Proof) -> RecoveryCodes:
    """Replace the recovery codes of an owner; return the new ones, the only time.

    Args:
        proof: needed if the owner has a second factor.

    Raises:
        InvalidInput: for a wrong proof.
    """
    checked = check_proof(ctx, owner.id, proof)
    with ctx.database.writing() as connection:
        if has_factor(connection, owner.id):
            _use(connection, owner, checked)
        codes = _new_codes(connection, owner.id)
        owner.record(connection, "created recovery codes")
    return RecoveryCodes(codes)


def check_proof(ctx: AppContext, owner_id: str, proof: Proof) -> CheckedProof:
    """Check a code of the app or a passkey of an owner, before `use_proof` uses it up in a short write."""
    if proof.passkey is not None:
        return CheckedProof(passkey=passkeys.verified(ctx, owner_id, proof.passkey), by_passkey=True)
    with ctx.database.reading() as connection:
        row = totp.get(connection, owner_id)
    counter = _counter(ctx.keys.decrypt(row.secret), proof.code) if row is not None and row.secret else None
    return CheckedProof(proof.code, counter)


def use_proof(connection: Connection, owner_id: str, checked: CheckedProof) -> bool:
    """Use up a code of the app or the response of a passkey; return False if it was wrong or used before.

    Recovery codes have a use of their own, `use_recovery_code`.
    """
    if checked.passkey is not None:
        return passkeys.use(connection, checked.passkey)
    return checked.counter is not None and totp.use_counter(connection, owner_id, checked.counter)


def use_recovery_code(connection: Connection, owner_id: str, code: str) -> bool:
    """Check a recovery code of an owner; a code works once."""
    return recovery_codes.use_code(connection, owner_id, kept_code(code), clock.now())


def reset(connection: Connection, owner_id: str, *, keeps_codes: bool = False) -> None:
    """Delete the app and the passkeys of an owner who lost them; `keeps_codes` as in `FactorOwner`."""
    totp.delete_totp(connection, owner_id)
    stored_passkeys.delete_of_owner(connection, owner_id)
    if not keeps_codes:
        recovery_codes.delete_codes(connection, owner_id)


def kept_code(code: str) -> str:
    """Return the stored form of a recovery code."""
    return digest(code.strip().lower().replace(" ", "").replace("-", ""))


def _enabled(connection: Connection, owner: FactorOwner, action: str) -> RecoveryCodes:
    """Note a new second factor; the first one comes with recovery codes, and sessions without it end."""
    codes = _new_codes(connection, owner.id) if _number_of_factors(connection, owner.id) == 1 else []
    owner.end_other_sessions(connection)
    owner.record(connection, action)
    return RecoveryCodes(codes)


def _new_codes(connection: Connection, owner_id: str) -> list[str]:
    codes = [
        "-".join(text[at : at + 5] for at in range(0, 20, 5))
        for text in (secrets.token_hex(10) for _ in range(RECOVERY_CODES))
    ]
    recovery_codes.replace_codes(connection, owner_id, [kept_code(each) for each in codes])
    return codes


def _use(connection: Connection, owner: FactorOwner, checked: CheckedProof) -> None:
    """Use up a proof or a recovery code.

    Raises:
        InvalidInput: if it was wrong or used before.
    """
    if use_proof(connection, owner.id, checked):
        return
    if checked.by_passkey:
        raise InvalidInput("The passkey was not accepted.", "Try again, or enter a code.", "code")
    if not use_recovery_code(connection, owner.id, checked.code):
        raise InvalidInput(*WRONG_CODE)


def _check_removable(owner: FactorOwner, others: int) -> None:
    if owner.required and not others:
        raise InvalidInput(
            "A second factor is required for all operators.",
            "A super administrator can change this in the settings.",
        )


def _drop_codes(connection: Connection, owner: FactorOwner) -> None:
    """Delete recovery codes that are of no use without a second factor."""
    if not owner.keeps_codes and not has_factor(connection, owner.id):
        recovery_codes.delete_codes(connection, owner.id)


def _counter(secret: str, code: str) -> int | None:
    """Return the time step of a code (RFC 6238, section 4); None for a code of no step near now."""
    digits = code.replace(" ", "").strip()
    if len(digits) != DIGITS or not (digits.isascii() and digits.isdigit()):
        return None
    try:
        return TOTP(secret, digits=DIGITS, interval=STEP).verify_and_get_timecode(digits, valid_window=NEAR)
    except OTPVerificationError:
        return None
