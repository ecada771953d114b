"""Metadata both ways, certificates as users paste them, and requests that the other side can check."""

from __future__ import annotations

import base64
import subprocess
import zlib
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from lxml import etree

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.protocols.saml.certificates import read_certificates
from dravo.protocols.saml.metadata import our_metadata, read_metadata
from dravo.protocols.saml.names import POST, REDIRECT, SAML
from dravo.protocols.saml.requests import MessageHeader, sign_in_request
from dravo.protocols.verified_identity import AuthnRequirements
from tests.saml_provider import ACS, AUDIENCE, ISSUER, key_pair, pem

KEY, CERTIFICATE = key_pair("provider")
NEXT = key_pair("next")[1]
NOW = Instant("2026-05-04T09:00:00.000000Z")


def theirs(*, keys: str = "", services: str | None = None, attributes: str = "") -> bytes:
    described = "".join(
        f'<m:SingleSignOnService Binding="{binding}" Location="https://id.fernhollow.example/{name}"/>'
        for binding, name in (
            (POST, "post"),
            (REDIRECT, "redirect"),
            ("urn:oasis:names:tc:SAML:2.0:bindings:SOAP", "soap"),
        )
    )
    key = (
        '<m:KeyDescriptor use="signing"><d:KeyInfo><d:X509Data>'
        f"<d:X509Certificate>\n{CERTIFICATE.body}\n</d:X509Certificate>"
        "</d:X509Data></d:KeyInfo></m:KeyDescriptor>"
    )
    return f"""<m:EntityDescriptor xmlns:m="urn:oasis:names:tc:SAML:2.0:metadata"
 xmlns:d="http://www.w3.org/2000/09/xmldsig#" entityID="{ISSUER}">
<m:IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol" {attributes}>
{keys or key}{described if services is None else services}
</m:IDPSSODescriptor></m:EntityDescriptor>""".encode()


def test_a_provider_is_read_out_of_its_metadata() -> None:
    found = read_metadata(b"\n" + theirs(attributes='WantAuthnRequestsSigned="true"'))
    assert (found.entity_id, found.wants_signed, found.certificates) == (ISSUER, True, (CERTIFICATE,))
    assert found.sign_in == {
        REDIRECT: "https://id.fernhollow.example/redirect",
        POST: "https://id.fernhollow.example/post",
    }


def test_old_and_next_certificate_are_both_read_and_that_for_encryption_is_not() -> None:
    keys = "".join(
        f"<m:KeyDescriptor{use}><d:KeyInfo><d:X509Data><d:X509Certificate>{each.body}</d:X509Certificate></d:X509Data></d:KeyInfo></m:KeyDescriptor>"
        for use, each in (
            (' use="signing"', CERTIFICATE),
            ("", NEXT),
            (' use="encryption"', key_pair("other")[1]),
        )
    )
    assert read_metadata(theirs(keys=keys)).certificates == (CERTIFICATE, NEXT)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "not metadata"),
        (b"https://id.fernhollow.example/metadata", "not metadata"),
        (b"<a/>", "This is not the metadata of an identity provider"),
        (theirs(services=""), "The metadata has no single sign-on URL for HTTP-Redirect or HTTP-POST"),
        (theirs(keys="<m:KeyDescriptor/>"), "The metadata has no signing certificate"),
        (
            theirs().replace(b"SAML:2.0:protocol", b"SAML:1.1:protocol"),
            "The provider does not support SAML 2.0",
        ),
        (our_metadata(AUDIENCE, ACS, [CERTIFICATE], []), "not of an identity provider"),
        (theirs().replace(f' entityID="{ISSUER}"'.encode(), b""), "entityID"),
        (b"<x xmlns='urn:oasis:names:tc:SAML:2.0:metadata'>" + theirs() + theirs() + b"</x>", "2 providers"),
        (b'<!DOCTYPE x [<!ENTITY e "x">]><x>&e;</x>', "not metadata"),
    ],
)
def test_invalid_provider_metadata_is_explained_with_a_hint(content: bytes, said: str) -> None:
    with pytest.raises(InvalidInput, match=said) as wrong:
        read_metadata(content)
    assert wrong.value.hint


