"""Our keys towards providers: created once, published as certificates, rotated without a gap."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant, later
from dravo.protocols.saml.certificates import Certificate, of, read_certificates
from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.sign_in import keys as stored

YEARS = 5
BITS = 3072
# Of uploaded keys.
LEAST_BITS = 2048
# Time for which a provider may still encrypt for the previous key.
KEPT_DAYS = 7
AS_PEM = (serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
NOT_YET = Instant("9999-12-31T00:00:00.000000Z")


@dataclass(frozen=True)
class OurKey:
    """One of our keys; `signs` tells whether it is in use. Others are the next key and former ones."""

    id: str
    key: rsa.RSAPrivateKey
    certificate: Certificate
    signs: bool
    retired_at: Instant | None


def of_source(ctx: AppContext, connection: Connection, source_id: str) -> list[OurKey]:
    """Return our valid keys towards the provider of a source; the key in use comes first."""
    now = clock.now()
    rows = stored.valid_of_source(connection, source_id, now)
    used = next((row.id for row in rows if row.signs_from <= now), None)
    found = [
        OurKey(
            row.id,
            _key(ctx, row.secret),
            read_certificates(row.certificate)[0],
            row.id == used,
            row.retired_at,
        )
        for row in rows
    ]
    return sorted(found, key=lambda each: not each.signs)


def _key(ctx: AppContext, kept: str) -> rsa.RSAPrivateKey:
    return _loaded(ctx.keys.decrypt(kept))


@functools.lru_cache(256)
def _loaded(pem: str) -> rsa.RSAPrivateKey:
    """Return a private key from a cache: loading checks its numbers, which takes longer than a whole
    sign-in.
    """
    found = serialization.load_pem_private_key(pem.encode(), None)
    if not isinstance(found, rsa.RSAPrivateKey):
        raise TypeError("a key of Dravo is not an RSA key")
    return found


def generate_key() -> rsa.RSAPrivateKey:
    """Return a new private key."""
    return rsa.generate_private_key(65537, BITS)


def new_key(ctx: AppContext, source_id: str, name: str, signs_from: Instant) -> dict[str, Any]:
    """Return the row of a new key with a self-signed certificate; providers compare it and build no trust on
    it.
    """
    key = generate_key()
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"Dravo for {name}"[:64])])
    present = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(present - timedelta(minutes=5))
        .not_valid_after(present + timedelta(days=365 * YEARS))
        .sign(key, hashes.SHA256())
    )
    pem = key.private_bytes(*AS_PEM).decode()
    return {
        "id": new_id(),
        "source_id": source_id,
        "secret": ctx.keys.encrypt(pem),
        "certificate": of(made).pem,
        "created_at": clock.now(),
        "signs_from": signs_from,
    }


@dataclass(frozen=True)
class UploadedKey:
    """A private key and its certificate, as an operator pasted them (PEM)."""

    private_key: str = field(repr=False)
    certificate: str


def uploaded_key(ctx: AppContext, source_id: str, uploaded: UploadedKey) -> dict[str, Any]:
    """Return the row of an uploaded key, which signs once it is activated.

    Raises:
        InvalidInput: unless it is an RSA key of at least 2,048 bits with a certificate of it that is valid.
    """
    key = _read_private_key(uploaded.private_key)
    certificates = read_certificates(uploaded.certificate)
    if len(certificates) != 1:
        raise InvalidInput(
            f"The text contains {len(certificates)} certificates.",
            "Paste the certificate of the key only, without those of its issuers.",
            "certificate",
        )
    certificate = certificates[0]
    public = x509.load_pem_x509_certificate(certificate.pem.encode()).public_key()
    if public != key.public_key():
        raise InvalidInput(
            f"The certificate '{certificate.subject}' belongs to another key.",
            "Paste the certificate that was issued for this private key.",
            "certificate",
        )
    if certificate.until <= clock.now():
        raise InvalidInput(
            f"The certificate '{certificate.subject}' expired on {certificate.until[:10]}.",
            "Paste a certificate that is valid.",
            "certificate",
        )
    return {
        "id": new_id(),
        "source_id": source_id,
        "secret": ctx.keys.encrypt(key.private_bytes(*AS_PEM).decode()),
        "certificate": certificate.pem,
        "created_at": clock.now(),
        "signs_from": NOT_YET,
    }


def _read_private_key(pem: str) -> rsa.RSAPrivateKey:
    hint = "Paste an RSA private key as PEM, with its BEGIN and END lines."
    try:
        key = serialization.load_pem_private_key(pem.strip().encode(), None)
    except TypeError:
        raise InvalidInput(
            "The private key is protected by a passphrase.",
            "Remove the passphrase, such as with `openssl pkey -in FILE`, and paste the result.",
            "private_key",
        ) from None
    except (ValueError, UnsupportedAlgorithm):
        raise InvalidInput("The private key is incomplete or invalid.", hint, "private_key") from None
    if not isinstance(key, rsa.RSAPrivateKey):
        raise InvalidInput("The private key is not an RSA key.", hint, "private_key")
    if key.key_size < LEAST_BITS:
        raise InvalidInput(
            f"The private key has {key.key_size:,} bits.",
            f"Use a key of at least {LEAST_BITS:,} bits.",
            "private_key",
        )
    return key


def add_next(ctx: AppContext, connection: Connection, source_id: str, row: dict[str, Any]) -> None:
    """Add the next key, so that the provider knows it before it signs.

    Raises:
        InvalidInput: if there is a next key already.
    """
    if any(not each.signs and each.retired_at is None for each in of_source(ctx, connection, source_id)):
        raise InvalidInput(
            "A next key exists already.", "Give its certificate to the provider, then activate it."
        )
    stored.insert_key(connection, row)


def use_next(ctx: AppContext, connection: Connection, source_id: str, former_until: Instant) -> None:
    """Sign with the next key from now on; the former key decrypts until a later day.

    Raises:
        NotFound: if there is no next key.
    """
    keys = of_source(ctx, connection, source_id)
    waiting = next((each for each in keys if not each.signs and each.retired_at is None), None)
    if waiting is None:
        raise NotFound(
            "There is no next key.", "Create a next key first, and give its certificate to the provider."
        )
    stored.use_key(connection, source_id, waiting.id, clock.now(), former_until)


def kept_until(now: Instant) -> Instant:
    """Return until when a former key decrypts."""
    return later(now, KEPT_DAYS * 86_400)
