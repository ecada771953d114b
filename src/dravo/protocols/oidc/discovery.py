"""The configuration of a provider (OpenID Connect Discovery 1.0)."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from dravo.core.errors import InvalidInput

WELL_KNOWN = "/.well-known/openid-configuration"
# Accepted signature algorithms: no HMAC, whose secret others may know, and never "none".
ALGORITHMS = ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA")


@dataclass(frozen=True)
class Provider:
    """An OpenID provider, from its configuration."""

    issuer: str
    authorization: str
    token: str
    keys: str
    userinfo: str | None = None
    end_session: str | None = None
    algorithms: tuple[str, ...] = ("RS256",)
    token_auth: tuple[str, ...] = ("client_secret_basic",)
    scopes: tuple[str, ...] = ("openid",)


def address_of(issuer: str) -> str:
    """Return the address of an issuer's configuration; the address of the configuration itself is accepted
    too.

    Raises:
        InvalidInput: for another address.
    """
    return check_endpoint(repair_issuer(issuer), "issuer") + WELL_KNOWN


def repair_issuer(text: str) -> str:
    """Return an issuer without the blanks and slashes, and without the end of the configuration's address,
    that were pasted with it.
    """
    return text.strip().removesuffix(WELL_KNOWN).rstrip("/")


def read_configuration(document: Mapping[str, Any], issuer: str) -> Provider:
    """Return the provider of a configuration.

    Args:
        issuer: the issuer as entered; the document must name the same one (section 4.3).

    Raises:
        InvalidInput: with the wrong value.
    """
    named = document.get("issuer")
    if not isinstance(named, str) or named.rstrip("/") != repair_issuer(issuer):
        raise InvalidInput(
            f"The configuration names the issuer '{str(named)[:200]}'.",
            f"If this is the right provider, enter the issuer '{str(named)[:200]}'.",
            "issuer",
        )
    if "code" not in _texts(document, "response_types_supported", ("code",)):
        raise InvalidInput(
            "The provider does not support the authorization code flow.",
            "Ask the administrator of the provider to allow the response type 'code'.",
            "issuer",
        )
    offered = _texts(document, "id_token_signing_alg_values_supported", ("RS256",))
    algorithms = tuple(each for each in ALGORITHMS if each in offered)
    if not algorithms:
        raise InvalidInput(
            f"The provider signs only with {', '.join(offered)}.",
            f"Configure the provider to sign with {', '.join(ALGORITHMS[:2])} ...",
            "issuer",
        )
    return Provider(
        named,
        _address(document, "authorization_endpoint"),
        _address(document, "token_endpoint"),
        _address(document, "jwks_uri"),
        _address(document, "userinfo_endpoint") if document.get("userinfo_endpoint") else None,
        _address(document, "end_session_endpoint") if document.get("end_session_endpoint") else None,
        algorithms,
        _texts(document, "token_endpoint_auth_methods_supported", ("client_secret_basic",)),
        _texts(document, "scopes_supported", ("openid",)),
    )


def _texts(document: Mapping[str, Any], name: str, otherwise: tuple[str, ...]) -> tuple[str, ...]:
    found = document.get(name)
    return tuple(each for each in found if isinstance(each, str)) if isinstance(found, list) else otherwise


def _address(document: Mapping[str, Any], name: str) -> str:
    return check_endpoint(str(document.get(name) or ""), name)


def check_endpoint(address: str, name: str) -> str:
    """Return the address of an endpoint.

    Raises:
        InvalidInput: unless it is a complete URL with HTTPS, or of this machine.
    """
    try:
        parts = urlsplit(address)
        host = parts.hostname or ""
    except ValueError:
        host = ""
    if not host or parts.scheme not in ("http", "https") or parts.username or parts.fragment:
        raise InvalidInput(
            f"'{address[:200]}' is not a URL ({name}).", "Enter the complete URL: https://HOST/...", name
        )
    if parts.scheme == "http" and not _is_this_machine(host):
        raise InvalidInput(f"'{address[:200]}' does not use HTTPS ({name}).", "Enter its https:// URL.", name)
    return address


def _is_this_machine(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
