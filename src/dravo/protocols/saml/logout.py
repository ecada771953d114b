"""Single logout (SAML core 3.7, profiles 4.4) by HTTP-Redirect: ours to the provider, and the provider's to
us.

A logout request is accepted only with a signature: otherwise anyone could sign users out.
"""

from __future__ import annotations

import base64
import binascii
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import unquote_plus

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.documents import read_document, text_of
from dravo.protocols.saml.names import RSA_SHA256, SAML, SAMLP, SUCCESS, q
from dravo.protocols.saml.requests import MessageHeader, by_redirect
from dravo.protocols.verified_identity import SignInRefused

LARGEST = 64 * 1024
OLDEST_SECONDS = 600
_HASHES: dict[str, hashes.HashAlgorithm] = {
    RSA_SHA256: hashes.SHA256(),
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384": hashes.SHA384(),
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512": hashes.SHA512(),
}


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
    parts = dict(part.partition("=")[::2] for part in query.decode("ascii", "replace").split("&")[:20])
    _check_signature(parts, certificates)
    try:
        packed = base64.b64decode(unquote_plus(parts["SAMLRequest"]), validate=True)
        opened = zlib.decompressobj(-15)
        content = opened.decompress(packed, LARGEST)
    except (KeyError, binascii.Error, ValueError, zlib.error):
        raise _malformed() from None
    if opened.unconsumed_tail:
        raise _malformed()
    root = read_document(content, LARGEST)
    if root.tag != q(SAMLP, "LogoutRequest") or not root.get("ID"):
        raise _malformed()
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
        raise _malformed() from None
    if apart > OLDEST_SECONDS:
        raise SignInRefused(
            "expired", f"The time of the request differs from the clock of Dravo by {round(apart):,} seconds."
        )
    subject = text_of(root.find(q(SAML, "NameID")))
    if not subject:
        raise _malformed()
    sessions = tuple(text_of(each) for each in root.findall(q(SAMLP, "SessionIndex")))
    return AskedOut(str(root.get("ID")), subject, sessions, unquote_plus(parts.get("RelayState", "")))


def _check_signature(parts: dict[str, str], certificates: Sequence[Certificate]) -> None:
    """Check the signature of the query (bindings, section 3.4.4.1); raises "unsigned", "algorithm" or
    "signature".
    """
    if not parts.get("Signature") or not parts.get("SigAlg"):
        raise SignInRefused("unsigned", "The logout request is not signed.")
    algorithm = _HASHES.get(unquote_plus(parts["SigAlg"]))
    if algorithm is None:
        raise SignInRefused("algorithm", "The signature algorithm of the logout request is not supported.")
    signed = "&".join(
        f"{name}={parts[name]}" for name in ("SAMLRequest", "RelayState", "SigAlg") if name in parts
    ).encode()
    try:
        signature = base64.b64decode(unquote_plus(parts["Signature"]), validate=True)
    except (binascii.Error, ValueError):
        raise _malformed() from None
    for each in certificates:
        key = x509.load_pem_x509_certificate(each.pem.encode()).public_key()
        if not isinstance(key, rsa.RSAPublicKey):
            continue
        try:
            key.verify(signature, signed, padding.PKCS1v15(), algorithm)
        except InvalidSignature:
            continue
        return
    raise SignInRefused("signature", "The logout request was not signed with a key of the provider.")


def _malformed() -> SignInRefused:
    return SignInRefused("malformed", "The message is not a logout request.")
