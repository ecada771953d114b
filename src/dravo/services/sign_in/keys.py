"""Our keys towards providers: created once, published as certificates, rotated without a gap."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography import x509
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


def new_key(ctx: AppContext, source_id: str, name: str, signs_from: Instant) -> dict[str, Any]:
    """Return the row of a new key with a self-signed certificate; providers compare it and build no trust on
    it.
    """
    key = rsa.generate_private_key(65537, BITS)
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
