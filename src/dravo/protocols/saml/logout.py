"""Single logout (SAML core 3.7, profiles 4.4) by HTTP-Redirect: ours to the provider, and the provider's to
us.

A logout request is accepted only with a signature: otherwise anyone could sign users out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.documents import text_of
from dravo.protocols.saml.names import SAML, SAMLP, SUCCESS, q
from dravo.protocols.saml.redirect import check_signature, malformed, read_redirect
from dravo.protocols.saml.requests import MessageHeader, by_redirect
from dravo.protocols.verified_identity import SignInRefused

OLDEST_SECONDS = 600
REQUEST = "logout request"


@dataclass(frozen=True)
class AskedOut:
    """A logout request of a provider: the subject, and the sessions to end (none: all of them)."""

    id: str
    subject: str
    sessions: tuple[str, ...]
    relay: str


@dataclass(frozen=True)
class ProviderSession:
    """A session at the provider that a logout request ends.

    Attributes:
        name_id: the NameID of the user.
        name_id_format: the format of the NameID, if the provider stated one.
        session_index: the session at the provider; None ends all sessions of the user.
    """

    name_id: str
    name_id_format: str | None = None
    session_index: str | None = None


def sign_out_request(
    header: MessageHeader, session: ProviderSession, relay: str, key: rsa.RSAPrivateKey
) -> str:
    """Return the URL that signs the user out at the provider (core, section 3.7.1)."""
    root = header.element("LogoutRequest")
    name_format = {"Format": session.name_id_format} if session.name_id_format else {}
    etree.SubElement(root, q(SAML, "NameID"), **name_format).text = session.name_id
    if session.session_index:
        etree.SubElement(root, q(SAMLP, "SessionIndex")).text = session.session_index
    return by_redirect("SAMLRequest", root, header.destination, relay, key)


def sign_out_response(header: MessageHeader, asked: AskedOut, key: rsa.RSAPrivateKey) -> str:
    """Return the URL that reports the logout to the provider (core, section 3.7.2)."""
    root = header.element("LogoutResponse")
    root.set("InResponseTo", asked.id)
    etree.SubElement(etree.SubElement(root, q(SAMLP, "Status")), q(SAMLP, "StatusCode"), Value=SUCCESS)
    return by_redirect("SAMLResponse", root, header.destination, asked.relay, key)


def read_sign_out_request(
    query: bytes, issuer: str, certificates: Sequence[Certificate], address: str, now: float
) -> AskedOut:
    """Return the logout request of a provider.

    Args:
        query: the query string as received, not decoded: it was signed in that form.
        issuer, certificates: the provider's.
        address: our address at which it was received.
        now: seconds since 1970.

    Raises:
        SignInRefused: if the request is not from the provider, or not current.
    """
    message = read_redirect(query, "SAMLRequest", REQUEST)
    check_signature(message, certificates)
    root = message.opened()
    if root.tag != q(SAMLP, "LogoutRequest") or not root.get("ID"):
        raise malformed(REQUEST)
    named = text_of(root.find(q(SAML, "Issuer")))
    if named != issuer:
        raise SignInRefused("issuer", f"The issuer is '{named[:200]}' instead of '{issuer}'.")
    if root.get("Destination") not in (None, address):
        raise SignInRefused(
            "destination", f"The destination is {str(root.get('Destination'))[:200]} instead of {address}."
        )
    made = root.get("IssueInstant", "")
    try:
        # A time without a zone is UTC (core, section 1.3.3).
        apart = abs(datetime.fromisoformat(made if made.endswith("Z") else f"{made}Z").timestamp() - now)
    except ValueError:
        raise malformed(REQUEST) from None
    if apart > OLDEST_SECONDS:
        raise SignInRefused(
            "expired", f"The time of the request differs from the clock of Dravo by {round(apart):,} seconds."
        )
    subject = text_of(root.find(q(SAML, "NameID")))
    if not subject:
        raise malformed(REQUEST)
    sessions = tuple(text_of(each) for each in root.findall(q(SAMLP, "SessionIndex")))
    return AskedOut(str(root.get("ID")), subject, sessions, message.relay)
