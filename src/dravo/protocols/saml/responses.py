"""Validates SAML responses (SAML core 3.3, bindings 3.5, profiles 4.1.4).

One assertion is used, and it is the element that a trusted signature covers. All values are read from the
signed element; the rest of the message is ignored.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.decryption import decrypted
from dravo.protocols.saml.documents import check_ids, only, read_document, text_of
from dravo.protocols.saml.names import BEARER, SAML, SAMLP, SUCCESS, UNSPECIFIED, q
from dravo.protocols.saml.signatures import STRANGER, signature_of, signed
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity, check_context

MOST_SKEW = 300
_INSTANT = re.compile(r"(\d{4})-(\d\d)-(\d\d)T(\d\d):(\d\d):(\d\d)(?:\.\d+)?(?:Z|([+-])(\d\d):(\d\d))?")


@dataclass(frozen=True)
class Expected:
    """The expected values of a response.

    Attributes:
        issuer: the provider's entity ID.
        certificates: the provider's certificates, one of which must verify the signature.
        audience: our entity ID.
        acs: our ACS URL: destination and recipient.
        request: the ID of our request; None without one.
        unasked: whether IdP-initiated sign-in is allowed.
        now: seconds since 1970.
        skew: by how many seconds clocks may differ.
        keys: our keys, for encrypted assertions.
        longest: the maximum validity from now on, in seconds. Each response is remembered until it expires,
            to refuse a replay.
        contexts: the accepted authentication contexts; none accepts all.
    """

    issuer: str
    certificates: Sequence[Certificate]
    audience: str
    acs: str
    request: str | None
    now: float
    allow_idp_initiated: bool = False
    skew: int = 60
    keys: Sequence[rsa.RSAPrivateKey] = ()
    longest: int = 3_600
    contexts: Sequence[str] = ()


Note = Callable[[str, str], None]


def accept(content: bytes, expected: Expected, note: Note = lambda name, message: None) -> VerifiedIdentity:
    """Return the identity that a response proves.

    Args:
        content: the XML, without base64.
        note: is called for each successful step, with its name and the finding.

    Raises:
        SignInRefused: with the reason.
    """
    root = read_document(content)
    if root.tag != q(SAMLP, "Response") or root.get("Version") != "2.0":
        raise SignInRefused(
            "malformed", "The message is not a SAML 2.0 response.", "Check the ACS URL at the provider."
        )
    check_ids(root)
    _check_status(root)
    note(
        "Read",
        f"A response from {text_of(root.find(q(SAML, 'Issuer'))) or 'an unnamed issuer'}, "
        f"{len(content):,} bytes.",
    )
    covered = signed(root, expected.certificates) if signature_of(root) is not None else None
    response = covered if covered is not None else root
    _check_envelope(response, expected, is_signed=covered is not None)
    assertion = _assertion(response, expected, is_signed=covered is not None)
    note(
        "Signature",
        f"{'The response' if covered is not None else 'The assertion'} is signed with a key of the provider.",
    )
    _check_issuer(assertion, expected)
    _check_conditions(assertion, expected)
    until = _check_subject(assertion, expected)
    session, ends = _session(assertion, expected)
    check_context(_context(assertion), expected.contexts)
    note(
        "Audience and time",
        f"Audience {expected.audience}, recipient {expected.acs}, valid until {_told(min(until, ends))}.",
    )
    name_id = only(assertion.find(q(SAML, "Subject")), SAML, "NameID")
    subject = text_of(name_id)
    if name_id is None or not subject:
        raise SignInRefused(
            "no_subject",
            "The assertion has no NameID.",
            "Configure the provider to send a persistent NameID.",
        )
    identifier = str(assertion.get("ID"))
    kind = name_id.get("Format") or UNSPECIFIED
    return VerifiedIdentity(
        expected.issuer, subject, _attributes(assertion), (identifier, until + expected.skew), session, kind
    )


def _check_status(root: etree._Element) -> None:
    code = root.find(f"{q(SAMLP, 'Status')}/{q(SAMLP, 'StatusCode')}")
    if code is None:
        raise SignInRefused("malformed", "The response has no status.", STRANGER)
    if code.get("Value") == SUCCESS:
        return
    inner = code.find(q(SAMLP, "StatusCode"))
    short = str((inner if inner is not None else code).get("Value", "")).rpartition(":")[2]
    said = text_of(root.find(f"{q(SAMLP, 'Status')}/{q(SAMLP, 'StatusMessage')}"))[:300]
    repairs = {
        "RequestDenied": "Check that the user is assigned to this application at the provider.",
        "AuthnFailed": "The user could not sign in at the provider.",
        "NoPassive": "The user must sign in at the provider first.",
        "InvalidNameIDPolicy": "Configure the provider to allow the requested NameID format.",
        "Requester": "The provider rejected the request. Compare the entity ID, the ACS URL and the "
        "signature on both sides.",
    }
    raise SignInRefused(
        "status",
        f"The provider responded with '{short}'{': ' + said if said else ''}.",
        repairs.get(short, "Check the log of the provider."),
    )


def _check_envelope(response: etree._Element, expected: Expected, *, is_signed: bool) -> None:
    destination = response.get("Destination")
    if destination is None and is_signed:
        raise SignInRefused(
            "destination",
            "The signed response has no Destination.",
            "Configure the provider to send the Destination.",
        )
    if destination is not None and destination != expected.acs:
        raise SignInRefused(
            "destination",
            f"The destination of the response is {destination[:200]} instead of {expected.acs}.",
            "Enter the exact ACS URL at the provider.",
        )
    issuer = response.find(q(SAML, "Issuer"))
    if issuer is not None and text_of(issuer) != expected.issuer:
        raise _other_issuer(text_of(issuer), expected)
    answers = response.get("InResponseTo")
    if answers is not None or expected.request is not None:
        _check_answers(answers, expected)


def _check_answers(answers: str | None, expected: Expected) -> None:
    """Check that a response answers our request; raises "in response to"."""
    if answers is None and expected.allow_idp_initiated:
        return
    if answers is None:
        raise SignInRefused(
            "in_response_to",
            "The response belongs to no request of Dravo.",
            "Start the sign-in at Dravo, or allow IdP-initiated sign-in.",
        )
    if answers != expected.request:
        raise SignInRefused(
            "in_response_to",
            "The response belongs to another request.",
            "Start the sign-in again in one window. Do not use the Back button.",
        )


def _other_issuer(found: str, expected: Expected) -> SignInRefused:
    return SignInRefused(
        "issuer",
        f"The issuer is '{found[:200]}' instead of '{expected.issuer}'.",
        "Compare the entity ID with the metadata of the provider.",
    )


def _assertion(response: etree._Element, expected: Expected, *, is_signed: bool) -> etree._Element:
    """Return the only assertion as it was signed: directly, or within the signed response."""
    plain, hidden = response.findall(q(SAML, "Assertion")), response.findall(q(SAML, "EncryptedAssertion"))
    everywhere = [
        each for name in ("Assertion", "EncryptedAssertion") for each in response.iter(q(SAML, name))
    ]
    if len(plain) + len(hidden) != 1 or len(everywhere) != 1:
        number = len(everywhere)
        raise SignInRefused(
            "assertions",
            f"The response has {number} assertions instead of one.",
            STRANGER if number else "Configure the provider to send one assertion.",
        )
    assertion = plain[0] if plain else decrypted(hidden[0], expected.keys)
    if assertion.tag != q(SAML, "Assertion") or assertion.get("Version") != "2.0" or not assertion.get("ID"):
        raise SignInRefused("malformed", "The assertion is not a SAML 2.0 assertion.", STRANGER)
    if hidden:
        check_ids(assertion)
        if sum(1 for _ in assertion.iter(q(SAML, "Assertion"))) != 1:
            raise SignInRefused("assertions", "The assertion contains another assertion.", STRANGER)
    if signature_of(assertion) is not None:
        return signed(assertion, expected.certificates)
    if not is_signed:
        raise SignInRefused(
            "unsigned",
            "Neither the response nor the assertion is signed.",
            "Configure the provider to sign the assertion.",
        )
    return assertion


def _check_issuer(assertion: etree._Element, expected: Expected) -> None:
    issuer = text_of(only(assertion, SAML, "Issuer"))
    if issuer != expected.issuer:
        raise _other_issuer(issuer, expected)


def _check_conditions(assertion: etree._Element, expected: Expected) -> None:
    conditions = only(assertion, SAML, "Conditions")
    if conditions is None:
        raise SignInRefused(
            "audience",
            "The assertion has no audience.",
            "Configure the provider to send the entity ID of Dravo as audience.",
        )
    _check_span(conditions, expected)
    restrictions = conditions.findall(q(SAML, "AudienceRestriction"))
    named = [[text_of(each) for each in one.findall(q(SAML, "Audience"))] for one in restrictions]
    if not restrictions or not all(expected.audience in some for some in named):
        told = ", ".join(each[:200] for some in named for each in some) or "nobody"
        raise SignInRefused(
            "audience",
            f"The audience is {told} instead of {expected.audience}.",
            "Enter the exact entity ID at the provider.",
        )


def _check_span(element: etree._Element, expected: Expected) -> None:
    begins, ends = _seconds(element.get("NotBefore")), _seconds(element.get("NotOnOrAfter"))
    if begins is not None and begins > expected.now + expected.skew:
        apart = round(begins - expected.now)
        raise SignInRefused(
            "early",
            f"The assertion is valid from {_told(begins)}, in {apart:,} seconds.",
            "Synchronize both clocks with a time server.",
        )
    if ends is not None and ends <= expected.now - expected.skew:
        apart = round(expected.now - ends)
        raise SignInRefused(
            "expired",
            f"The assertion expired at {_told(ends)}, {apart:,} seconds ago.",
            "Start the sign-in again. Synchronize both clocks with a time server.",
        )


def _check_subject(assertion: etree._Element, expected: Expected) -> float:
    """Check the subject confirmation; return the latest time at which it is valid."""
    subject = only(assertion, SAML, "Subject")
    if subject is None:
        raise SignInRefused(
            "no_subject",
            "The assertion has no subject.",
            "Configure the provider to send a persistent NameID.",
        )
    wrong: SignInRefused | None = None
    for confirmation in subject.findall(q(SAML, "SubjectConfirmation")):
        if confirmation.get("Method") != BEARER:
            continue
        try:
            return _confirmed(confirmation, expected)
        except SignInRefused as refused:
            wrong = wrong or refused
    raise wrong or SignInRefused(
        "recipient",
        "The assertion has no bearer confirmation.",
        "Configure the provider to use the web browser SSO profile.",
    )


def _confirmed(confirmation: etree._Element, expected: Expected) -> float:
    data = only(confirmation, SAML, "SubjectConfirmationData")
    recipient = data.get("Recipient") if data is not None else None
    if data is None or recipient != expected.acs:
        hint = "Enter the exact ACS URL at the provider."
        raise SignInRefused(
            "recipient", f"The recipient is {str(recipient)[:200]} instead of {expected.acs}.", hint
        )
    ends = _seconds(data.get("NotOnOrAfter"))
    if ends is None:
        raise SignInRefused(
            "expired",
            "The bearer confirmation has no NotOnOrAfter.",
            "Configure the provider to send NotOnOrAfter.",
        )
    _check_span(data, expected)
    if ends > expected.now + expected.longest + expected.skew:
        raise SignInRefused(
            "too_long",
            f"The response is valid for {(ends - expected.now) / 3_600:,.1f} more hours; the maximum "
            f"is {expected.longest // 3_600}.",
            "Configure the provider to shorten NotOnOrAfter to some minutes, or raise the maximum "
            "(setting `max_validity_hours`).",
        )
    answers = data.get("InResponseTo")
    if answers is not None or expected.request is not None:
        _check_answers(answers, expected)
    return ends


def _session(assertion: etree._Element, expected: Expected) -> tuple[str | None, float]:
    statement = assertion.find(q(SAML, "AuthnStatement"))
    if statement is None:
        raise SignInRefused(
            "no_sign_in",
            "The assertion has no AuthnStatement.",
            "Configure the provider to send an AuthnStatement.",
        )
    ends = _seconds(statement.get("SessionNotOnOrAfter"))
    if ends is not None and ends <= expected.now - expected.skew:
        raise SignInRefused(
            "expired",
            f"The session at the provider ended at {_told(ends)}.",
            "Sign in at the provider again.",
        )
    return statement.get("SessionIndex"), ends if ends is not None else float("inf")


def _context(assertion: etree._Element) -> str:
    """Return how the user signed in at the provider (core, section 2.7.2.2), or an empty text."""
    path = f"{q(SAML, 'AuthnStatement')}/{q(SAML, 'AuthnContext')}/{q(SAML, 'AuthnContextClassRef')}"
    return text_of(assertion.find(path))


def _attributes(assertion: etree._Element) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for attribute in assertion.findall(f"{q(SAML, 'AttributeStatement')}/{q(SAML, 'Attribute')}"):
        name = attribute.get("Name")
        if name:
            values = [text_of(each) for each in attribute.findall(q(SAML, "AttributeValue"))]
            found.setdefault(name, []).extend(each for each in values if each)
    return found


def _seconds(text: str | None) -> float | None:
    """Return an xs:dateTime as seconds since 1970; one without a zone is UTC, as SAML has it (core, section
    1.3.3).
    """
    if text is None:
        return None
    found = _INSTANT.fullmatch(text)
    try:
        if found is None:
            raise ValueError
        year, month, day, hour, minute, second = (int(each) for each in found.groups()[:6])
        at = datetime(year, month, day, hour, minute, min(second, 59), tzinfo=UTC).timestamp()
    except ValueError:
        raise SignInRefused("malformed", f"'{text[:60]}' is not a time.", STRANGER) from None
    if found.group(7):
        at -= (1 if found.group(7) == "+" else -1) * (int(found.group(8)) * 3600 + int(found.group(9)) * 60)
    return at


def _told(seconds: float) -> str:
    return datetime.fromtimestamp(min(seconds, 253402300799), UTC).strftime("%Y-%m-%d %H:%M:%S UTC")
