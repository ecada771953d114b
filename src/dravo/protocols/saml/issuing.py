"""Responses to applications (SAML core, sections 2.3 and 3.3; profiles, section 4.1.4.2)."""

from __future__ import annotations

import re
import secrets
from collections.abc import Sequence
from dataclasses import dataclass

from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree

from dravo.core.instants import Instant, later
from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.encryption import encrypted
from dravo.protocols.saml.names import BEARER, SAML, SAMLP, SUCCESS, q
from dravo.protocols.saml.requests import MessageHeader
from dravo.protocols.saml.signing import sign

RESPONSE, ASSERTION, BOTH = "response", "assertion", "both"
SIGNED = (RESPONSE, ASSERTION, BOTH)
_STATUS = "urn:oasis:names:tc:SAML:2.0:status:"
REQUESTER, RESPONDER = f"{_STATUS}Requester", f"{_STATUS}Responder"
NO_PASSIVE, DENIED, NO_CONTEXT, BAD_NAME_ID = (
    f"{_STATUS}NoPassive",
    f"{_STATUS}RequestDenied",
    f"{_STATUS}NoAuthnContext",
    f"{_STATUS}InvalidNameIDPolicy",
)
BASIC = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
URI = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
UNSPECIFIED_NAME = "urn:oasis:names:tc:SAML:2.0:attrname-format:unspecified"
XSI, XS = "http://www.w3.org/2001/XMLSchema-instance", "http://www.w3.org/2001/XMLSchema"
# A clock that is a little behind does not refuse what is valid.
BACKDATED_SECONDS = 60
_NOT_IN_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


@dataclass(frozen=True)
class IssuingKey:
    """Our key towards an application, and its certificate."""

    key: rsa.RSAPrivateKey
    certificate: Certificate


@dataclass(frozen=True)
class ResponseOptions:
    """How responses to an application are protected.

    Attributes:
        signs: `RESPONSE`, `ASSERTION` or `BOTH`.
        encryption: the certificate for which assertions are encrypted; None leaves them in the clear.
        lifetime: how long an assertion can be used, in seconds.
    """

    signs: str = BOTH
    encryption: Certificate | None = None
    lifetime: int = 300


@dataclass(frozen=True)
class Attribute:
    """An attribute of an assertion; none of its values may be empty."""

    name: str
    values: tuple[str, ...]


@dataclass(frozen=True)
class SignedInSubject:
    """Who signed in, and how.

    Attributes:
        name_id, name_id_format: the identifier of the user towards the application.
        session_index: the session here.
        signed_in_at: when the user signed in.
        context: the authentication context (AuthnContextClassRef).
        until_at: when the session at the application has to end; None for as the application likes.
    """

    name_id: str
    name_id_format: str
    session_index: str
    signed_in_at: Instant
    context: str
    until_at: Instant | None = None


@dataclass(frozen=True)
class ResponseTo:
    """To whom a response goes.

    Attributes:
        acs: the ACS URL.
        audience: the entity ID of the application.
        request_id: the ID of the request; None if the user started here.
        issuer: our entity ID.
        now: the present.
    """

    acs: str
    audience: str
    request_id: str | None
    issuer: str
    now: Instant


def success(
    to: ResponseTo,
    subject: SignedInSubject,
    attributes: Sequence[Attribute],
    options: ResponseOptions,
    key: IssuingKey,
) -> bytes:
    """Return the response that signs a user in, as XML."""
    root = _response(to, SUCCESS)
    assertion = _assertion(to, subject, attributes, options)
    if options.signs in (ASSERTION, BOTH):
        assertion = sign(assertion, key.key, key.certificate)
    root.append(encrypted(assertion, options.encryption) if options.encryption is not None else assertion)
    if options.signs in (RESPONSE, BOTH):
        root = sign(root, key.key, key.certificate)
    return bytes(etree.tostring(root))


