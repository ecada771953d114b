"""What is known of a provider: metadata, fields and certificates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from dravo.core.errors import DravoError, InvalidInput
from dravo.core.instants import Instant
from dravo.protocols.http_client import check_url
from dravo.protocols.oidc.discovery import ALGORITHMS, check_endpoint
from dravo.protocols.oidc.keys import read_keys
from dravo.protocols.saml.certificates import Certificate, read_certificates
from dravo.protocols.saml.metadata import Provider, read_metadata
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.services.sign_in.provider_metadata import (
    ProviderTrouble,
    fetch_configuration,
    fetch_keys,
    fetch_metadata,
)
from dravo.services.sign_in.settings.protocols import OIDC, SAML
from dravo.store import clock
from dravo.store.sources.settings import SourceSignIn

# How a provider is known whose values were entered one by one.
BY_HAND = "fields"


@dataclass
class ProviderCertificate:
    """A signing certificate of a provider."""

    subject: str
    fingerprint: str
    from_at: str
    until_at: str


@dataclass
class KnownProvider:
    """The known values of a provider; `waiting` are new certificates that are not accepted yet."""

    entity_id: str
    sign_in: str
    sign_out: str
    certificates: list[ProviderCertificate]
    waiting: list[ProviderCertificate]
    learned_from: str
    authorization_endpoint: str = ""
    token_endpoint: str = ""
    userinfo_endpoint: str = ""
    jwks_uri: str = ""
    keys: int = 0


def of_provider(
    protocol: str,
    settings: dict[str, Any],
    before: dict[str, Any],
    row: SourceSignIn | None,
    given: dict[str, Any],
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the columns that change in what is known of the provider, and the details for the audit log."""
    known = row.provider if row is not None else {}
    try:
        found = find_provider(protocol, settings, before, known, given)
    except DravoError as wrong:
        if wrong.field in ("metadata", "certificate", "fields"):
            raise
        # A metadata URL that does not answer yet is reported; the settings are saved all the same.
        return {"trouble": f"{wrong.message} {wrong.hint}".strip(), "looked_at": clock.now()}, {}
    if found is None:
        return {}, {}
    trouble = found.pop("trouble", None)
    looked: dict[str, Any] = (
        {"looked_at": clock.now(), "trouble": None, "waiting": None}
        if found.get("from") == "address"
        else {"waiting": None, "trouble": trouble}
    )
    if found == known:
        return looked, {}
    return {"provider": found, **looked}, {"provider": found.get("entity_id") or found.get("issuer")}


def find_provider(
    protocol: str,
    settings: dict[str, Any],
    before: dict[str, Any],
    known: dict[str, Any],
    given: dict[str, Any],
) -> dict[str, Any] | None:
    """Return what is known of a provider after a change, from its addresses and from entered values; None if
    that stays.

    Where "trouble" is in it, something of the provider could not be read.

    Raises:
        DravoError: if the provider does not answer, or a value is invalid.
    """
    if protocol == SAML:
        return _of_saml(settings, before, known, given)
    return _of_oidc(settings, before, known, given) if protocol == OIDC else None


def _of_saml(
    settings: dict[str, Any], before: dict[str, Any], known: dict[str, Any], given: dict[str, Any]
) -> dict[str, Any] | None:
    if given.get("metadata"):
        return saml_document(read_metadata(given["metadata"].encode()), "paste")
    if given.get("fields"):
        return _by_fields(known, given["fields"])
    address = settings["metadata_url"]
    if address and (address != before.get("metadata_url") or given.get("look")):
        return saml_document(fetch_metadata(address, settings["ca"]), "address")
    return None


def _of_oidc(
    settings: dict[str, Any], before: dict[str, Any], known: dict[str, Any], given: dict[str, Any]
) -> dict[str, Any] | None:
    issuer = settings["issuer"]
    fields = {name: value for name, value in (given.get("fields") or {}).items() if value is not None}
    if fields:
        return _oidc_by_fields(issuer, known, fields, settings["ca"])
    if issuer and (issuer != before.get("issuer") or given.get("look")):
        return {**fetch_configuration(issuer, settings["ca"]), "from": "address"}
    return None


# By the name of a field: the name in what is stored of an OpenID provider.
_ENDPOINTS = {
    "authorization_endpoint": "authorization",
    "token_endpoint": "token",
    "userinfo_endpoint": "userinfo",
    "jwks_uri": "keys",
}


