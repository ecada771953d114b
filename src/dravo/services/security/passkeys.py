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


def begin(ctx: AppContext, connection: Connection, owner_id: str, name: str) -> PasskeyChallenge:
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
    return _challenge(ctx, connection, NEW, owner_id, options)


def add(
    ctx: AppContext, connection: Connection, owner_id: str, label: str, response: PasskeyResponse
) -> Passkey:
    """Store the passkey that an authenticator created.

    Raises:
        InvalidInput: for a label that is too long, or a response that does not answer the challenge;
            AlreadyExists.
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
    challenge = _take(ctx, connection, NEW, owner_id, response.state)
    try:
        made = webauthn.verify_registration_response(
            credential=dict(response.credential),
            expected_challenge=challenge,
            expected_rp_id=party.id,
            expected_origin=party.origin,
        )
    except (WebAuthnException, ValueError, TypeError, KeyError) as wrong:
        raise InvalidInput(f"The passkey was not accepted: {wrong}", "Try again.", "passkey") from None
    now = clock.now()
    row = StoredPasskey(
        id=new_id(),
        owner_id=owner_id,
        credential_id=bytes_to_base64url(made.credential_id),
        public_key=bytes_to_base64url(made.credential_public_key),
        sign_count=made.sign_count,
        label=label,
        created_at=now,
        last_used_at=None,
    )
    try:
        stored.insert_passkey(connection, row)
    except IntegrityError:
        raise AlreadyExists("This passkey is registered already.", "Use another device.", "passkey") from None
    return Passkey(row.id, label, now, None)


def ask(ctx: AppContext, connection: Connection, owner_id: str) -> PasskeyChallenge | None:
    """Return a challenge for the passkeys of an owner; None if there are none, or they cannot be used."""
    party = relying_party(ctx.public_url)
    known = stored.of_owner(connection, owner_id)
    if not known or party is None:
        return None
    import webauthn
    from webauthn.helpers import base64url_to_bytes
    from webauthn.helpers.structs import PublicKeyCredentialDescriptor

    allowed = [PublicKeyCredentialDescriptor(id=base64url_to_bytes(each.credential_id)) for each in known]
    options = webauthn.generate_authentication_options(rp_id=party.id, allow_credentials=allowed)
    return _challenge(ctx, connection, PROOF, owner_id, options)


def proves(ctx: AppContext, connection: Connection, owner_id: str, response: PasskeyResponse) -> bool:
    """Return whether a response was signed by a passkey of an owner; a challenge can be answered once."""
    import webauthn
    from webauthn.helpers import base64url_to_bytes
    from webauthn.helpers.exceptions import WebAuthnException

    party = _party(ctx)
    now = clock.now()
    step = steps.take(connection, digest(response.state), PROOF, now)
    named = response.credential.get("id")
    found = next(
        (each for each in stored.of_owner(connection, owner_id) if each.credential_id == named), None
    )
    if step is None or step.owner_id != owner_id or found is None:
        return False
    try:
        verified = webauthn.verify_authentication_response(
            credential=dict(response.credential),
            expected_challenge=_read(ctx, step),
            expected_rp_id=party.id,
            expected_origin=party.origin,
            credential_public_key=base64url_to_bytes(found.public_key),
            credential_current_sign_count=found.sign_count,
        )
    except (WebAuthnException, ValueError, TypeError, KeyError):
        return False
    return stored.note_use(connection, found.id, found.sign_count, verified.new_sign_count, now)


def _party(ctx: AppContext) -> RelyingParty:
    party = relying_party(ctx.public_url)
    if party is None:
        raise InvalidInput(
            f"Passkeys need a domain name, and this service is reached at {ctx.public_url}.",
            "Use an authenticator app, or let the service be reached by a name.",
        )
    return party


def _challenge(
    ctx: AppContext, connection: Connection, purpose: str, owner_id: str, options: Any
) -> PasskeyChallenge:
    from webauthn.helpers import bytes_to_base64url, options_to_json_dict

    state, now = secrets.token_urlsafe(32), clock.now()
    # The newest challenge counts, so that nobody can collect them.
    steps.delete_of_owner(connection, owner_id, purpose)
    data = ctx.keys.encrypt(orjson.dumps(bytes_to_base64url(options.challenge)).decode())
    step = SignInStep(digest(state), purpose, owner_id, data, 0, later(now, SECONDS))
    steps.insert_step(connection, step)
    return PasskeyChallenge(state, options_to_json_dict(options))


def _take(ctx: AppContext, connection: Connection, purpose: str, owner_id: str, state: str) -> bytes:
    step = steps.take(connection, digest(state), purpose, clock.now())
    if step is None or step.owner_id != owner_id:
        raise InvalidInput("The challenge has expired or was answered already.", "Try again.", "passkey")
    return _read(ctx, step)


def _read(ctx: AppContext, step: SignInStep) -> bytes:
    from webauthn.helpers import base64url_to_bytes

    return base64url_to_bytes(str(orjson.loads(ctx.keys.decrypt(step.data or ""))))
