"""Responses to applications, verified and decrypted by Debian's xmlsec1, which shares no code with Dravo."""

from __future__ import annotations

import subprocess
from dataclasses import replace
from pathlib import Path

import pytest
from lxml import etree

from dravo.core.instants import Instant
from dravo.protocols.saml import issuing
from dravo.protocols.saml.issuing import (
    Attribute,
    IssuingKey,
    ResponseOptions,
    ResponseTo,
    SignedInSubject,
)
from dravo.protocols.saml.responses import Expected, accept
from tests.saml_provider import NS, SAML, SAMLP, key_pair, pem

NOW = Instant("2026-05-04T09:00:00.000000Z")
SECONDS = 1_777_885_200.0
ROTA = "https://rota.fernhollow.example/saml"
TO = ResponseTo(f"{ROTA}/acs", ROTA, "_asked", "https://dravo.fernhollow.example/idp/rota", NOW)
PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
PASSWORD = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
UNA = SignedInSubject("3f2a", PERSISTENT, "_session", NOW, PASSWORD)
ATTRIBUTES = [
    Attribute("display_name", ("Zoë <Kerrigan> & Co",)),
    Attribute("urn:oid:0.9.2342.19200300.100.1.3", ("una@fernhollow.example",)),
    Attribute("roles", ("coordinator", "member")),
    Attribute("title", ()),
    Attribute("note", ("bell\u0007, kept: \U0001f331",)),
]


def ours() -> IssuingKey:
    return IssuingKey(*key_pair("dravo"))


def xmlsec(folder: Path, document: bytes, *options: str, key: str) -> subprocess.CompletedProcess[bytes]:
    """Run xmlsec1 on a document with the key or the certificate of a name."""
    private, certificate = key_pair(key)
    (folder / "document.xml").write_bytes(document)
    (folder / "cert.pem").write_text(certificate.pem)
    (folder / "key.pem").write_bytes(pem(private))
    command = ["xmlsec1", *options, str(folder / "document.xml")]
    return subprocess.run(command, capture_output=True, cwd=folder, check=False)


def is_verified(folder: Path, document: bytes, element: str, key: str = "dravo") -> bool:
    namespace = SAMLP if element == "Response" else SAML
    where = f"//*[local-name()='{element}']/*[local-name()='Signature']"
    options = ["--verify", "--pubkey-cert-pem", "cert.pem", "--node-xpath", where]
    options += ["--id-attr:ID", f"{namespace}:{element}", "--enabled-key-data", "x509,rsa"]
    return xmlsec(folder, document, *options, key=key).returncode == 0


@pytest.mark.parametrize(
    ("signs", "response", "assertion"),
    [("response", True, False), ("assertion", False, True), ("both", True, True)],
)
def test_what_is_set_is_signed_and_another_program_verifies_it(
    tmp_path: Path, signs: str, response: bool, assertion: bool
) -> None:
    made = issuing.success(TO, UNA, ATTRIBUTES, ResponseOptions(signs=signs), ours())
    assert is_verified(tmp_path, made, "Response") is response
    assert is_verified(tmp_path, made, "Assertion") is assertion
    assert not is_verified(tmp_path, made, "Response", key="stranger")
    assert not is_verified(tmp_path, made.replace(b"coordinator", b"curator"), "Response")
    # What Dravo accepts from a provider, it also sends.
    expected = Expected(
        issuer=TO.issuer,
        certificates=[key_pair("dravo")[1]],
        audience=TO.audience,
        acs=TO.acs,
        request="_asked",
        now=SECONDS,
    )
    found = accept(made, expected)
    assert (found.subject, found.format, found.session) == ("3f2a", PERSISTENT, "_session")
    assert {name: list(values) for name, values in found.attributes.items()} == {
        "display_name": ["Zoë <Kerrigan> & Co"],
        "urn:oid:0.9.2342.19200300.100.1.3": ["una@fernhollow.example"],
        "roles": ["coordinator", "member"],
        "note": ["bell, kept: \U0001f331"],
    }


def test_another_program_decrypts_an_assertion_and_verifies_its_signature(tmp_path: Path) -> None:
    options = ResponseOptions(signs="both", encryption=key_pair("rota")[1])
    made = issuing.success(TO, UNA, ATTRIBUTES, options, ours())
    assert b"una@fernhollow.example" not in made and b"3f2a" not in made
    assert is_verified(tmp_path, made, "Response")
    opened = xmlsec(tmp_path, made, "--decrypt", "--privkey-pem", "key.pem", key="rota")
    assert opened.returncode == 0, opened.stderr
    (assertion,) = etree.fromstring(opened.stdout).xpath("//saml:Assertion", namespaces=NS)
    assert is_verified(tmp_path, etree.tostring(assertion), "Assertion")
    assert xmlsec(tmp_path, made, "--decrypt", "--privkey-pem", "key.pem", key="stranger").returncode != 0


def test_times_audience_and_recipient_limit_an_assertion() -> None:
    limited = replace(UNA, until_at=Instant("2026-05-04T17:00:00.000000Z"))
    root = etree.fromstring(issuing.success(TO, limited, [], ResponseOptions(lifetime=120), ours()))
    assert root.get("Destination") == TO.acs and root.get("InResponseTo") == "_asked"
    (conditions,) = root.xpath("//saml:Conditions", namespaces=NS)
    assert (conditions.get("NotBefore"), conditions.get("NotOnOrAfter")) == (
        "2026-05-04T08:59:00Z",
        "2026-05-04T09:02:00Z",
    )
    assert root.xpath("string(//saml:Audience)", namespaces=NS) == ROTA
    (data,) = root.xpath("//saml:SubjectConfirmationData", namespaces=NS)
    assert (data.get("Recipient"), data.get("InResponseTo")) == (TO.acs, "_asked")
    (statement,) = root.xpath("//saml:AuthnStatement", namespaces=NS)
    assert statement.get("SessionNotOnOrAfter") == "2026-05-04T17:00:00Z"
    assert root.xpath("//saml:AttributeStatement", namespaces=NS) == []
    unasked = etree.fromstring(
        issuing.success(replace(TO, request_id=None), UNA, ATTRIBUTES, ResponseOptions(), ours())
    )
    assert "InResponseTo" not in etree.tostring(unasked).decode()
    formats = {each.get("Name"): each.get("NameFormat")[-5:] for each in unasked.iter(f"{{{SAML}}}Attribute")}
    assert formats["roles"] == "basic" and formats["urn:oid:0.9.2342.19200300.100.1.3"].endswith("uri")


def test_a_failure_is_signed_and_signs_nobody_in(tmp_path: Path) -> None:
    codes = (issuing.RESPONDER, issuing.NO_PASSIVE)
    made = issuing.failure(TO, codes, "The user is not signed in.", ours())
    assert is_verified(tmp_path, made, "Response")
    root = etree.fromstring(made)
    assert [each.get("Value") for each in root.iter(f"{{{SAMLP}}}StatusCode")] == list(codes)
    assert root.xpath("//saml:Assertion", namespaces=NS) == []