def test_ours_names_both_certificates_while_keys_change_and_is_no_provider_s() -> None:
    root = etree.fromstring(
        our_metadata(AUDIENCE, ACS, [CERTIFICATE, NEXT], [CERTIFICATE], f"{AUDIENCE}/saml/sign-out")
    )
    uses = [each.get("use") for each in root.iter("{urn:oasis:names:tc:SAML:2.0:metadata}KeyDescriptor")]
    assert (root.get("entityID"), uses) == (AUDIENCE, ["signing", "signing", "encryption"])
    assert root.find(".//{*}AssertionConsumerService").get("Location") == ACS  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "text",
    [
        CERTIFICATE.pem,
        CERTIFICATE.body,
        f"  {CERTIFICATE.pem}\r\n",
        CERTIFICATE.body[:70] + " \n " + CERTIFICATE.body[70:],
        f"our key:\n{CERTIFICATE.pem}\nthanks",
    ],
)
def test_a_certificate_is_read_as_it_is_pasted(text: str) -> None:
    (found,) = read_certificates(text)
    assert found == CERTIFICATE and found.fingerprint.count(":") == 31 and found.from_ < found.until


def test_several_certificates_are_read_and_invalid_ones_explained() -> None:
    assert read_certificates(f"{CERTIFICATE.pem}\n{NEXT.pem}") == [CERTIFICATE, NEXT]
    for text, said in (
        ("", "The text contains no certificate"),
        (CERTIFICATE.fingerprint, "The certificate is incomplete or invalid."),
        (CERTIFICATE.body[:-40], "The certificate is incomplete or invalid."),
        (pem(KEY).decode(), "private key"),
    ):
        with pytest.raises(InvalidInput, match=said) as wrong:
            read_certificates(text)
        assert wrong.value.hint and KEY.private_numbers().d


def asked(binding: str, *, signed: bool = True) -> tuple[str, dict[str, str] | None]:
    made = sign_in_request(
        MessageHeader("_r1", "https://id.fernhollow.example/in?a=b", AUDIENCE, NOW),
        binding,
        ACS,
        "relay/1",
        KEY if signed else None,
        AuthnRequirements(force=True, contexts=("urn:a", "urn:b")),
    )
    return made.url, made.form


def test_a_request_by_redirect_carries_everything_and_is_signed_as_it_stands() -> None:
    url, form = asked(REDIRECT)
    assert form is None and url.startswith("https://id.fernhollow.example/in?a=b&SAMLRequest=")
    query = parse_qs(urlsplit(url).query)
    root = etree.fromstring(zlib.decompress(base64.b64decode(query["SAMLRequest"][0]), -15))
    assert (
        root.get("ID"),
        root.get("Destination"),
        root.get("AssertionConsumerServiceURL"),
        root.get("ForceAuthn"),
    ) == (
        "_r1",
        "https://id.fernhollow.example/in?a=b",
        ACS,
        "true",
    )
    contexts = root.findall(f".//{{{SAML}}}AuthnContextClassRef")
    assert [each.text for each in contexts] == ["urn:a", "urn:b"]
    assert query["RelayState"] == ["relay/1"]
    covered = url.partition("&")[2].rpartition("&Signature=")[0]
    KEY.public_key().verify(
        base64.b64decode(query["Signature"][0]), covered.encode(), padding.PKCS1v15(), hashes.SHA256()
    )
    assert "Signature" not in asked(REDIRECT, signed=False)[0]


def test_a_request_by_post_is_signed_so_that_others_can_check_it(tmp_path: Path) -> None:
    url, form = asked(POST)
    assert (
        url == "https://id.fernhollow.example/in?a=b" and form is not None and form["RelayState"] == "relay/1"
    )
    (tmp_path / "request.xml").write_bytes(base64.b64decode(form["SAMLRequest"]))
    (tmp_path / "certificate.pem").write_text(CERTIFICATE.pem)
    command = [
        "xmlsec1",
        "--verify",
        "--pubkey-cert-pem",
        tmp_path / "certificate.pem",
        "--id-attr:ID",
        "urn:oasis:names:tc:SAML:2.0:protocol:AuthnRequest",
    ]
    assert (
        subprocess.run([*command, tmp_path / "request.xml"], check=False, capture_output=True).returncode == 0
    )
