"""Second factors of operators and users: authenticator apps, passkeys and recovery codes."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel


class CodeRequest(RequestModel):
    """A code of an authenticator app."""

    code: str = Field(max_length=60, description="Code from the authenticator app.")


class PasskeyResponse(RequestModel):
    """The response of an authenticator to a challenge."""

    state: str = Field(max_length=100, description="`state` of the challenge.")
    credential: dict[str, Any] = Field(
        description="The credential in its JSON form (Web Authentication, section 5.1)."
    )


class ProofRequest(RequestModel):
    """The proof of a second factor: a code, a recovery code or the response of a passkey."""

    code: str = Field(
        "", max_length=60, description="Code from the authenticator app, or a recovery code; empty for none."
    )
    passkey: PasskeyResponse | None = Field(None, description="Response of a passkey, or null.")


class AddPasskeyRequest(PasskeyResponse):
    """A passkey that an authenticator created."""

    label: str = Field("", max_length=200, description="Name of the passkey, to tell it from others.")


class Passkey(Model):
    """A passkey."""

    id: str = Field(description="ID of the passkey.")
    label: str = Field(description="Name of the passkey.")
    created_at: str
    last_used_at: str | None


class SecondFactor(Model):
    """Your second factor."""

    on: bool = Field(description="Whether you have a second factor, an app or a passkey.")
    app: bool = Field(description="Whether an authenticator app is set up.")
    since: str | None = Field(description="Time when the app was set up, or null.")
    passkeys: list[Passkey] = Field(description="Your passkeys.")
    passkeys_at: str = Field(
        description="Address at which browsers can use passkeys; empty if they cannot, because the public "
        "address has no domain name."
    )
    recovery_left: int
    required: bool


class NewSecondFactor(Model):
    """A new secret, as text, as URI (`address`) and as QR code (`picture`)."""

    secret: str
    address: str
    picture: str


class RecoveryCodes(Model):
    """New recovery codes. Each code works once. Empty if you have codes already."""

    recovery_codes: list[str]


class PasskeyChallenge(Model):
    """A challenge for an authenticator."""

    state: str = Field(description="Identifies the challenge; send it back with the response.")
    options: dict[str, Any] = Field(
        description="Options in their JSON form (Web Authentication, sections 5.4 and 5.5)."
    )


class PasskeyOffer(Model):
    """A challenge for your passkeys."""

    challenge: PasskeyChallenge | None = Field(description="The challenge; null if you have no passkeys.")
