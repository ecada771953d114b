"""The code flow with PKCE (OpenID Connect Core 3.1, RFC 7636): the address for the browser, and the token
request.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING
from urllib.parse import quote_plus, urlencode

from dravo.protocols.oidc.discovery import Provider
from dravo.protocols.verified_identity import ANY_SIGN_IN, AuthnRequirements

if TYPE_CHECKING:
    from joserfc.jwk import RSAKey

CODE_GRANT = "authorization_code"
ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
BASIC, IN_BODY, BY_KEY = "client_secret_basic", "client_secret_post", "private_key_jwt"


@dataclass(frozen=True)
class Client:
    """Our client at a provider, with a secret or a key."""

    id: str
    redirect: str
    secret: str = field(default="", repr=False)
    key: RSAKey | None = field(default=None, repr=False)
    asks_for: tuple[str, ...] = ("openid", "profile", "email")


def start(
    provider: Provider,
    client: Client,
    state: str,
    nonce: str,
    verifier: str,
    required: AuthnRequirements = ANY_SIGN_IN,
) -> str:
    """Return the address at which the browser signs in.

    Args:
        state, nonce, verifier: random values of this sign-in.
        required: how the user has to sign in at the provider.
    """
    query = {
        "response_type": "code",
        "client_id": client.id,
        "redirect_uri": client.redirect,
        "scope": " ".join(dict.fromkeys(("openid", *client.asks_for))),
        "state": state,
        "nonce": nonce,
        "code_challenge": challenge(verifier),
        "code_challenge_method": "S256",
        **({"prompt": "login"} if required.force else {}),
        **({"acr_values": " ".join(required.contexts)} if required.contexts else {}),
    }
    return f"{provider.authorization}{'&' if '?' in provider.authorization else '?'}{urlencode(query)}"


def challenge(verifier: str) -> str:
    """Return the challenge of a verifier (RFC 7636, section 4.2)."""
    return base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).decode().rstrip("=")


def way_of(provider: Provider, client: Client) -> str:
    """Return how the client authenticates at the token endpoint: by its key if it has one, else as the
    provider accepts a secret.
    """
    if client.key is not None:
        return BY_KEY
    return IN_BODY if BASIC not in provider.token_auth and IN_BODY in provider.token_auth else BASIC


def token_request(
    provider: Provider, client: Client, code: str, verifier: str, now: float, once: str
) -> tuple[dict[str, str], dict[str, str]]:
    """Return (form, headers) of the token request for a code.

    Args:
        now: seconds since 1970.
        once: an ID for our assertion, where one is signed.
    """
    form = {
        "grant_type": CODE_GRANT,
        "code": code,
        "redirect_uri": client.redirect,
        "code_verifier": verifier,
    }
    way = way_of(provider, client)
    if way == BY_KEY and client.key is not None:
        # Imported at its first use: a service without OpenID Connect starts without joserfc.
        from joserfc import jwt

        claims = {
            "iss": client.id,
            "sub": client.id,
            "aud": provider.token,
            "jti": once,
            "iat": int(now),
            "exp": int(now) + 120,
        }
        signed = jwt.encode({"alg": "RS256", "kid": client.key.kid or ""}, claims, client.key)
        return {
            **form,
            "client_id": client.id,
            "client_assertion_type": ASSERTION,
            "client_assertion": signed,
        }, {}
    if way == IN_BODY:
        return {**form, "client_id": client.id, "client_secret": client.secret}, {}
    pair = f"{quote_plus(client.id)}:{quote_plus(client.secret)}"
    return form, {"Authorization": "Basic " + base64.b64encode(pair.encode()).decode()}


def values_of(claims: Mapping[str, object]) -> dict[str, Sequence[object]]:
    """Return claims as attributes with lists of values, without those of the protocol itself."""
    own = (
        "iss",
        "aud",
        "exp",
        "iat",
        "nbf",
        "nonce",
        "at_hash",
        "c_hash",
        "azp",
        "jti",
        "auth_time",
        "acr",
        "amr",
        "sid",
    )
    return {
        name: value if isinstance(value, list) else [value]
        for name, value in claims.items()
        if name not in own and value not in (None, "")
    }
