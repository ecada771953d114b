"""JSON Web Keys (RFC 7517): a provider's public keys, and our own key for OpenID Connect.

joserfc is imported at its first use: a service without OpenID Connect starts without it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from joserfc.jwk import KeySet, KeySetSerialization, RSAKey


def read_key_set(document: KeySetSerialization) -> KeySet:
    """Return the keys of a JWK set document, as a provider publishes it."""
    from joserfc.jwk import KeySet

    return KeySet.import_key_set(document)


def read_private_key(pem: bytes, identifier: str) -> RSAKey:
    """Return a private key; `identifier` becomes its `kid`."""
    from joserfc.jwk import RSAKey

    return RSAKey.import_key(pem, {"kid": identifier, "use": "sig"})


def public_jwk(pem: bytes, identifier: str) -> dict[str, Any]:
    """Return the public part of a private key for publication."""
    return dict(read_private_key(pem, identifier).as_dict(private=False))
