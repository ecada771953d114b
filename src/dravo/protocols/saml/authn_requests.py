"""Authentication requests of applications (SAML core, section 3.4.1), by HTTP-Redirect or HTTP-POST.

A request is checked as strictly as a response: only registered ACS URLs, signatures where they are required,
limits on size, and each request once.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from lxml import etree

from dravo.core.app_sign_in.comparison import difference
from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.documents import check_ids, only, read_document, text_of
from dravo.protocols.saml.names import POST, SAML, SAMLP, q
from dravo.protocols.saml.redirect import LARGEST, check_signature, malformed, read_redirect
from dravo.protocols.saml.service_provider import AcsEndpoint, ServiceProvider
from dravo.protocols.saml.signatures import signature_of, signed
from dravo.protocols.verified_identity import SignInRefused

WHAT = "authentication request"
LONGEST_RELAY = 1_024
LONGEST_ID = 256


@dataclass(frozen=True)
class AuthnRequest:
    """A request of an application to sign a user in.

    Attributes:
        id: its ID, to which the response refers.
        issuer: the entity ID of the application.
        acs_url, acs_index: where the response goes, if the request says so.
        destination: the address to which it was sent, if it says so.
        force: whether the user has to sign in again.
        passive: whether the user must not be asked anything.
        name_id_format: the requested format of the NameID, or "".
        contexts: the requested authentication contexts; none for any.
        issued_at: seconds since 1970.
        relay: the RelayState.
        is_signed: whether the application signed it.
    """

    id: str
    issuer: str
    acs_url: str | None
    acs_index: int | None
    destination: str | None
    force: bool
    passive: bool
    name_id_format: str
    contexts: tuple[str, ...]
    issued_at: float
    relay: str
    is_signed: bool


@dataclass(frozen=True)
class Requirements:
    """What a request must fulfill.

    Attributes:
        sso: our address at which requests arrive.
        now: seconds since 1970.
        skew: by how many seconds clocks may differ.
        oldest: the largest age in seconds; a request is remembered for as long.
        must_be_signed: whether unsigned requests are refused.
    """

    sso: str
    now: float
    skew: int = 60
    oldest: int = 600
    must_be_signed: bool = False


def from_redirect(query: bytes, certificates: Sequence[Certificate]) -> AuthnRequest:
    """Return the request of a query string.

    Args:
        query: the query string as received, not decoded.
        certificates: of the application, for a signed request.

    Raises:
        SignInRefused: if it cannot be read, or a signature does not fit.
    """
    message = read_redirect(query, "SAMLRequest", WHAT)
    if message.has_signature:
        _check_certificates(certificates)
        check_signature(message, certificates)
    root = message.opened()
    if signature_of(root) is not None:
        # By this binding the query is signed, never the message (bindings, section 3.4.4.1).
        raise malformed(WHAT)
    return _read(root, message.relay, is_signed=message.has_signature)


def from_post(encoded: str, relay: str, certificates: Sequence[Certificate]) -> AuthnRequest:
    """Return the request of a posted form.

    Args:
        encoded: the field SAMLRequest.
        relay: the field RelayState.
        certificates: of the application, for a signed request.

    Raises:
        SignInRefused: if it cannot be read, or a signature does not fit.
    """
    if len(encoded) > 2 * LARGEST:
        raise malformed(WHAT)
    try:
        content = base64.b64decode("".join(encoded.split()), validate=True)
    except (binascii.Error, ValueError):
        raise malformed(WHAT) from None
    root = read_document(content, LARGEST)
    check_ids(root)
    if signature_of(root) is None:
        return _read(root, relay, is_signed=False)
    _check_certificates(certificates)
    # From here on the signed content is read, never the document around it.
    return _read(signed(root, certificates), relay, is_signed=True)


def _check_certificates(certificates: Sequence[Certificate]) -> None:
    if not certificates:
        raise SignInRefused(
            "certificate",
            "The application signed its request, and its certificate is not known here.",
            "Fetch the metadata of the application again, or enter its certificate.",
        )


def _read(root: etree._Element, relay: str, *, is_signed: bool) -> AuthnRequest:
    identifier = str(root.get("ID") or "")
    if root.tag != q(SAMLP, "AuthnRequest") or root.get("Version") != "2.0" or not identifier:
        raise malformed(WHAT)
    issuer = text_of(only(root, SAML, "Issuer"))
    if len(identifier) > LONGEST_ID or len(relay.encode()) > LONGEST_RELAY or not issuer:
        raise malformed(WHAT)
    if root.get("ProtocolBinding") not in (None, POST):
        raise SignInRefused(
            "binding",
            f"The application requests the binding {str(root.get('ProtocolBinding'))[:200]}.",
            "Configure the application to receive responses by HTTP-POST.",
        )
    policy = only(root, SAMLP, "NameIDPolicy")
    asked = only(root, SAMLP, "RequestedAuthnContext")
    index = root.get("AssertionConsumerServiceIndex")
    if index is not None and not (index.isascii() and index.isdigit() and len(index) < 6):
        raise malformed(WHAT)
    contexts = [] if asked is None else asked.findall(q(SAML, "AuthnContextClassRef"))
    return AuthnRequest(
        id=identifier,
        issuer=issuer,
        acs_url=root.get("AssertionConsumerServiceURL"),
        acs_index=None if index is None else int(index),
        destination=root.get("Destination"),
        force=str(root.get("ForceAuthn")).lower() in ("true", "1"),
        passive=str(root.get("IsPassive")).lower() in ("true", "1"),
        name_id_format=str(policy.get("Format") or "") if policy is not None else "",
        contexts=tuple(text_of(each) for each in contexts[:20]),
        issued_at=_seconds(root.get("IssueInstant")),
        relay=relay,
        is_signed=is_signed,
    )


def _seconds(text: str | None) -> float:
    try:
        # A time without a zone is UTC (core, section 1.3.3).
        whole = str(text) if str(text).endswith("Z") else f"{text}Z"
        return datetime.fromisoformat(whole).timestamp()
    except (ValueError, OverflowError):
        raise malformed(WHAT) from None


def check_request(request: AuthnRequest, application: ServiceProvider, required: Requirements) -> AcsEndpoint:
    """Check a request against what is stored about the application; return where the response goes.

    Raises:
        SignInRefused: "issuer", "destination", "unsigned", "expired" or "acs".
    """
    if request.issuer != application.entity_id:
        raise SignInRefused(
            "issuer",
            f"The entity ID in the request is '{request.issuer[:200]}' instead of '{application.entity_id}'. "
            f"{difference(application.entity_id, request.issuer[:2_000])}",
            "Correct the entity ID here or in the application.",
        )
    if request.destination not in (None, "", required.sso):
        raise SignInRefused(
            "destination",
            f"The request was sent to {str(request.destination)[:200]} instead of {required.sso}.",
            "Correct the login URL in the application.",
        )
    if (required.must_be_signed or application.signs_requests) and not request.is_signed:
        raise SignInRefused(
            "unsigned",
            "The request is not signed.",
            "Configure the application to sign its requests, or allow unsigned requests.",
        )
    age = required.now - request.issued_at
    if age > required.oldest + required.skew or age < -required.skew:
        raise SignInRefused(
            "expired",
            f"The time of the request differs from the clock of Dravo by {round(abs(age)):,} seconds.",
            "Set the clock of the application, or start the sign-in again.",
        )
    return _endpoint(request, application)


def _endpoint(request: AuthnRequest, application: ServiceProvider) -> AcsEndpoint:
    if request.acs_url is not None and request.acs_index is not None:
        # One or the other (core, section 3.4.1).
        raise malformed(WHAT)
    if request.acs_url is None and request.acs_index is None:
        found = application.default_acs
    else:
        found = next(
            (
                each
                for each in application.acs
                if (request.acs_url, request.acs_index) in ((each.url, None), (None, each.index))
            ),
            None,
        )
    if found is None:
        asked = request.acs_url if request.acs_url is not None else f"with the index {request.acs_index}"
        nearest = application.default_acs
        told = (
            f" {difference(nearest.url, request.acs_url[:2_000])}"
            if nearest is not None and request.acs_url is not None
            else ""
        )
        raise SignInRefused(
            "acs",
            f"The ACS URL {str(asked)[:200]} is not registered for this application.{told}",
            "Add the ACS URL to the settings of the application, or correct it there.",
        )
    return found
