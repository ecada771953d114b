"""Which SAML responses prove somebody: valid ones of every shape are accepted, and every attack is refused
with its reason.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree
from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureMethod

from dravo.protocols.saml.responses import Expected, accept
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from tests.saml_provider import (
    ACS,
    AUDIENCE,
    ISSUER,
    NOW,
    NS,
    PASSWORD,
    SAMLP,
    Shape,
    at,
    encrypted,
    find,
    key_pair,
    sign,
    signed,
    signed_by_xmlsec,
    unsigned,
)

OURS = key_pair("dravo")
EXPECTED = Expected(
    ISSUER, (key_pair("provider")[1],), AUDIENCE, ACS, "_asked", NOW.timestamp(), keys=(OURS[0],)
)
EVIL = "edmund.sallow"


def proved(content: bytes, **other: Any) -> VerifiedIdentity:
    return accept(content, replace(EXPECTED, **other))


def reason(content: bytes, **other: Any) -> str:
    """Return why a response is refused; each refusal says what to do about it."""
    with pytest.raises(SignInRefused) as refused:
        proved(content, **other)
    assert refused.value.hint and refused.value.message
    return refused.value.reason


# Valid ones


@pytest.mark.parametrize("what", ["assertion", "response", "both"])
def test_a_signed_response_proves_a_user(what: str) -> None:
    steps: list[tuple[str, str]] = []
    found = accept(signed(what=what), EXPECTED, lambda name, message: steps.append((name, message)))
    assert (found.subject, found.issuer, found.session) == ("una.kerrigan", ISSUER, "_session")
    assert found.attributes == {"displayName": ["Una Kerrigan"], "groups": ["Estates", "Night watch"]}
    assert found.once == ("_assertion", NOW.timestamp() + 360)
    assert [name for name, _ in steps] == ["Read", "Signature", "Audience and time"]


@pytest.mark.parametrize("what", ["assertion", "response"])
@pytest.mark.parametrize(
    ("method", "digest"),
    [
        ("rsa-sha256", "http://www.w3.org/2001/04/xmlenc#sha256"),
        ("rsa-sha512", "http://www.w3.org/2001/04/xmlenc#sha512"),
    ],
)
def test_a_response_signed_by_another_implementation_proves_a_user(
    what: str, method: str, digest: str
) -> None:
    content = signed_by_xmlsec(
        Shape(subject="zofia"), what, f"http://www.w3.org/2001/04/xmldsig-more#{method}", digest
    )
    assert proved(content).subject == "zofia"
    assert reason(content.replace(b"zofia", EVIL.encode())) == "certificate"


@pytest.mark.parametrize("what", ["assertion", "response", "both"])
def test_an_encrypted_assertion_is_opened_with_our_key(what: str) -> None:
    if what == "response":
        content = encrypted(bytes(etree.tostring(unsigned(Shape()))), OURS[1])
        content = bytes(etree.tostring(sign(etree.fromstring(content))))
    elif what == "both":
        content = bytes(etree.tostring(sign(etree.fromstring(encrypted(signed(), OURS[1])))))
    else:
        content = encrypted(signed(), OURS[1])
    assert proved(content).subject == "una.kerrigan"
    assert reason(content, keys=(key_pair("other")[0],)) == "encryption"


def test_names_of_any_script_many_groups_and_namespaced_claims_arrive_whole() -> None:
    groups = [f"Team {number}" for number in range(1_500)]
    long = "urn:fernhollow:claims:group"
    found = proved(
        signed(
            Shape(
                subject="ボタン・園子",
                attributes={long: groups, "displayName": ["Zofia Wiśniarska"], "empty": [""]},
            )
        )
    )
    assert (found.subject, found.attributes[long], found.attributes["displayName"]) == (
        "ボタン・園子",
        groups,
        ["Zofia Wiśniarska"],
    )
    assert found.attributes["empty"] == []


def test_pretty_printing_before_signing_and_an_old_or_next_certificate_do_not_matter() -> None:
    content = signed(change=lambda root: etree.indent(root, "    "))
    assert (
        proved(content, certificates=(key_pair("next")[1], key_pair("provider")[1])).subject == "una.kerrigan"
    )


def test_an_unsolicited_response_is_accepted_only_if_allowed() -> None:
    content = signed(Shape(request=None))
    assert reason(content) == "in_response_to"
    assert proved(content, request=None, allow_idp_initiated=True).subject == "una.kerrigan"
    assert reason(signed(), request=None, allow_idp_initiated=True) == "in_response_to", (
        "it answers something that was not asked here"
    )


def test_clocks_may_differ_by_as_much_as_is_set() -> None:
    late = signed(Shape(begins=40))
    assert proved(late).subject == "una.kerrigan"
    assert reason(late, skew=10) == "early"


def test_text_is_read_whole_across_comments() -> None:
    content = signed(Shape(subject="una.kerrigan@fernhollow.example.evil.example"))
    cut = content.replace(b"fernhollow.example.evil", b"fernhollow.example<!-- -->.evil")
    assert proved(cut).subject == "una.kerrigan@fernhollow.example.evil.example"


# Refused for what they say


@pytest.mark.parametrize(
    ("shape", "why"),
    [
        (Shape(ends=-61), "expired"),
        (Shape(begins=61), "early"),
        (Shape(audience="https://elsewhere.example"), "audience"),
        (Shape(recipient="https://elsewhere.example/acs"), "recipient"),
        (Shape(destination="https://elsewhere.example/acs"), "destination"),
        (Shape(issuer="https://evil.example"), "issuer"),
        (Shape(request="_other"), "in_response_to"),
        (Shape(request=None), "in_response_to"),
        (Shape(status="urn:oasis:names:tc:SAML:2.0:status:Requester"), "status"),
        (Shape(subject=" "), "no_subject"),
    ],
)
@pytest.mark.parametrize("what", ["assertion", "response"])
def test_a_wrong_audience_recipient_or_time_is_refused(shape: Shape, why: str, what: str) -> None:
    assert reason(signed(shape, what)) == why


def drop(path: str) -> Callable[[etree._Element], Any]:
    def change(root: etree._Element) -> None:
        element = find(root, path)
        element.getparent().remove(element)

    return change


def unset(path: str, name: str) -> Callable[[etree._Element], Any]:
    return lambda root: find(root, path).attrib.pop(name)


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (drop(".//saml:Conditions"), "audience"),
        (drop(".//saml:AudienceRestriction"), "audience"),
        (drop(".//saml:Subject"), "no_subject"),
        (drop(".//saml:SubjectConfirmation"), "recipient"),
        (drop(".//saml:AuthnStatement"), "no_sign_in"),
        (drop(".//saml:NameID"), "no_subject"),
        (unset(".//saml:SubjectConfirmationData", "Recipient"), "recipient"),
        (unset(".//saml:SubjectConfirmationData", "NotOnOrAfter"), "expired"),
        (unset(".//saml:Assertion", "Version"), "malformed"),
        (lambda root: find(root, ".//saml:AuthnStatement").set("SessionNotOnOrAfter", at(-90)), "expired"),
        (lambda root: find(root, ".//saml:Conditions").set("NotOnOrAfter", "soon"), "malformed"),
        (
            lambda root: find(root, ".//saml:SubjectConfirmation").set(
                "Method", "urn:oasis:names:tc:SAML:2.0:cm:sender-vouches"
            ),
            "recipient",
        ),
        (
            lambda root: find(root, "saml:Assertion").append(copy.deepcopy(find(root, ".//saml:Conditions"))),
            "malformed",
        ),
        (unset(".", "Destination"), "destination"),
    ],
)
def test_a_response_without_required_elements_is_refused(
    change: Callable[[etree._Element], Any], why: str
) -> None:
    assert reason(signed(what="both", change=change)) == why


# Refused for how they are signed


def test_unsigned_altered_or_foreign_responses_are_refused() -> None:
    assert reason(signed(what="nothing")) == "unsigned"
    assert reason(signed(key=key_pair("evil")[0])) == "certificate"
    assert reason(signed().replace(b"una.kerrigan", EVIL.encode())) == "certificate"
    assert reason(signed(what="response").replace(b"Estates", b"Chiefs")) == "certificate"
    assert reason(signed(), certificates=()) == "certificate"
    # Its own certificate along with it makes nobody a provider.
    key, own = key_pair("evil")
    assert reason(signed(key=key, cert=own.pem)) == "certificate"


@pytest.mark.parametrize(
    ("how", "why"),
    [
        ({"method": SignatureMethod.RSA_SHA1}, "algorithm"),
        ({"digest": DigestAlgorithm.SHA1}, "algorithm"),
        ({"method": SignatureMethod.HMAC_SHA256, "secret": b"secret"}, "algorithm"),
        (
            {"method": SignatureMethod.HMAC_SHA256, "secret": key_pair("provider")[1].pem.encode()},
            "algorithm",
        ),
        ({"c14n": CanonicalizationMethod.CANONICAL_XML_1_0}, "algorithm"),
        ({"c14n": CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0_WITH_COMMENTS}, "algorithm"),
    ],
)
def test_weak_algorithms_and_foreign_canonicalization_are_refused(how: dict[str, Any], why: str) -> None:
    assert reason(signed(**how)) == why


@pytest.mark.parametrize(
    "algorithm",
    [
        "http://www.w3.org/TR/1999/REC-xslt-19991116",
        "http://www.w3.org/TR/1999/REC-xpath-19991116",
        "http://www.w3.org/2000/09/xmldsig#base64",
    ],
)
def test_foreign_transforms_are_refused(algorithm: str) -> None:
    root = etree.fromstring(signed())
    transforms = find(root, ".//ds:Transforms")
    transforms[0].set("Algorithm", algorithm)
    assert reason(etree.tostring(root)) == "transform"
    transforms[0].set("Algorithm", transforms[1].get("Algorithm") or "")
    assert reason(etree.tostring(root)) == "transform"


def test_a_reference_to_all_or_to_something_else_is_refused() -> None:
    for uri in ("", "#_response", "#xpointer(id('_assertion'))", "https://evil.example/x"):
        root = etree.fromstring(signed())
        find(root, ".//ds:Reference").set("URI", uri)
        assert reason(etree.tostring(root)) == "signature", uri
    root = etree.fromstring(signed())
    info = find(root, ".//ds:SignedInfo")
    info.append(copy.deepcopy(find(root, ".//ds:Reference")))
    assert reason(etree.tostring(root)) == "signature"


def evil_copy(assertion: etree._Element, identifier: str = "_evil") -> etree._Element:
    """Return an assertion of somebody else, without a signature."""
    made = copy.deepcopy(assertion)
    for signature in made.findall("ds:Signature", NS):
        made.remove(signature)
    made.set("ID", identifier)
    find(made, ".//saml:NameID").text = EVIL
    return made


def wrapped(variant: int) -> bytes:
    """Return a response in which the signed part was put where it counts for nothing, and another stands in
    its place (XSW 1 to 8).
    """
    root = etree.fromstring(signed(what="response" if variant <= 2 else "assertion"))
    if variant <= 2:
        other = copy.deepcopy(root)
        signature = find(other, "ds:Signature")
        other.remove(signature)
        find(other, ".//saml:NameID").text = EVIL
        other.set("ID", "_evil")
        other.append(signature)
        (signature if variant == 1 else other).append(copy.deepcopy(root) if variant == 2 else root)
        return bytes(etree.tostring(other))
    assertion = find(root, "saml:Assertion")
    other = evil_copy(assertion)
    signature = find(assertion, "ds:Signature")
    if variant == 3:
        root.insert(0, other)
    elif variant == 4:
        root.remove(assertion)
        root.append(other)
        other.append(assertion)
    elif variant == 5:
        other.insert(1, copy.deepcopy(signature))
        root.append(assertion)
        root.replace(assertion, other)
        root.append(assertion)
    elif variant == 6:
        assertion.remove(signature)
        root.remove(assertion)
        other.insert(1, signature)
        signature.append(assertion)
        root.append(other)
    elif variant == 7:
        extensions = etree.Element(f"{{{SAMLP}}}Extensions")
        extensions.append(other)
        root.insert(0, extensions)
    else:
        assertion.remove(signature)
        root.remove(assertion)
        container = etree.SubElement(signature, f"{{{NS['ds']}}}Object")
        container.append(assertion)
        other.insert(1, signature)
        root.append(other)
    return bytes(etree.tostring(root))


@pytest.mark.parametrize("variant", range(1, 9))
def test_signature_wrapping_proves_no_other_user(variant: int) -> None:
    assert EVIL.encode() in wrapped(variant)
    assert reason(wrapped(variant)) in ("assertions", "signature", "duplicate_ids", "certificate", "unsigned")


def test_another_assertion_beside_the_signed_one_is_refused_however_it_is_sent() -> None:
    root = etree.fromstring(signed())
    root.append(evil_copy(find(root, "saml:Assertion")))
    assert reason(etree.tostring(root)) == "assertions"
    hidden = etree.fromstring(encrypted(signed(key=key_pair("evil")[0]), OURS[1]))
    both = etree.fromstring(signed())
    both.append(find(hidden, "saml:EncryptedAssertion"))
    assert reason(etree.tostring(both)) == "assertions"
    nested = signed(
        change=lambda root: find(root, "saml:Assertion").append(evil_copy(find(root, "saml:Assertion")))
    )
    assert reason(nested) == "assertions"
    # Encrypted, its inside is looked at as well.
    assert reason(encrypted(nested, OURS[1])) == "assertions"


def test_two_elements_of_one_id_are_refused() -> None:
    root = etree.fromstring(signed(what="both"))
    find(root, "samlp:Status").set("ID", "_assertion")
    assert reason(etree.tostring(root)) == "duplicate_ids"


# Refused for what they are


ENTITIES = b"".join(b'<!ENTITY a%d "%s">' % (n, b"&a%d;" % (n - 1) * 10 if n else b"lol") for n in range(10))


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"", "malformed"),
        (b"no xml", "malformed"),
        (b"<a/>", "malformed"),
        (b"\xff\xfe<", "malformed"),
        (signed()[:-20], "malformed"),
        (b'<!DOCTYPE x SYSTEM "file:///etc/passwd">' + signed(), "document_type"),
        (b"<!DOCTYPE x>" + signed(), "document_type"),
        (b'<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><x>&e;</x>', "document_type"),
        (b"<!DOCTYPE x [" + ENTITIES + b"]><x>&a9;</x>", "document_type"),
        (b"<a>" * 70 + b"</a>" * 70, "too_large"),
        (b"<a>" + b"<b/>" * 25_000 + b"</a>", "too_large"),
        (b"<a>" + b" " * 600_000 + b"</a>", "too_large"),
        (signed().replace(b"<samlp:Status>", b"<?go away?><samlp:Status>"), "malformed"),
    ],
)
def test_an_invalid_message_is_refused(content: bytes, why: str) -> None:
    found = reason(content)
    assert found == why or (why == "document_type" and found == "malformed")


def test_weak_encryption_is_refused() -> None:
    assert reason(encrypted(signed(), OURS[1], wrap="pkcs1")) == "algorithm"
    assert (
        reason(encrypted(signed(), OURS[1], data="http://www.w3.org/2001/04/xmlenc#tripledes-cbc"))
        == "algorithm"
    )
    root = etree.fromstring(encrypted(signed(), OURS[1]))
    find(
        root,
        ".//{http://www.w3.org/2001/04/xmlenc#}CipherData/{http://www.w3.org/2001/04/xmlenc#}CipherValue",
    ).text = "AAAA"
    assert reason(etree.tostring(root)) == "encryption"


@given(st.data())
def test_no_change_of_a_response_proves_another_user_or_fails_unexpectedly(
    data: st.DataObject,
) -> None:
    content = bytearray(signed())
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, len(content) - 1))
        content[place : place + data.draw(st.integers(0, 3))] = data.draw(st.binary(max_size=4))
    try:
        found = proved(bytes(content))
    except SignInRefused:
        return
    assert (found.subject, found.attributes) == (
        "una.kerrigan",
        {"displayName": ["Una Kerrigan"], "groups": ["Estates", "Night watch"]},
    )


# The authentication context


MFA = "urn:fernhollow:ac:second-factor"


def test_only_the_required_authentication_context_is_accepted() -> None:
    assert proved(signed(Shape(context=MFA)), contexts=(PASSWORD, MFA)).subject == "una.kerrigan"
    assert proved(signed(Shape(context=None))).subject == "una.kerrigan"
    for context in (PASSWORD, None, f"{MFA}.not", f"x <!-- --> {MFA}", MFA.upper()):
        assert reason(signed(Shape(context=context)), contexts=(MFA,)) == "context"


def test_a_comment_does_not_cut_an_authentication_context() -> None:
    assert reason(signed(Shape(context=f"{MFA}<!-- -->.weak")), contexts=(MFA,)) == "context"