def failure(to: ResponseTo, codes: tuple[str, str], message: str, key: IssuingKey) -> bytes:
    """Return a signed response that signs nobody in.

    Args:
        codes: the status, such as (`RESPONDER`, `NO_PASSIVE`).
        message: why, for the log of the application.
    """
    root = _response(to, *codes, message=message)
    return bytes(etree.tostring(sign(root, key.key, key.certificate)))


def _response(to: ResponseTo, *codes: str, message: str = "") -> etree._Element:
    root = MessageHeader(_new_id(), to.acs, to.issuer, to.now).element("Response")
    if to.request_id is not None:
        root.set("InResponseTo", to.request_id)
    status = etree.SubElement(root, q(SAMLP, "Status"))
    parent = status
    for code in codes:
        parent = etree.SubElement(parent, q(SAMLP, "StatusCode"), Value=code)
    if message:
        etree.SubElement(status, q(SAMLP, "StatusMessage")).text = message
    return root


def _assertion(
    to: ResponseTo, subject: SignedInSubject, attributes: Sequence[Attribute], options: ResponseOptions
) -> etree._Element:
    ends = _time(later(to.now, options.lifetime))
    root = etree.Element(
        q(SAML, "Assertion"),
        nsmap={"saml": SAML, "xsi": XSI, "xs": XS},
        ID=_new_id(),
        Version="2.0",
        IssueInstant=_time(to.now),
    )
    etree.SubElement(root, q(SAML, "Issuer")).text = to.issuer
    named = etree.SubElement(root, q(SAML, "Subject"))
    etree.SubElement(named, q(SAML, "NameID"), Format=subject.name_id_format).text = subject.name_id
    confirmed = etree.SubElement(named, q(SAML, "SubjectConfirmation"), Method=BEARER)
    data = etree.SubElement(
        confirmed, q(SAML, "SubjectConfirmationData"), NotOnOrAfter=ends, Recipient=to.acs
    )
    if to.request_id is not None:
        data.set("InResponseTo", to.request_id)
    conditions = etree.SubElement(
        root,
        q(SAML, "Conditions"),
        NotBefore=_time(later(to.now, -BACKDATED_SECONDS)),
        NotOnOrAfter=ends,
    )
    restricted = etree.SubElement(conditions, q(SAML, "AudienceRestriction"))
    etree.SubElement(restricted, q(SAML, "Audience")).text = to.audience
    statement = etree.SubElement(
        root,
        q(SAML, "AuthnStatement"),
        AuthnInstant=_time(subject.signed_in_at),
        SessionIndex=subject.session_index,
    )
    if subject.until_at is not None:
        statement.set("SessionNotOnOrAfter", _time(subject.until_at))
    context = etree.SubElement(statement, q(SAML, "AuthnContext"))
    etree.SubElement(context, q(SAML, "AuthnContextClassRef")).text = subject.context
    _add_attributes(root, attributes)
    return root


def _add_attributes(root: etree._Element, attributes: Sequence[Attribute]) -> None:
    some = [each for each in attributes if each.values]
    if not some:
        return
    statement = etree.SubElement(root, q(SAML, "AttributeStatement"))
    for each in some:
        attribute = etree.SubElement(
            statement, q(SAML, "Attribute"), Name=each.name, NameFormat=name_format(each.name)
        )
        for value in each.values:
            found = etree.SubElement(attribute, q(SAML, "AttributeValue"))
            found.set(q(XSI, "type"), "xs:string")
            found.text = xml_text(value)


def name_format(name: str) -> str:
    """Return the format of an attribute name (core, section 8.2): of a URI, or a short name."""
    return URI if name.startswith(("urn:", "http://", "https://")) else BASIC


def xml_text(value: str) -> str:
    """Return a text without the characters that XML 1.0 cannot contain."""
    return _NOT_IN_XML.sub("", value)


def _new_id() -> str:
    return f"_{secrets.token_hex(20)}"


def _time(moment: Instant) -> str:
    """Return an instant as SAML writes it: UTC, in seconds."""
    return f"{moment[:19]}Z"
