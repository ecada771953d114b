"""Metadata of applications as service providers, and ours as their identity provider (SAML metadata 2.0)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from lxml import etree

from dravo.core.errors import InvalidInput
from dravo.protocols.saml.certificates import Certificate, read_certificates
from dravo.protocols.saml.documents import read_document, text_of
from dravo.protocols.saml.metadata import LARGEST
from dravo.protocols.saml.names import DS, MD, POST, REDIRECT, SAMLP, q
from dravo.protocols.verified_identity import SignInRefused

PROTOCOLS = ("https://", "http://")
MOST_ENDPOINTS = 200


@dataclass(frozen=True)
class AcsEndpoint:
    """An ACS URL of an application, for HTTP-POST."""

    url: str
    index: int
    default: bool = False


@dataclass(frozen=True)
class ServiceProvider:
    """An application, from its metadata or entered values.

    Attributes:
        entity_id: the entity ID.
        acs: its ACS URLs.
        sign_out: by binding, the single logout URL.
        signing: its certificates for signed requests.
        encryption: its certificates for encrypted assertions.
        name_id_formats: the NameID formats that it names, in its order.
        signs_requests: whether it signs its requests.
        wants_signed_assertions: whether it wants each assertion signed.
        attributes: the attributes that it requests, by name; True for required ones.
    """

    entity_id: str
    acs: tuple[AcsEndpoint, ...]
    sign_out: Mapping[str, str] = field(default_factory=dict)
    signing: tuple[Certificate, ...] = ()
    encryption: tuple[Certificate, ...] = ()
    name_id_formats: tuple[str, ...] = ()
    signs_requests: bool = False
    wants_signed_assertions: bool = False
    attributes: Mapping[str, bool] = field(default_factory=dict)

    @property
    def default_acs(self) -> AcsEndpoint | None:
        """The endpoint that is used if a request names none (metadata, section 2.2.3)."""
        return next((each for each in self.acs if each.default), self.acs[0] if self.acs else None)


def read_service_provider(content: bytes) -> ServiceProvider:
    """Return the application that metadata describes.

    Raises:
        InvalidInput: if it describes none, with a hint.
    """
    try:
        root = read_document(content.strip(), LARGEST)
    except SignInRefused as wrong:
        raise _wrong(
            f"This is not metadata: {wrong.message}",
            "Paste the complete document, from <EntityDescriptor to the end.",
        ) from None
    entities = [root] if root.tag == q(MD, "EntityDescriptor") else list(root.iter(q(MD, "EntityDescriptor")))
    found = [each for each in entities if each.find(q(MD, "SPSSODescriptor")) is not None]
    if not found:
        theirs = any(each.find(q(MD, "IDPSSODescriptor")) is not None for each in entities)
        what = "the metadata of an identity provider" if theirs else "not the metadata of an application"
        raise _wrong(f"This is {what}.", "Use the metadata of the application, not of Dravo.")
    if len(found) > 1:
        raise _wrong(
            f"The metadata describes {len(found):,} applications.", "Use the metadata of one application."
        )
    return _read(found[0])


def _wrong(message: str, hint: str) -> InvalidInput:
    return InvalidInput(message, hint, "metadata")


def _read(entity: etree._Element) -> ServiceProvider:
    described = entity.find(q(MD, "SPSSODescriptor"))
    entity_id = str(entity.get("entityID") or "").strip()
    if not entity_id:
        raise _wrong("The metadata has no entityID.", "Ask for the complete metadata of the application.")
    if SAMLP not in str(described.get("protocolSupportEnumeration", SAMLP)).split():
        raise _wrong("The application does not support SAML 2.0.", "Ask for its SAML 2.0 metadata.")
    endpoints = described.findall(q(MD, "AssertionConsumerService"))
    if len(endpoints) > MOST_ENDPOINTS:
        raise _wrong("The metadata has too many ACS URLs.", "Enter the ACS URL as a field.")
    acs = tuple(
        AcsEndpoint(
            str(each.get("Location")), _number(each.get("index"), place), _is_true(each.get("isDefault"))
        )
        for place, each in enumerate(endpoints)
        if each.get("Binding") == POST and _is_web(each.get("Location"))
    )
    if not acs:
        raise _wrong(
            "The metadata has no ACS URL for HTTP-POST.",
            "Ask the application to support HTTP-POST, or enter it.",
        )
    return ServiceProvider(
        entity_id=entity_id,
        acs=acs,
        sign_out=_sign_out(described),
        signing=_certificates(described, "signing"),
        encryption=_certificates(described, "encryption"),
        name_id_formats=tuple(text_of(each) for each in described.findall(q(MD, "NameIDFormat"))),
        signs_requests=_is_true(described.get("AuthnRequestsSigned")),
        wants_signed_assertions=_is_true(described.get("WantAssertionsSigned")),
        attributes={
            str(each.get("Name")): _is_true(each.get("isRequired"))
            for each in described.iter(q(MD, "RequestedAttribute"))
            if each.get("Name")
        },
    )


def _is_web(url: str | None) -> bool:
    return url is not None and url.startswith(PROTOCOLS)


def _is_true(value: str | None) -> bool:
    return str(value).strip().lower() in ("true", "1")


def _number(value: str | None, otherwise: int) -> int:
    return int(value) if value and value.isascii() and value.isdigit() and len(value) < 6 else otherwise


def _certificates(described: etree._Element, use: str) -> tuple[Certificate, ...]:
    found: list[Certificate] = []
    for key in described.findall(q(MD, "KeyDescriptor")):
        if key.get("use") in (None, use):
            for each in key.iter(q(DS, "X509Certificate")):
                found += [one for one in read_certificates(text_of(each)) if one not in found]
    return tuple(found)


def _sign_out(described: etree._Element) -> dict[str, str]:
    found = {
        str(each.get("Binding")): str(each.get("Location"))
        for each in reversed(described.findall(q(MD, "SingleLogoutService")))
        if _is_web(each.get("Location"))
    }
    return {binding: found[binding] for binding in (REDIRECT, POST) if binding in found}


@dataclass(frozen=True)
class OurEndpoints:
    """Our addresses for one application.

    Attributes:
        entity_id: our entity ID, the issuer of responses.
        sso: where requests arrive, by either binding.
        slo: where logout messages arrive.
    """

    entity_id: str
    sso: str
    slo: str


def our_metadata(
    ours: OurEndpoints,
    certificates: Sequence[Certificate],
    name_id_formats: Sequence[str],
    *,
    wants_signed: bool = False,
) -> bytes:
    """Return our metadata as the identity provider of an application.

    Args:
        certificates: our signing certificates, the next one too while keys change.
        name_id_formats: the NameID format that we send.
        wants_signed: whether requests must be signed.
    """
    root = etree.Element(q(MD, "EntityDescriptor"), nsmap={None: MD, "ds": DS}, entityID=ours.entity_id)
    described = etree.SubElement(
        root,
        q(MD, "IDPSSODescriptor"),
        protocolSupportEnumeration=SAMLP,
        WantAuthnRequestsSigned="true" if wants_signed else "false",
    )
    for certificate in certificates:
        key = etree.SubElement(described, q(MD, "KeyDescriptor"), use="signing")
        info = etree.SubElement(key, q(DS, "KeyInfo"))
        data = etree.SubElement(info, q(DS, "X509Data"))
        etree.SubElement(data, q(DS, "X509Certificate")).text = certificate.body
    etree.SubElement(described, q(MD, "SingleLogoutService"), Binding=REDIRECT, Location=ours.slo)
    for each in name_id_formats:
        etree.SubElement(described, q(MD, "NameIDFormat")).text = each
    for binding in (REDIRECT, POST):
        etree.SubElement(described, q(MD, "SingleSignOnService"), Binding=binding, Location=ours.sso)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))
