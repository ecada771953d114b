"""JSON Web Keys (RFC 7517): a provider's public keys, and our own key for OpenID Connect.

joserfc is imported at its first use: a service without OpenID Connect starts without it.
"""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from dravo.core.errors import InvalidInput

if TYPE_CHECKING:
    from joserfc.jwk import KeySet, KeySetSerialization, RSAKey


def read_key_set(document: KeySetSerialization) -> KeySet:
    """Return the keys of a JWK set document, as a provider publishes it."""
    from joserfc.jwk import KeySet

    return KeySet.import_key_set(document)


def read_keys(text: str) -> dict[str, Any]:
    """Return a JWK set that was pasted as text: the set, or one key of it (RFC 7517, sections 4 and 5).

    Raises:
        InvalidInput: if it is no such text, or has a private or a secret key.
    """
    from joserfc.errors import JoseError

    hint = 'Paste the JWK set of the provider: {"keys": [...]}.'
    try:
        document = json.loads(text)
        found = document if "keys" in document else {"keys": [document]}
        if any("d" in key or key["kty"] == "oct" for key in found["keys"]):
            raise InvalidInput(
                "This is a private or secret key. Dravo did not store it.",
                "Paste the public keys. Replace the private key at the provider, because it was exposed.",
                "fields",
            )
        if not found["keys"]:
            raise InvalidInput("The JWK set has no key.", hint, "fields")
        read_key_set(found)  # type: ignore[arg-type]
    except (ValueError, KeyError, TypeError, JoseError):
        raise InvalidInput("The text is not a valid JWK set.", hint, "fields") from None
    return dict(found)


def read_private_key(pem: bytes, identifier: str) -> RSAKey:
    """Return a private key; `identifier` becomes its `kid`."""
    from joserfc.jwk import RSAKey

    return RSAKey.import_key(pem, {"kid": identifier, "use": "sig"})


def public_jwk(pem: bytes, identifier: str) -> dict[str, Any]:
    """Return the public part of a private key for publication."""
    return dict(read_private_key(pem, identifier).as_dict(private=False))
