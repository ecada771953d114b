"""What both protocols of signing in share: a refusal with its reason and repair, and the identity that was
proved.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dravo.core.errors import DravoError


class SignInRefused(DravoError):
    """What arrived proves nobody.

    Args:
        reason: in a word or two, such as "signature" or "audience": by this it is counted and looked for.
        message: what is wrong, in a sentence.
        hint: what to do about it.
    """

    code = "sign_in_refused"
    status = 403

    def __init__(self, reason: str, message: str, hint: str = "") -> None:
        super().__init__(message, hint)
        self.reason = reason


@dataclass(frozen=True)
class VerifiedIdentity:
    """Who a user is, as their provider proved it.

    Attributes:
        issuer: the provider's own name (entity id, or issuer).
        subject: by what it knows the user: never a name that may pass to another user, if the provider
            keeps to its standard.
        attributes: by the names that arrived, each with its values as texts (JSON values where the protocol
            has them).
        once: what is never accepted a second time, and until when it could be (seconds since 1970).
        session: by what the provider knows this sign-in, for signing out there.
        format: how the subject is named, where the protocol says so.
    """

    issuer: str
    subject: str
    attributes: Mapping[str, Sequence[Any]] = field(default_factory=dict)
    once: tuple[str, float] = ("", 0.0)
    session: str | None = None
    format: str | None = None

    @property
    def native_id(self) -> str:
        """By what a record or an operator is bound for good: (issuer, subject); no issuer holds a line
        end.
        """
        return f"{self.issuer}\n{self.subject}"
