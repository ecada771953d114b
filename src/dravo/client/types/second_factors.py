"""Second factors of operators and users: authenticator apps, passkeys and recovery codes.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class NewSecondFactor(TypedDict):
    """A new secret, as text, as URI (`address`) and as QR code (`picture`)."""

    secret: str
    address: str
    picture: str


class Passkey(TypedDict):
    """A passkey."""

    id: str
    label: str
    created_at: str
    last_used_at: str | None


class PasskeyChallenge(TypedDict):
    """A challenge for an authenticator."""

    state: str
    options: dict[str, Any]


class PasskeyOffer(TypedDict):
    """A challenge for your passkeys."""

    challenge: PasskeyChallenge | None


class PasskeyResponse(TypedDict):
    """The response of an authenticator to a challenge."""

    state: str
    credential: dict[str, Any]


class RecoveryCodes(TypedDict):
    """New recovery codes. Each code works once. Empty if you have codes already."""

    recovery_codes: list[str]


class SecondFactor(TypedDict):
    """Your second factor."""

    on: bool
    app: bool
    since: str | None
    passkeys: list[Passkey]
    passkeys_at: str
    recovery_left: int
    required: bool
