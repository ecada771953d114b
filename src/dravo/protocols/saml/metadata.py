"""Metadata in both directions (SAML metadata 2.0): the provider's and ours."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from lxml import etree

from dravo.core.errors import InvalidInput
from dravo.protocols.saml.certificates import Certificate, read_certificates
from dravo.protocols.saml.documents import read_document, text_of
from dravo.protocols.saml.names import DS, MD, POST, REDIRECT, SAMLP, q
from dravo.protocols.verified_identity import SignInRefused

LARGEST = 2 * 1024 * 1024


@dataclass(frozen=True)
class Provider:
    """An identity provider, from its metadata.

    Attributes:
        entity_id: the entity ID.
        sign_in: by binding, the single sign-on URL.
        sign_out: by binding, the single logout URL.
        certificates: its signing certificates, in their order.
        wants_signed: whether it requires signed requests.
    """

    entity_id: str
    sign_in: Mapping[str, str]
    sign_out: Mapping[str, str] = field(default_factory=dict)
    certificates: tuple[Certificate, ...] = ()
    wants_signed: bool = False


def read_metadata(content: bytes) -> Provider:
    """Return the provider that metadata describes.

    Raises:
        InvalidInput: if it is none, with the hint.
    """
    try:
        root = read_document(content.strip(), LARGEST)
    except SignInRefused as wrong:
        raise InvalidInput(
            f"This is not metadata: {wrong.message}",
            "Paste the complete document, from <EntityDescriptor to the end.",
            "metadata",
        ) from None
    entities = [root] if root.tag == q(MD, "EntityDescriptor") else list(root.iter(q(MD, "EntityDescriptor")))
    providers = [each for each in entities if each.find(q(MD, "IDPSSODescriptor")) is not None]
    if not providers:
        ours = any(each.find(q(MD, "SPSSODescriptor")) is not None for each in entities)
        what = (
            "This is the metadata of a service provider, not of an identity provider"
            if ours
            else "This is not the metadata of an identity provider"
        )
        raise InvalidInput(f"{what}.", "Use the metadata of the provider, not of Dravo.", "metadata")
    if len(providers) > 1:
        raise InvalidInput(
            f"The metadata describes {len(providers):,} providers.",
            "Use the metadata of one provider.",
            "metadata",
        )
    return _provider(providers[0])


def _provider(entity: etree._Element) -> Provider:
    described = entity.find(q(MD, "IDPSSODescriptor"))
    entity_id = entity.get("entityID")
    if not entity_id:
        raise InvalidInput(
            "The metadata has no entityID.",
            "Ask the administrator of the provider for complete metadata.",
            "metadata",
        )
    if SAMLP not in str(described.get("protocolSupportEnumeration", SAMLP)).split():
        raise InvalidInput(
            "The provider does not support SAML 2.0.", "Ask for its SAML 2.0 metadata.", "metadata"
        )
    found: list[Certificate] = []
    for key in described.findall(q(MD, "KeyDescriptor")):
        if key.get("use") in (None, "signing"):
            for each in key.iter(q(DS, "X509Certificate")):
                found += [one for one in read_certificates(text_of(each)) if one not in found]
    sign_in = _addresses(described, "SingleSignOnService")
    if not sign_in:
        raise InvalidInput(
            "The metadata has no single sign-on URL for HTTP-Redirect or HTTP-POST.",
            "Ask the administrator of the provider to enable one of these bindings.",
            "metadata",
        )
    if not found:
        raise InvalidInput(
            "The metadata has no signing certificate.",
            "Ask the administrator of the provider for complete metadata.",
            "metadata",
        )
    wants = str(described.get("WantAuthnRequestsSigned", "false")).lower() in ("true", "1")
    return Provider(entity_id, sign_in, _addresses(described, "SingleLogoutService"), tuple(found), wants)


def _addresses(described: etree._Element, name: str) -> dict[str, str]:
    found = {
        str(each.get("Binding")): str(each.get("Location"))
        for each in reversed(described.findall(q(MD, name)))
    }
    return {binding: found[binding] for binding in (REDIRECT, POST) if binding in found}


def our_metadata(
    entity_id: str,
    acs: str,
    signing: Sequence[Certificate],
    encryption: Sequence[Certificate],
    sign_out: str | None = None,
) -> bytes:
    """Return our metadata as a service provider.

    Args:
        signing, encryption: our certificates, both the present and the next one while keys change.
    """
    root = etree.Element(q(MD, "EntityDescriptor"), nsmap={None: MD, "ds": DS}, entityID=entity_id)
    described = etree.SubElement(
        root,
        q(MD, "SPSSODescriptor"),
        protocolSupportEnumeration=SAMLP,
        WantAssertionsSigned="true",
        AuthnRequestsSigned="true",
    )
    for use, certificates in (("signing", signing), ("encryption", encryption)):
        for certificate in certificates:
            info = etree.SubElement(
                etree.SubElement(described, q(MD, "KeyDescriptor"), use=use), q(DS, "KeyInfo")
            )
            etree.SubElement(
                etree.SubElement(info, q(DS, "X509Data")), q(DS, "X509Certificate")
            ).text = certificate.body
    if sign_out:
        etree.SubElement(described, q(MD, "SingleLogoutService"), Binding=REDIRECT, Location=sign_out)
    etree.SubElement(
        described, q(MD, "AssertionConsumerService"), Binding=POST, Location=acs, index="0", isDefault="true"
    )
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))
