"""Decides whether an ID token proves who a user is (OpenID Connect Core 3.1.3.7)."""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import orjson

from dravo.protocols.verified_identity import SignInRefused, check_context

if TYPE_CHECKING:
    from joserfc.jwk import KeySet

LARGEST = 64 * 1024
OLDEST = 600
STRANGER = "The sender is not the provider. Check the issuer."


class UnknownKey(Exception):
    """The token names an unknown key: the provider may have new ones."""


@dataclass(frozen=True)
class ExpectedToken:
    """The expected values of a token.

    Attributes:
        issuer: the provider.
        client_id: our client ID.
        nonce: the nonce of the request.
        now: seconds since 1970.
        algorithms: the accepted algorithms that the provider offers.
        skew: by how many seconds clocks may differ.
        contexts: the accepted authentication contexts (acr); none accepts all.
    """

    issuer: str
    client_id: str
    nonce: str
    now: float
    algorithms: Sequence[str]
    skew: int = 60
    contexts: Sequence[str] = ()


def accept(
    token: str, keys: KeySet, expected: ExpectedToken, access_token: str | None = None
) -> dict[str, Any]:
    """Return the claims of an ID token, if it is valid.

    Raises:
        SignInRefused: with the reason.
        UnknownKey: if the keys should be fetched again; a second time the token is refused as "key".
    """
    claims = _signed(token, keys, expected)
    _check_parties(claims, expected)
    _check_times(claims, expected)
    check_context(str(claims.get("acr") or ""), expected.contexts)
    if not hmac.compare_digest(str(claims.get("nonce")), expected.nonce):
        raise SignInRefused(
            "nonce", "The token belongs to another request.", "Start the sign-in again in one window."
        )
    subject = claims.get("sub")
    if not isinstance(subject, str) or not subject.strip() or len(subject) > 255:
        raise SignInRefused(
            "no_subject", "The token has no subject (sub).", "Configure the provider to send a stable 'sub'."
        )
    if access_token is not None and "at_hash" in claims:
        _check_hash(str(claims["at_hash"]), access_token, _header(token).get("alg", ""))
    return claims


def _header(token: str) -> Mapping[str, Any]:
    try:
        part = token.split(".", maxsplit=1)[0]
        found = orjson.loads(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4)))
    except ValueError:
        found = None
    if not isinstance(found, dict):
        raise SignInRefused("malformed", "The response is not a token.", STRANGER)
    return found


def _signed(token: str, keys: KeySet, expected: ExpectedToken) -> dict[str, Any]:
    # Imported at its first use: a service without OpenID Connect starts without joserfc.
    from joserfc import jws
    from joserfc.errors import JoseError

    if len(token) > LARGEST or token.count(".") != 2:
        raise SignInRefused("malformed", "The token is not signed.", STRANGER)
    header = _header(token)
    algorithm = header.get("alg")
    if algorithm not in expected.algorithms:
        told = ", ".join(expected.algorithms)
        raise SignInRefused(
            "algorithm",
            f"The token is signed with '{str(algorithm)[:40]}'. Dravo accepts {told}.",
            "Configure the provider to sign with RS256 or ES256.",
        )
    if "crit" in header or header.get("b64") is False:
        raise SignInRefused("algorithm", "The token requires an unsupported extension (crit).", STRANGER)
    kid = header.get("kid")
    known = [key for key in keys.keys if kid is None or key.kid == kid]
    if not known:
        raise UnknownKey(str(kid))
    for key in known:
        try:
            signed = jws.deserialize_compact(token, key, algorithms=[str(algorithm)])
        except (JoseError, ValueError, TypeError):
            continue
        return _claims(signed.payload)
    raise SignInRefused(
        "signature",
        "The signature is invalid. The token was not signed with a key of the provider, or was changed.",
        "Check the issuer.",
    )


def _claims(payload: bytes) -> dict[str, Any]:
    try:
        claims = orjson.loads(payload)
    except ValueError:
        claims = None
    if not isinstance(claims, dict):
        raise SignInRefused("malformed", "The token contains no readable claims.", STRANGER)
    return claims


def _check_parties(claims: Mapping[str, Any], expected: ExpectedToken) -> None:
    if claims.get("iss") != expected.issuer:
        raise SignInRefused(
            "issuer",
            f"The issuer is '{str(claims.get('iss'))[:200]}' instead of {expected.issuer}.",
            "Compare the issuer with the configuration of the provider.",
        )
    audience = claims.get("aud")
    named = audience if isinstance(audience, list) else [audience]
    if expected.client_id not in named:
        told = ", ".join(str(each)[:100] for each in named[:5])
        raise SignInRefused(
            "audience",
            f"The audience is {told} instead of {expected.client_id}.",
            "Compare the client ID on both sides.",
        )
    authorized = claims.get("azp")
    if (len(named) > 1 and authorized is None) or (
        authorized is not None and authorized != expected.client_id
    ):
        raise SignInRefused(
            "audience",
            "The token was issued to another client (azp).",
            "Compare the client ID on both sides.",
        )


def _check_times(claims: Mapping[str, Any], expected: ExpectedToken) -> None:
    ends, made, begins = (_number(claims, name) for name in ("exp", "iat", "nbf"))
    if ends is None or made is None:
        raise SignInRefused("malformed", "The token has no validity period (iat, exp).", STRANGER)
    if ends <= expected.now - expected.skew:
        apart = round(expected.now - ends)
        raise SignInRefused(
            "expired",
            f"The token expired {apart:,} seconds ago.",
            "Start the sign-in again. Synchronize both clocks with a time server.",
        )
    if made > expected.now + expected.skew or (begins is not None and begins > expected.now + expected.skew):
        apart = round(max(made, begins or 0) - expected.now)
        raise SignInRefused(
            "early",
            f"The token becomes valid in {apart:,} seconds.",
            "Synchronize both clocks with a time server.",
        )
    if made < expected.now - OLDEST - expected.skew:
        raise SignInRefused(
            "expired",
            "The token is older than the request.",
            "Start the sign-in again. Synchronize both clocks with a time server.",
        )


def _number(claims: Mapping[str, Any], name: str) -> float | None:
    found = claims.get(name)
    if found is None:
        return None
    if isinstance(found, bool) or not isinstance(found, int | float):
        raise SignInRefused("malformed", f"The token's '{name}' is not a time.", STRANGER)
    return float(found)


def _check_hash(claimed: str, access_token: str, algorithm: str) -> None:
    """Check that an access token belongs to this ID token (OpenID Connect Core 3.1.3.6)."""
    name = {"384": "sha384", "512": "sha512"}.get(
        str(algorithm)[-3:], "sha512" if algorithm == "EdDSA" else "sha256"
    )
    whole = hashlib.new(name, access_token.encode()).digest()
    right = base64.urlsafe_b64encode(whole[: len(whole) // 2]).decode().rstrip("=")
    if not hmac.compare_digest(claimed.rstrip("="), right):
        raise SignInRefused(
            "access token", "The access token does not belong to the ID token (at_hash).", STRANGER
        )


def check_userinfo(claims: Mapping[str, Any], userinfo: Mapping[str, Any]) -> dict[str, Any]:
    """Return the claims of a token together with those of the userinfo; the token wins.

    Raises:
        SignInRefused: if the userinfo is about another user (section 5.3.2).
    """
    if userinfo.get("sub") != claims["sub"]:
        raise SignInRefused("userinfo", "The UserInfo response belongs to another user.", STRANGER)
    return {**userinfo, **claims}
