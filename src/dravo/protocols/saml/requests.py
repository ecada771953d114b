"""Requests for signing in (SAML core 3.4), by HTTP-Redirect or HTTP-POST (bindings 3.4, 3.5), signed with
our key.
"""

from __future__ import annotations

import base64
import zlib
from dataclasses import dataclass
from urllib.parse import quote

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from lxml import etree

from dravo.core.instants import Instant
from dravo.protocols.saml.names import POST, RSA_SHA256, SAML, SAMLP, q
from dravo.protocols.saml.signing import sign
from dravo.protocols.verified_identity import ANY_SIGN_IN, AuthnRequirements


@dataclass(frozen=True)
class SignInRequest:
    """A request to send through the user's browser.

    Attributes:
        id: the ID that the response refers to.
        url: where the browser goes.
        form: what it posts there; None where the address has everything.
    """

    id: str
    url: str
    form: dict[str, str] | None = None


@dataclass(frozen=True)
class MessageHeader:
    """What every SAML message carries (core, section 3.2).

    Attributes:
        id: an XML ID that cannot be guessed.
        destination: the address of the provider for this message.
        issuer: our entity ID.
        issue_instant: when the message was made.
    """

    id: str
    destination: str
    issuer: str
    issue_instant: Instant

    def element(self, name: str) -> etree._Element:
        """Return a new protocol element ("LogoutRequest") with this header."""
        root = etree.Element(
            q(SAMLP, name),
            nsmap={"samlp": SAMLP, "saml": SAML},
            ID=self.id,
            Version="2.0",
            IssueInstant=self.issue_instant[:19] + "Z",
            Destination=self.destination,
        )
        etree.SubElement(root, q(SAML, "Issuer")).text = self.issuer
        return root


def sign_in_request(
    header: MessageHeader,
    binding: str,
    acs: str,
    relay: str,
    key: rsa.RSAPrivateKey | None = None,
    required: AuthnRequirements = ANY_SIGN_IN,
) -> SignInRequest:
    """Return an authentication request (core, section 3.4.1).

    Args:
        header: the header; its destination belongs to the binding.
        binding: `REDIRECT` or `POST`.
        acs: our ACS URL.
        relay: the RelayState; it comes back with the response.
        key: our signing key; None leaves the request unsigned.
        required: how the user has to sign in at the provider.
    """
    root = header.element("AuthnRequest")
    root.set("AssertionConsumerServiceURL", acs)
    root.set("ProtocolBinding", POST)
    if required.force:
        root.set("ForceAuthn", "true")
    etree.SubElement(root, q(SAMLP, "NameIDPolicy"), AllowCreate="true")
    if required.contexts:
        asked = etree.SubElement(root, q(SAMLP, "RequestedAuthnContext"), Comparison="exact")
        for each in required.contexts:
            etree.SubElement(asked, q(SAML, "AuthnContextClassRef")).text = each
    if binding == POST:
        whole = sign(root, key) if key is not None else root
        form = {"SAMLRequest": base64.b64encode(etree.tostring(whole)).decode(), "RelayState": relay}
        return SignInRequest(header.id, header.destination, form)
    return SignInRequest(header.id, by_redirect("SAMLRequest", root, header.destination, relay, key))


def by_redirect(
    name: str, root: etree._Element, address: str, relay: str, key: rsa.RSAPrivateKey | None
) -> str:
    """Return the address that carries a message (bindings, section 3.4); `name` is "SAMLRequest" or
    "SAMLResponse".
    """
    squeezer = zlib.compressobj(9, zlib.DEFLATED, -15)
    squeezed = squeezer.compress(etree.tostring(root)) + squeezer.flush()
    query = f"{name}={quote(base64.b64encode(squeezed), safe='')}" + (
        f"&RelayState={quote(relay, safe='')}" if relay else ""
    )
    if key is not None:
        # The signature covers the query string in this order (bindings, section 3.4.4.1).
        query += f"&SigAlg={quote(RSA_SHA256, safe='')}"
        signature = key.sign(query.encode(), padding.PKCS1v15(), hashes.SHA256())
        query += f"&Signature={quote(base64.b64encode(signature), safe='')}"
    return f"{address}{'&' if '?' in address else '?'}{query}"
