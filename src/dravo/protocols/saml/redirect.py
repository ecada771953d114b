"""Messages by HTTP-Redirect that we receive, with the signature of the query (SAML bindings, section 3.4)."""

from __future__ import annotations

import base64
import binascii
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import unquote_plus

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.documents import read_document
from dravo.protocols.saml.names import RSA_SHA256
from dravo.protocols.verified_identity import SignInRefused

LARGEST = 64 * 1024
MOST_PARAMETERS = 20
_HASHES: dict[str, hashes.HashAlgorithm] = {
    RSA_SHA256: hashes.SHA256(),
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384": hashes.SHA384(),
    "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512": hashes.SHA512(),
}


@dataclass(frozen=True)
class RedirectMessage:
    """A message in a query string, as received: its signature can be verified before it is opened.

    Attributes:
        name: "SAMLRequest" or "SAMLResponse".
        what: the message in words, for errors.
        parts: the message and the parameters that belong to it, not decoded, in the order that is signed.
    """

    name: str
    what: str
    parts: dict[str, str]

    @property
    def relay(self) -> str:
        """The RelayState, decoded."""
        return unquote_plus(self.parts.get("RelayState", ""))

    @property
    def has_signature(self) -> bool:
        """Whether the query has a signature or names its algorithm."""
        return bool(self.parts.get("Signature") or self.parts.get("SigAlg"))

    def opened(self) -> etree._Element:
        """Return the message itself.

        Raises:
            SignInRefused: "malformed", "too_large" or "document_type".
        """
        try:
            packed = base64.b64decode(unquote_plus(self.parts.get(self.name, "")), validate=True)
            inflating = zlib.decompressobj(-15)
            content = inflating.decompress(packed, LARGEST)
        except (binascii.Error, ValueError, zlib.error):
            raise malformed(self.what) from None
        if inflating.unconsumed_tail:
            raise malformed(self.what)
        return read_document(content, LARGEST)


def read_redirect(query: bytes, name: str, what: str) -> RedirectMessage:
    """Return the message of a query string, not opened yet.

    Args:
        query: the query string as received, not decoded: it was signed in that form.
        name: "SAMLRequest" or "SAMLResponse".
        what: the message in words, for errors.

    Raises:
        SignInRefused: "malformed", also for a parameter that is given twice.
    """
    pairs = [part.partition("=")[::2] for part in query.decode("ascii", "replace").split("&")]
    names = [each for each, _ in pairs if each in (name, "RelayState", "SigAlg", "Signature")]
    if len(pairs) > MOST_PARAMETERS or len(set(names)) < len(names):
        raise malformed(what)
    parts = dict(pairs)
    ordered = (name, "RelayState", "SigAlg", "Signature")
    return RedirectMessage(name, what, {each: parts[each] for each in ordered if each in parts})


def check_signature(message: RedirectMessage, certificates: Sequence[Certificate]) -> None:
    """Check the signature of a query (bindings, section 3.4.4.1).

    Args:
        message: the message, not opened yet.
        certificates: of the sender; one of them must verify the signature.

    Raises:
        SignInRefused: "unsigned", "algorithm", "malformed" or "signature".
    """
    parts, what = message.parts, message.what
    if not parts.get("Signature") or not parts.get("SigAlg"):
        raise SignInRefused("unsigned", f"The {what} is not signed.")
    algorithm = _HASHES.get(unquote_plus(parts["SigAlg"]))
    if algorithm is None:
        raise SignInRefused("algorithm", f"The signature algorithm of the {what} is not supported.")
    signed = "&".join(f"{name}={value}" for name, value in parts.items() if name != "Signature").encode()
    try:
        signature = base64.b64decode(unquote_plus(parts["Signature"]), validate=True)
    except (binascii.Error, ValueError):
        raise malformed(what) from None
    for each in certificates:
        key = x509.load_pem_x509_certificate(each.pem.encode()).public_key()
        if not isinstance(key, rsa.RSAPublicKey):
            continue
        try:
            key.verify(signature, signed, padding.PKCS1v15(), algorithm)
        except InvalidSignature:
            continue
        return
    raise SignInRefused("signature", f"The {what} was not signed with a key of its sender.")


def malformed(what: str) -> SignInRefused:
    """Return the refusal of something that is no such message."""
    return SignInRefused("malformed", f"The message is no {what}.")
