"""Certificates in PEM, in base64 with or without header lines, and in metadata."""

from __future__ import annotations

import base64
import binascii
import re
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, instant

_PEM = re.compile(r"-----BEGIN ([A-Z ]+)-----(.*?)-----END \1-----", re.DOTALL)


@dataclass(frozen=True)
class Certificate:
    """A certificate: `pem` is its one form here."""

    pem: str
    subject: str
    fingerprint: str
    from_: Instant
    until: Instant

    @property
    def body(self) -> str:
        """The base64 of it in one line, as metadata has it."""
        return "".join(line for line in self.pem.splitlines() if not line.startswith("-----"))


def read_certificates(text: str) -> list[Certificate]:
    """Return the certificates in a text: one or several in PEM, or one in bare base64, with any blanks and
    line ends.

    Raises:
        InvalidInput: for a text without certificates, with a hint.
    """
    found = _PEM.findall(text)
    if any(label.endswith("PRIVATE KEY") for label, _ in found):
        raise InvalidInput(
            "This is a private key. Dravo did not store it.",
            "Paste the certificate. Replace the private key, because it was exposed.",
            "certificate",
        )
    bodies = [body for label, body in found if label.endswith("CERTIFICATE")] if found else [text]
    if not bodies or not text.strip():
        raise InvalidInput(
            "The text contains no certificate.",
            "Paste the certificate, with or without the BEGIN and END lines.",
            "certificate",
        )
    return [_read(body) for body in bodies]


def _read(body: str) -> Certificate:
    bare = "".join(body.split())
    try:
        known = x509.load_der_x509_certificate(base64.b64decode(bare, validate=True))
    except (binascii.Error, ValueError):
        hint = "Paste the complete certificate. A fingerprint is not enough."
        raise InvalidInput("The certificate is incomplete or invalid.", hint, "certificate") from None
    return of(known)


def of(known: x509.Certificate) -> Certificate:
    """Return the description of a certificate."""
    return Certificate(
        known.public_bytes(serialization.Encoding.PEM).decode().strip(),
        known.subject.rfc4514_string(),
        known.fingerprint(hashes.SHA256()).hex(":").upper(),
        instant(known.not_valid_before_utc.astimezone(UTC)),
        instant(_bounded(known.not_valid_after_utc)),
    )


def _bounded(at: datetime) -> datetime:
    """Return a moment that can be written down: some certificates never end."""
    return min(at.astimezone(UTC), datetime(9999, 12, 31, tzinfo=UTC))
