"""Passkeys of operators and users (Web Authentication), as a second factor."""

from __future__ import annotations

import ipaddress
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

import orjson
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput
from dravo.core.instants import later
from dravo.services.context import AppContext
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.second_factors import passkeys as stored
from dravo.store.second_factors import steps
from dravo.store.second_factors.passkeys import StoredPasskey
from dravo.store.second_factors.steps import SignInStep

NEW, PROOF = "passkey_new", "passkey_proof"
SECONDS = 300
MOST_OF_OWNER, LONGEST_LABEL = 20, 60
LOOPBACK_NAME = "localhost"


@dataclass(frozen=True)
class Passkey:
    """A passkey as its owner sees it."""

    id: str
    label: str
    created_at: str
    last_used_at: str | None


@dataclass(frozen=True)
class PasskeyChallenge:
    """What a browser hands to the authenticator.

    Attributes:
        state: the secret that identifies the challenge.
        options: the options of Web Authentication, section 5.4 or 5.5, in their JSON form.
    """

    state: str = field(repr=False)
    options: dict[str, Any]


@dataclass(frozen=True)
class PasskeyResponse:
    """The response of an authenticator to a challenge; `credential` in its JSON form."""

    state: str = field(repr=False)
    credential: Mapping[str, Any] = field(repr=False)


@dataclass(frozen=True)
class VerifiedPasskey:
    """A passkey that signed the response to a challenge.

    Attributes:
        step_hash: identifies the challenge, which can be answered once.
        before, after: the passkey's counter of signatures.
    """

    id: str
    step_hash: str
    before: int
    after: int


@dataclass(frozen=True)
class RelyingParty:
    """The name under which passkeys are created, and the origin at which browsers use them."""

    id: str
    origin: str


def relying_party(public_url: str) -> RelyingParty | None:
    """Return the relying party of a public address; None for an IP address, which passkeys cannot name.

    A service on loopback is reached by the name localhost too.
    """
    parts = urlsplit(public_url)
    host = parts.hostname or ""
    try:
        address = ipaddress.ip_address(host)
    except ValueError:
        return RelyingParty(host, f"{parts.scheme}://{parts.netloc}") if host else None
    if not address.is_loopback:
        return None
    port = f":{parts.port}" if parts.port else ""
    return RelyingParty(LOOPBACK_NAME, f"{parts.scheme}://{LOOPBACK_NAME}{port}")


def list_passkeys(connection: Connection, owner_id: str) -> list[Passkey]:
    """Return the passkeys of an owner, the oldest first."""
    return [
        Passkey(each.id, each.label, each.created_at, each.last_used_at)
        for each in stored.of_owner(connection, owner_id)
    ]


def begin(ctx: AppContext, owner_id: str, name: str) -> PasskeyChallenge:
    """Return a challenge to create a passkey.

    Raises:
        InvalidInput: if passkeys cannot be used at the public address, or the owner has too many.
    """
    # Imported at its first use, as in the other functions: few processes ever need it.
    import webauthn
    from webauthn.helpers import base64url_to_bytes
    from webauthn.helpers.structs import (
        AuthenticatorSelectionCriteria,
        PublicKeyCredentialDescriptor,
        ResidentKeyRequirement,
        UserVerificationRequirement,
    )

    party = _party(ctx)
    with ctx.database.reading() as connection:
        known = stored.of_owner(connection, owner_id)
    if len(known) >= MOST_OF_OWNER:
        raise InvalidInput(f"You have {MOST_OF_OWNER} passkeys.", "Delete one that you do not use.")
    options = webauthn.generate_registration_options(
        rp_id=party.id,
        rp_name="Dravo",
        user_id=owner_id.encode(),
        user_name=name,
        exclude_credentials=[
            PublicKeyCredentialDescriptor(id=base64url_to_bytes(each.credential_id)) for each in known
        ],
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.DISCOURAGED,
            user_verification=UserVerificationRequirement.PREFERRED,
        ),
    )
    return _challenge(ctx, NEW, owner_id, options)


def verified_new(ctx: AppContext, owner_id: str, label: str, response: PasskeyResponse) -> StoredPasskey:
    """Return the passkey that an authenticator created, to be stored by `add`.

    Raises:
        InvalidInput: for a label that is too long, or a response that does not answer the challenge.
    """
    import webauthn
    from webauthn.helpers import bytes_to_base64url
    from webauthn.helpers.exceptions import WebAuthnException

    label = label.strip() or "Passkey"
    if len(label) > LONGEST_LABEL:
        raise InvalidInput(
            f"The name has {len(label)} characters.", f"Use at most {LONGEST_LABEL} characters.", "label"
        )
    party = _party(ctx)
    with ctx.database.reading() as connection:
        step = steps.get(connection, digest(response.state), NEW, clock.now())
    if step is None or step.owner_id != owner_id:
        raise _answered()
    try:
        made = webauthn.verify_registration_response(
            credential=dict(response.credential),
            expected_challenge=_read(ctx, step),
            expected_rp_id=party.id,
            expected_origin=party.origin,
        )
    except (WebAuthnException, ValueError, TypeError, KeyError) as wrong:
        raise InvalidInput(f"The passkey was not accepted: {wrong}", "Try again.", "passkey") from None
    return StoredPasskey(
        id=new_id(),
        owner_id=owner_id,
        credential_id=bytes_to_base64url(made.credential_id),
        public_key=bytes_to_base64url(made.credential_public_key),
        sign_count=made.sign_count,
        label=label,
        created_at=clock.now(),
        last_used_at=None,
    )


