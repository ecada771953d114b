"""Metadata of providers, fetched through the guarded HTTP client, daily and on request."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from dravo.core.errors import DravoError
from dravo.protocols.addresses import Unreachable
from dravo.protocols.http_client import Client, Fetched
from dravo.protocols.oidc.discovery import Provider as OidcProvider
from dravo.protocols.oidc.discovery import address_of, read_configuration
from dravo.protocols.saml.metadata import Provider, read_metadata

METADATA, JSON = "application/samlmetadata+xml, application/xml, text/xml", "application/json"


class ProviderTrouble(DravoError):
    """A provider does not answer, or answers something else."""

    code = "provider_trouble"
    status = 502


def fetch(
    url: str,
    accept: str,
    *,
    ca: str = "",
    form: Mapping[str, str] | None = None,
    headers: Mapping[str, str] | None = None,
) -> Fetched:
    """Return the response at an address of a provider, whatever its status; `ca` has certificates of its own
    authority.

    Raises:
        ProviderTrouble: without a response.
        NotAllowed: for an address that Dravo never calls.
    """
    client = Client()
    try:
        return client.fetch(url, accept=accept, form=form, headers=headers, ca=ca)
    except Unreachable as wrong:
        raise ProviderTrouble(
            f"{url} does not respond: {wrong}.", "Check the address, and that Dravo can reach it."
        ) from None
    finally:
        client.close()


def fetch_metadata(address: str, ca: str = "") -> Provider:
    """Return the provider that the metadata at an address describes.

    Raises:
        ProviderTrouble, NotAllowed.
    """
    found = fetch(address, METADATA, ca=ca)
    if found.status != 200:
        raise ProviderTrouble(
            f"{address} responds with status {found.status}.",
            "Open the address in a browser. It must show the metadata without sign-in.",
        )
    try:
        return read_metadata(found.content)
    except DravoError as wrong:
        raise ProviderTrouble(f"At {address}: {wrong.message}", wrong.hint) from None


def fetch_configuration(issuer: str, ca: str = "") -> dict[str, Any]:
    """Return the configuration of an OpenID provider, with its keys ("jwks").

    Raises:
        ProviderTrouble, NotAllowed, InvalidInput.
    """
    address = address_of(issuer)
    found = fetch(address, JSON, ca=ca)
    if found.status != 200 or found.document is None:
        raise ProviderTrouble(
            f"{address} responds with status {found.status} and no configuration.",
            "Enter the issuer exactly as the provider names it.",
        )
    provider = read_configuration(found.document, issuer)
    # As JSON, so that it can be compared with the stored value.
    plain = {
        name: list(value) if isinstance(value, tuple) else value for name, value in asdict(provider).items()
    }
    return {**plain, "jwks": fetch_keys(provider.keys, ca)}


def fetch_keys(address: str, ca: str = "") -> dict[str, Any]:
    """Return the keys with which an OpenID provider signs (RFC 7517).

    Raises:
        ProviderTrouble, NotAllowed.
    """
    found = fetch(address, JSON, ca=ca)
    if found.status != 200 or not isinstance((found.document or {}).get("keys"), list):
        raise ProviderTrouble(
            f"{address} responds with status {found.status} and no keys.",
            "Contact the administrator of the provider.",
        )
    return dict(found.document or {})


def oidc_provider(known: Mapping[str, Any]) -> OidcProvider:
    """Return an OpenID provider from its stored configuration."""
    names = ("issuer", "authorization", "token", "keys", "userinfo", "end_session")
    lists = {name: tuple(known.get(name) or ()) for name in ("algorithms", "token_auth", "scopes")}
    return OidcProvider(**{name: known.get(name) for name in names}, **lists)  # type: ignore[arg-type]
