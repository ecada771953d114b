"""Single logout: ours as a provider reads it, and who may have somebody signed out here."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable
from urllib.parse import parse_qs, quote, urlsplit

import pytest
from lxml import etree

from dravo.core.instants import Instant
from dravo.protocols.saml.logout import (
    AskedOut,
    ProviderSession,
    read_sign_out_request,
    sign_out_request,
    sign_out_response,
)
from dravo.protocols.saml.requests import MessageHeader
from dravo.protocols.verified_identity import SignInRefused
from tests.saml_provider import ISSUER, NOW, NS, key_pair

OURS, THEIRS = "https://dravo.fernhollow.example/sso/staff/saml/sign-out", "https://id.fernhollow.example/out"
AT = Instant(NOW.strftime("%Y-%m-%dT%H:%M:%S.000000Z"))


def asked(
    name: str = "provider",
    issuer: str = ISSUER,
    at: Instant = AT,
    address: str = OURS,
    relay: str = "there & back",
) -> bytes:
    """Return the query by which a provider asks for somebody to be signed out."""
    session = ProviderSession("una.kerrigan", session_index="_session")
    made = sign_out_request(MessageHeader("_out", address, issuer, at), session, relay, key_pair(name)[0])
    return urlsplit(made).query.encode()


def read(query: bytes) -> AskedOut:
    return read_sign_out_request(
        query, ISSUER, [key_pair("other")[1], key_pair("provider")[1]], OURS, NOW.timestamp()
    )


def test_a_request_that_the_provider_signed_says_whom() -> None:
    assert read(asked()) == AskedOut("_out", "una.kerrigan", ("_session",), "there & back")
    assert read(asked(relay="")).relay == ""


def of_somebody_else(query: bytes) -> bytes:
    fields = parse_qs(query.decode())
    content = zlib.decompress(base64.b64decode(fields["SAMLRequest"][0]), -15).replace(
        b"una.kerrigan", b"zofia.wisniarska"
    )
    packed = zlib.compressobj(9, zlib.DEFLATED, -15)
    text = quote(base64.b64encode(packed.compress(content) + packed.flush()), safe="")
    return f"SAMLRequest={text}&{query.decode().partition('&')[2]}".encode()


def without_signature(query: bytes) -> bytes:
    return query.partition(b"&SigAlg=")[0]


def by_sha1(query: bytes) -> bytes:
    return query.replace(b"2001%2F04%2Fxmldsig-more%23rsa-sha256", b"2000%2F09%2Fxmldsig%23rsa-sha1")


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (of_somebody_else, "signature"),
        (without_signature, "unsigned"),
        (by_sha1, "algorithm"),
        (lambda query: query.replace(b"there", b"else"), "signature"),
        (lambda _: asked("stranger"), "signature"),
        (lambda _: asked(issuer="https://elsewhere.example"), "issuer"),
        (lambda _: asked(address="https://elsewhere.example/out"), "destination"),
        (lambda _: asked(at=Instant("2026-05-04T08:00:00.000000Z")), "expired"),
        (lambda _: b"", "unsigned"),
        (lambda _: b"SAMLRequest=x&SigAlg=y&Signature=z", "algorithm"),
        (lambda query: query + b"&SAMLRequest=", "malformed"),
    ],
)
def test_a_logout_request_ends_only_the_named_session(change: Callable[[bytes], bytes], reason: str) -> None:
    with pytest.raises(SignInRefused) as wrong:
        read(change(asked()))
    assert wrong.value.reason == reason


def test_our_answer_names_what_it_answers() -> None:
    made = sign_out_response(
        MessageHeader("_answer", THEIRS, "https://dravo.fernhollow.example", AT),
        AskedOut("_out", "una", (), "back"),
        key_pair("us")[0],
    )
    fields = parse_qs(urlsplit(made).query)
    answer = etree.fromstring(zlib.decompress(base64.b64decode(fields["SAMLResponse"][0]), -15))
    assert (answer.get("InResponseTo"), answer.get("Destination"), fields["RelayState"]) == (
        "_out",
        THEIRS,
        ["back"],
    )
    assert answer.find("samlp:Status/samlp:StatusCode", NS).get("Value").endswith(":Success")
