"""Authentication requests of applications: good ones are read, hostile ones refused with the reason."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from urllib.parse import quote

import pytest
from lxml import etree

from dravo.core.instants import Instant
from dravo.protocols.saml import authn_requests
from dravo.protocols.saml.authn_requests import AuthnRequest, Requirements, check_request
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.protocols.saml.requests import MessageHeader, by_redirect, sign_in_request
from dravo.protocols.saml.service_provider import AcsEndpoint, ServiceProvider
from dravo.protocols.saml.signing import sign
from dravo.protocols.verified_identity import SignInRefused
from tests.saml_provider import SAML, SAMLP, key_pair

ROTA = "https://rota.fernhollow.example/saml"
SSO = "https://dravo.fernhollow.example/idp/rota/saml/sso"
ACS = f"{ROTA}/acs"
AT, NOW = Instant("2026-05-04T09:00:00.000000Z"), 1_777_885_200.0
APPLICATION = ServiceProvider(
    ROTA,
    (AcsEndpoint(ACS, 0, default=True), AcsEndpoint(f"{ROTA}/mobile", 1)),
    signing=(key_pair("rota")[1],),
)
REQUIRED = Requirements(SSO, NOW)


def header(**changed: Any) -> MessageHeader:
    return replace(MessageHeader("_asked", SSO, ROTA, AT), **changed)


def redirect(key: str | None = None, acs: str = ACS, **changed: Any) -> bytes:
    made = sign_in_request(header(**changed), REDIRECT, acs, "deep/link", key_pair(key)[0] if key else None)
    return made.url.partition("?")[2].encode()


def root(acs: str | None = ACS, **changed: Any) -> etree._Element:
    made = header(**changed).element("AuthnRequest")
    if acs is not None:
        made.set("AssertionConsumerServiceURL", acs)
    return made


def post(made: etree._Element, relay: str = "deep/link") -> AuthnRequest:
    encoded = base64.b64encode(etree.tostring(made)).decode()
    return authn_requests.from_post(encoded, relay, APPLICATION.signing)


def read(query: bytes, required: Requirements = REQUIRED) -> AcsEndpoint:
    return check_request(authn_requests.from_redirect(query, APPLICATION.signing), APPLICATION, required)


def test_a_request_is_read_by_both_bindings_signed_or_not() -> None:
    for found in (
        authn_requests.from_redirect(redirect(), APPLICATION.signing),
        authn_requests.from_redirect(redirect("rota"), APPLICATION.signing),
        post(root()),
        post(sign(root(), key_pair("rota")[0])),
    ):
        assert (found.id, found.issuer, found.relay) == ("_asked", ROTA, "deep/link")
        assert check_request(found, APPLICATION, REQUIRED).url == ACS
    signed = replace(REQUIRED, must_be_signed=True)
    assert read(redirect("rota"), signed).url == ACS
    assert check_request(post(sign(root(), key_pair("rota")[0])), APPLICATION, signed).url == ACS


def test_what_a_request_asks_for_is_read() -> None:
    made = root(None)
    made.set("AssertionConsumerServiceIndex", "1")
    made.set("ForceAuthn", "true")
    made.set("IsPassive", "1")
    etree.SubElement(made, f"{{{SAMLP}}}NameIDPolicy", Format="urn:example:email")
    asked = etree.SubElement(made, f"{{{SAMLP}}}RequestedAuthnContext")
    etree.SubElement(asked, f"{{{SAML}}}AuthnContextClassRef").text = "urn:example:strong"
    found = post(made)
    assert (found.force, found.passive, found.name_id_format) == (True, True, "urn:example:email")
    assert found.contexts == ("urn:example:strong",)
    assert check_request(found, APPLICATION, REQUIRED).url == f"{ROTA}/mobile"
    assert check_request(post(root(None)), APPLICATION, REQUIRED).url == ACS


def packed(text: bytes) -> bytes:
    squeezer = zlib.compressobj(9, zlib.DEFLATED, -15)
    return quote(base64.b64encode(squeezer.compress(text) + squeezer.flush()), safe="").encode()


def both() -> bytes:
    made = root()
    made.set("AssertionConsumerServiceIndex", "1")
    return by_redirect("SAMLRequest", made, SSO, "", None).partition("?")[2].encode()


def another() -> bytes:
    return bytes(etree.tostring(header().element("LogoutRequest")))


OLD, LATER = Instant("2026-05-04T08:00:00.000000Z"), Instant("2026-05-05T09:00:00.000000Z")
SHA_1 = (b"2001%2F04%2Fxmldsig-more%23rsa-sha256", b"2000%2F09%2Fxmldsig%23rsa-sha1")
ENTITIES = b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'
HOSTILE: list[tuple[str, Callable[[], bytes], str]] = [
    ("a foreign ACS", lambda: redirect(acs="https://evil.example/acs"), "acs"),
    ("an ACS below a registered one", lambda: redirect(acs=f"{ACS}/../evil"), "acs"),
    ("an ACS with a query", lambda: redirect(acs=f"{ACS}?x=1"), "acs"),
    ("an ACS in other letters", lambda: redirect(acs=ACS.upper()), "acs"),
    ("an ACS with a user", lambda: redirect(acs=ACS.replace("//", "//rota@")), "acs"),
    ("an empty ACS", lambda: redirect(acs=""), "acs"),
    ("a script as ACS", lambda: redirect(acs="javascript:alert(1)"), "acs"),
    ("an ACS by URL and by index", both, "malformed"),
    ("another issuer", lambda: redirect(issuer="https://evil.example"), "issuer"),
    ("an issuer with a slash", lambda: redirect(issuer=f"{ROTA}/"), "issuer"),
    ("another destination", lambda: redirect(destination="https://evil.example/sso"), "destination"),
    ("an old request", lambda: redirect(issue_instant=Instant("2026-05-04T08:00:00.000000Z")), "expired"),
    (
        "a request of tomorrow",
        lambda: redirect(issue_instant=Instant("2026-05-05T09:00:00.000000Z")),
        "expired",
    ),
    ("the key of another", lambda: redirect("stranger"), "signature"),
    ("a changed request", lambda: redirect("rota").replace(b"deep", b"deer"), "signature"),
    ("a signature without algorithm", lambda: redirect() + b"&Signature=eA%3D%3D", "unsigned"),
    ("an algorithm without signature", lambda: redirect() + b"&SigAlg=x", "unsigned"),
    (
        "SHA-1",
        lambda: redirect("rota").replace(
            b"2001%2F04%2Fxmldsig-more%23rsa-sha256", b"2000%2F09%2Fxmldsig%23rsa-sha1"
        ),
        "algorithm",
    ),
    ("two requests", lambda: redirect() + b"&SAMLRequest=eA%3D%3D", "malformed"),
    ("two relay states", lambda: redirect() + b"&RelayState=x", "malformed"),
    ("many parameters", lambda: redirect() + b"&x=1" * 30, "malformed"),
    ("nothing", lambda: b"", "malformed"),
    ("no XML", lambda: b"SAMLRequest=" + packed(b"hello"), "malformed"),
    ("no base64", lambda: b"SAMLRequest=%%%", "malformed"),
    ("a bomb", lambda: b"SAMLRequest=" + packed(b"<a>" + b" " * 10_000_000 + b"</a>"), "malformed"),
    (
        "entities",
        lambda: b"SAMLRequest=" + packed(b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>'),
        "document_type",
    ),
    ("depth", lambda: b"SAMLRequest=" + packed(b"<a>" * 90 + b"</a>" * 90), "too_large"),
    (
        "another message",
        lambda: b"SAMLRequest=" + packed(etree.tostring(header().element("LogoutRequest"))),
        "malformed",
    ),
    ("a long relay state", lambda: redirect().replace(b"deep%2Flink", b"x" * 2_000), "malformed"),
    ("no ID", lambda: redirect(id=""), "malformed"),
]


@pytest.mark.parametrize(
    ("query", "reason"), [each[1:] for each in HOSTILE], ids=[each[0] for each in HOSTILE]
)
def test_a_hostile_request_is_refused_with_its_reason(query: Callable[[], bytes], reason: str) -> None:
    with pytest.raises(SignInRefused) as wrong:
        read(query())
    assert wrong.value.reason == reason


def test_an_unsigned_request_is_refused_where_signatures_are_required() -> None:
    for required, application in (
        (replace(REQUIRED, must_be_signed=True), APPLICATION),
        (REQUIRED, replace(APPLICATION, signs_requests=True)),
    ):
        with pytest.raises(SignInRefused, match="not signed"):
            check_request(authn_requests.from_redirect(redirect(), ()), application, required)
    with pytest.raises(SignInRefused, match="its certificate is not known here"):
        authn_requests.from_redirect(redirect("rota"), ())


def test_only_the_signed_content_of_a_posted_request_is_read() -> None:
    genuine = sign(root(), key_pair("rota")[0])
    # The genuine request inside a forged one, with its signature moved to the forged one.
    forged = root("https://evil.example/acs", id="_forged")
    signature = genuine.find("{http://www.w3.org/2000/09/xmldsig#}Signature")
    genuine.remove(signature)
    forged.insert(1, signature)
    extensions = etree.SubElement(forged, f"{{{SAMLP}}}Extensions")
    extensions.append(genuine)
    with pytest.raises(SignInRefused) as wrong:
        post(forged)
    assert wrong.value.reason == "signature"
    # The same ID twice.
    twice = sign(root(), key_pair("rota")[0])
    etree.SubElement(twice, f"{{{SAMLP}}}Extensions").append(root())
    with pytest.raises(SignInRefused) as wrong:
        post(twice)
    assert wrong.value.reason == "duplicate_ids"
    stranger = sign(root(), key_pair("stranger")[0])
    with pytest.raises(SignInRefused) as wrong:
        post(stranger)
    assert wrong.value.reason == "certificate"
    with pytest.raises(SignInRefused, match="The message is no authentication request"):
        authn_requests.from_post("%%%", "", ())


def test_a_request_for_another_binding_is_refused_in_words() -> None:
    made = root()
    made.set("ProtocolBinding", "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact")
    with pytest.raises(SignInRefused, match="HTTP-Artifact"):
        post(made)
    made.set("ProtocolBinding", POST)
    assert post(made).acs_url == ACS
