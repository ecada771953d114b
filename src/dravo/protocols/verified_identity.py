"""What SAML and OpenID Connect share: a refusal with its reason and hint, and the verified identity."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dravo.core.errors import DravoError


class SignInRefused(DravoError):
    """A response proves no identity.

    Args:
        reason: one or two words, such as "signature" or "audience", for counting and searching.
        message: what is wrong, in one sentence.
        hint: what to do.
    """

    code = "sign_in_refused"
    status = 403

    def __init__(self, reason: str, message: str, hint: str = "") -> None:
        super().__init__(message, hint)
        self.reason = reason


@dataclass(frozen=True)
class AuthnRequirements:
    """How the user has to sign in at the provider.

    Attributes:
        force: whether the user has to sign in again.
        contexts: the accepted authentication contexts (AuthnContextClassRef, acr); none accepts all.
    """

    force: bool = False
    contexts: Sequence[str] = ()


ANY_SIGN_IN = AuthnRequirements()


def check_context(found: str, accepted: Sequence[str]) -> None:
    """Check how a user signed in at the provider (acr, AuthnContextClassRef).

    Args:
        found: the authentication context that the provider states, or an empty text.
        accepted: the accepted ones; none accepts all.

    Raises:
        SignInRefused: "context".
    """
    if accepted and found not in accepted:
        stated = f"'{found[:200]}'" if found else "none"
        raise SignInRefused(
            "context",
            f"The provider states the authentication context {stated}; required: {', '.join(accepted)}.",
            "Configure the provider to use this authentication context, or change the required one.",
        )


@dataclass(frozen=True)
class VerifiedIdentity:
    """The identity that a provider verified.

    Attributes:
        issuer: the provider's entity ID or issuer.
        subject: the provider's permanent identifier of the user, never a name that can pass to another user.
        attributes: the values of each claim, as texts (JSON values where the protocol has them).
        once: what is accepted only once, and until when (seconds since 1970).
        session: the session at the provider, for single logout.
        format: the format of the subject, where the protocol states it.
    """

    issuer: str
    subject: str
    attributes: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    once: tuple[str, float] = ("", 0.0)
    session: str | None = None
    format: str | None = None

    @property
    def native_id(self) -> str:
        """The permanent key of a record or an operator link: (issuer, subject); no issuer contains a line
        end.
        """
        return f"{self.issuer}\n{self.subject}"