def _oidc_by_fields(issuer: str, known: dict[str, Any], fields: dict[str, str], ca: str) -> dict[str, Any]:
    """Return an OpenID provider whose values were entered one by one: endpoints, and its keys or their URL.

    An empty field removes a value. Of a provider that was discovered, nothing but the entered values stays.
    """
    by_hand = known if known.get("from") == BY_HAND and known.get("issuer") == issuer else {}
    if unknown := sorted({*fields} - {*_ENDPOINTS, "jwks"}):
        raise InvalidInput(
            f"OpenID Connect has no field '{unknown[0]}'.",
            f"Use {', '.join(_ENDPOINTS)} or jwks.",
            "fields",
        )
    found: dict[str, Any] = {
        "authorization": "",
        "token": "",
        "keys": "",
        "userinfo": None,
        "jwks": {},
        **by_hand,
        "issuer": issuer,
        "end_session": None,
        # The kind of a key decides which of them can be used with it.
        "algorithms": list(ALGORITHMS),
        "token_auth": ["client_secret_basic"],
        "scopes": ["openid"],
        "from": BY_HAND,
    }
    for name, stored in _ENDPOINTS.items():
        if name in fields:
            address = fields[name].strip()
            found[stored] = check_endpoint(address, "fields") if address else ""
    if "jwks" in fields:
        found["jwks"] = read_keys(fields["jwks"]) if fields["jwks"].strip() else {}
        if found["jwks"]:
            found["keys"] = ""
    elif fields.get("jwks_uri", "").strip():
        try:
            found["jwks"] = fetch_keys(found["keys"], ca)
        except ProviderTrouble as wrong:
            # The other values are saved all the same.
            found["jwks"], found["trouble"] = {}, f"{wrong.message} {wrong.hint}"
    return found


def saml_document(provider: Provider, how: str) -> dict[str, Any]:
    """Return a provider as it is stored."""
    if any(ord(sign) < 32 for sign in provider.entity_id):
        raise InvalidInput(
            "The entity ID of the provider contains a line break.",
            "Ask the administrator of the provider for its metadata.",
            "metadata",
        )
    # Browsers are sent to these URLs, so only HTTP is allowed.
    for address in (*provider.sign_in.values(), *provider.sign_out.values()):
        check_url(address, "metadata")
    return {
        "entity_id": provider.entity_id,
        "sign_in": dict(provider.sign_in),
        "sign_out": dict(provider.sign_out),
        "certificates": [each.pem for each in provider.certificates],
        "wants_signed": provider.wants_signed,
        "from": how,
        "ends_at": last_end(provider.certificates),
    }


def last_end(certificates: Sequence[Certificate]) -> Instant | None:
    """Return the latest expiry of some certificates."""
    return max((each.until for each in certificates), default=None)


def _by_fields(known: dict[str, Any], fields: dict[str, str | None]) -> dict[str, Any]:
    """Return the known provider with some fields replaced; an empty field removes a value."""
    found = {
        "entity_id": "",
        "sign_in": {},
        "sign_out": {},
        "certificates": [],
        "wants_signed": False,
        **known,
        "from": BY_HAND,
    }
    if foreign := sorted(name for name in (*_ENDPOINTS, "jwks") if fields.get(name) is not None):
        raise InvalidInput(
            f"SAML has no field '{foreign[0]}'.",
            "Use entity_id, sign_in, sign_out or certificates.",
            "fields",
        )
    if (name := fields.get("entity_id")) is not None:
        if any(ord(sign) < 32 for sign in name.strip()):
            raise InvalidInput("The entity ID contains a line break.", "Paste it again.", "fields")
        found["entity_id"] = name.strip()
    for part in ("sign_in", "sign_out"):
        if (address := fields.get(part)) is not None:
            checked = check_url(address, "fields") if address.strip() else ""
            found[part] = {REDIRECT: checked} if checked else {}
    if (text := fields.get("certificates")) is not None:
        read = read_certificates(text) if text.strip() else []
        found["certificates"], found["ends_at"] = [each.pem for each in read], last_end(read)
    return found


def certificates_of(row: SourceSignIn) -> list[Certificate]:
    """Return the certificates with which a SAML provider signs."""
    return [each for pem in row.provider.get("certificates", ()) for each in read_certificates(pem)]


def as_fields(row: SourceSignIn) -> KnownProvider:
    """Return what is known of a provider as form fields, with certificates in words."""
    known = row.provider
    shown = [asdict(each) for each in certificates_of(row)] if row.protocol == SAML else []
    waiting = [
        asdict(each) for pem in (row.waiting or {}).get("certificates", ()) for each in read_certificates(pem)
    ]
    return KnownProvider(
        entity_id=known.get("entity_id") or known.get("issuer") or "",
        sign_in=known.get("sign_in", {}).get(REDIRECT)
        or known.get("sign_in", {}).get(POST)
        or known.get("authorization")
        or "",
        sign_out=known.get("sign_out", {}).get(REDIRECT)
        or known.get("sign_out", {}).get(POST)
        or known.get("end_session")
        or "",
        certificates=[_certificate(each) for each in shown],
        waiting=[_certificate(each) for each in waiting],
        learned_from=known.get("from", ""),
        **{name: known.get(stored) or "" for name, stored in _ENDPOINTS.items()},
        keys=len((known.get("jwks") or {}).get("keys", ())),
    )


def _certificate(each: dict[str, Any]) -> ProviderCertificate:
    return ProviderCertificate(
        subject=each["subject"],
        fingerprint=each["fingerprint"],
        from_at=each["from_"],
        until_at=each["until"],
    )