def add(connection: Connection, state: str, row: StoredPasskey) -> None:
    """Store a new passkey, and use up its challenge.

    Args:
        state: the secret of the challenge.
        row: as `verified_new` returns it.

    Raises:
        InvalidInput: if the challenge was answered already; AlreadyExists.
    """
    if steps.take(connection, digest(state), NEW, clock.now()) is None:
        raise _answered()
    try:
        stored.insert_passkey(connection, row)
    except IntegrityError:
        raise AlreadyExists("This passkey is registered already.", "Use another device.", "passkey") from None


def ask(ctx: AppContext, owner_id: str) -> PasskeyChallenge | None:
    """Return a challenge for the passkeys of an owner; None if there are none, or they cannot be used."""
    party = relying_party(ctx.public_url)
    with ctx.database.reading() as connection:
        known = stored.of_owner(connection, owner_id)
    if not known or party is None:
        return None
    import webauthn
    from webauthn.helpers import base64url_to_bytes
    from webauthn.helpers.structs import PublicKeyCredentialDescriptor

    allowed = [PublicKeyCredentialDescriptor(id=base64url_to_bytes(each.credential_id)) for each in known]
    options = webauthn.generate_authentication_options(rp_id=party.id, allow_credentials=allowed)
    return _challenge(ctx, PROOF, owner_id, options)


def verified(ctx: AppContext, owner_id: str, response: PasskeyResponse) -> VerifiedPasskey | None:
    """Return the passkey of an owner that signed a response, to be used by `use`; None if none did."""
    import webauthn
    from webauthn.helpers import base64url_to_bytes
    from webauthn.helpers.exceptions import WebAuthnException

    party = _party(ctx)
    with ctx.database.reading() as connection:
        step = steps.get(connection, digest(response.state), PROOF, clock.now())
        known = stored.of_owner(connection, owner_id)
    named = response.credential.get("id")
    found = next((each for each in known if each.credential_id == named), None)
    if step is None or step.owner_id != owner_id or found is None:
        return None
    try:
        signed = webauthn.verify_authentication_response(
            credential=dict(response.credential),
            expected_challenge=_read(ctx, step),
            expected_rp_id=party.id,
            expected_origin=party.origin,
            credential_public_key=base64url_to_bytes(found.public_key),
            credential_current_sign_count=found.sign_count,
        )
    except (WebAuthnException, ValueError, TypeError, KeyError):
        return None
    return VerifiedPasskey(found.id, step.hash, found.sign_count, signed.new_sign_count)


def use(connection: Connection, passkey: VerifiedPasskey) -> bool:
    """Note the use of a passkey; return False if the challenge was answered already."""
    now = clock.now()
    taken = steps.take(connection, passkey.step_hash, PROOF, now)
    return taken is not None and stored.note_use(connection, passkey.id, passkey.before, passkey.after, now)


def _party(ctx: AppContext) -> RelyingParty:
    party = relying_party(ctx.public_url)
    if party is None:
        raise InvalidInput(
            f"Passkeys need a domain name, and this service is reached at {ctx.public_url}.",
            "Use an authenticator app, or let the service be reached by a name.",
        )
    return party


def _challenge(ctx: AppContext, purpose: str, owner_id: str, options: Any) -> PasskeyChallenge:
    from webauthn.helpers import bytes_to_base64url, options_to_json_dict

    state, now = secrets.token_urlsafe(32), clock.now()
    data = ctx.keys.encrypt(orjson.dumps(bytes_to_base64url(options.challenge)).decode())
    step = SignInStep(digest(state), purpose, owner_id, data, later(now, SECONDS))
    challenge = PasskeyChallenge(state, options_to_json_dict(options))
    with ctx.database.writing() as connection:
        # The newest challenge counts, so that nobody can collect them.
        steps.delete_of_owner(connection, owner_id, purpose)
        steps.insert_step(connection, step)
    return challenge


def _answered() -> InvalidInput:
    return InvalidInput("The challenge has expired or was answered already.", "Try again.", "passkey")


def _read(ctx: AppContext, step: SignInStep) -> bytes:
    from webauthn.helpers import base64url_to_bytes

    return base64url_to_bytes(str(orjson.loads(ctx.keys.decrypt(step.data or ""))))
