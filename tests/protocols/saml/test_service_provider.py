"""Metadata of applications, and ours for them."""

from __future__ import annotations

import pytest
from lxml import etree

from dravo.core.errors import InvalidInput
from dravo.protocols.saml.metadata import our_metadata as as_service_provider
from dravo.protocols.saml.metadata import read_metadata
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.protocols.saml.service_provider import OurEndpoints, our_metadata, read_service_provider
from tests.saml_provider import key_pair

PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
ROTA = "https://rota.fernhollow.example/saml"
ARTIFACT = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact"
METADATA = f"""<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="{ROTA}">
  <SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"
      AuthnRequestsSigned="true" WantAssertionsSigned="1">
    <SingleLogoutService Binding="{REDIRECT}" Location="{ROTA}/out"/>
    <NameIDFormat>{PERSISTENT}</NameIDFormat>
    <AssertionConsumerService Binding="{ARTIFACT}" Location="{ROTA}/art" index="0"/>
    <AssertionConsumerService Binding="{POST}" Location="{ROTA}/acs" index="1"/>
    <AssertionConsumerService Binding="{POST}" Location="{ROTA}/mobile" index="2" isDefault="true"/>
    <AssertionConsumerService Binding="{POST}" Location="javascript:alert(1)" index="3"/>
    <AttributeConsumingService index="0"><ServiceName xml:lang="en">Rota</ServiceName>
      <RequestedAttribute Name="email" isRequired="true"/><RequestedAttribute Name="roles"/>
    </AttributeConsumingService>
  </SPSSODescriptor></EntityDescriptor>"""


def test_the_metadata_of_an_application_is_read() -> None:
    found = read_service_provider(METADATA.encode())
    assert (found.entity_id, [each.url for each in found.acs]) == (ROTA, [f"{ROTA}/acs", f"{ROTA}/mobile"])
    assert found.default_acs is not None and found.default_acs.url == f"{ROTA}/mobile"
    assert found.sign_out == {REDIRECT: f"{ROTA}/out"} and found.name_id_formats == (PERSISTENT,)
    assert found.signs_requests and found.wants_signed_assertions
    assert found.attributes == {"email": True, "roles": False}


def test_the_certificates_of_an_application_are_told_apart_by_their_use() -> None:
    signing, encryption = key_pair("rota")[1], key_pair("rota-encryption")[1]
    written = as_service_provider(ROTA, f"{ROTA}/acs", [signing], [encryption])
    found = read_service_provider(written)
    assert (found.signing, found.encryption) == ((signing,), (encryption,))


def test_our_metadata_is_read_by_another_service_provider() -> None:
    ours = OurEndpoints(
        "https://dravo.example/idp/rota", "https://dravo.example/sso", "https://dravo.example/slo"
    )
    certificates = [key_pair("dravo")[1], key_pair("dravo-next")[1]]
    found = read_metadata(our_metadata(ours, certificates, [PERSISTENT], wants_signed=True))
    assert found.entity_id == ours.entity_id and found.wants_signed
    assert found.sign_in == {REDIRECT: ours.sso, POST: ours.sso} and found.sign_out == {REDIRECT: ours.slo}
    assert found.certificates == tuple(certificates)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("SPSSODescriptor", "IDPSSODescriptor"), "the metadata of an identity provider"),
        (("EntityDescriptor", "Entity"), "not the metadata of an application"),
        ((f'entityID="{ROTA}"', ""), "has no entityID"),
        (("SAML:2.0:protocol", "SAML:1.1:protocol"), "does not support SAML 2.0"),
        (("bindings:HTTP-POST", "bindings:PAOS"), "no ACS URL for HTTP-POST"),
        (("<EntityDescriptor", "<!DOCTYPE a><EntityDescriptor"), "This is not metadata"),
    ],
)
def test_what_is_no_metadata_of_an_application_says_what_it_is(change: tuple[str, str], message: str) -> None:
    with pytest.raises(InvalidInput, match=message):
        read_service_provider(METADATA.replace(*change).encode())


def test_metadata_of_several_applications_is_refused() -> None:
    one = etree.fromstring(METADATA.encode())
    all_ = etree.Element("{urn:oasis:names:tc:SAML:2.0:metadata}EntitiesDescriptor")
    for _ in range(2):
        all_.append(etree.fromstring(etree.tostring(one)))
    with pytest.raises(InvalidInput, match="describes 2 applications"):
        read_service_provider(etree.tostring(all_))
