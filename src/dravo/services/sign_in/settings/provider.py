"""What is known of a provider: metadata, fields and certificates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from dravo.core.errors import DravoError, InvalidInput
from dravo.core.instants import Instant
from dravo.protocols.http_client import check_url
from dravo.protocols.saml.certificates import Certificate, read_certificates
from dravo.protocols.saml.metadata import Provider, read_metadata
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.services.sign_in.provider_metadata import fetch_configuration, fetch_metadata
from dravo.services.sign_in.settings.protocols import OIDC, SAML
from dravo.store import clock
from dravo.store.sources.settings import SourceSignIn


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
        found = (
            _of_saml(settings, before, known, given)
            if protocol == SAML
            else _of_oidc(settings, before, given)
            if protocol == OIDC
            else None
        )
    except DravoError as wrong:
        if wrong.field in ("metadata", "certificate", "fields"):
            raise
        # A metadata URL that does not answer yet is reported; the settings are saved all the same.
        return {"trouble": f"{wrong.message} {wrong.hint}".strip(), "looked_at": clock.now()}, {}
    if found is None:
        return {}, {}
    looked = (
        {"looked_at": clock.now(), "trouble": None, "waiting": None}
        if found.get("from") == "address"
        else {"waiting": None}
    )
    if found == known:
        return looked, {}
    return {"provider": found, **looked}, {"provider": found.get("entity_id") or found.get("issuer")}


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
    settings: dict[str, Any], before: dict[str, Any], given: dict[str, Any]
) -> dict[str, Any] | None:
    issuer = settings["issuer"]
    if issuer and (issuer != before.get("issuer") or given.get("look")):
        return {**fetch_configuration(issuer, settings["ca"]), "from": "address"}
    return None


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
        "from": "fields",
    }
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
    )


def _certificate(each: dict[str, Any]) -> ProviderCertificate:
    return ProviderCertificate(
        subject=each["subject"],
        fingerprint=each["fingerprint"],
        from_at=each["from_"],
        until_at=each["until"],
    )
