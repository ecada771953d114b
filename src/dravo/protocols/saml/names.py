"""Names of SAML 2.0 and XML Signature, and the accepted algorithms."""

from __future__ import annotations

SAML, SAMLP = "urn:oasis:names:tc:SAML:2.0:assertion", "urn:oasis:names:tc:SAML:2.0:protocol"
MD = "urn:oasis:names:tc:SAML:2.0:metadata"
DS, XENC, XENC11 = (
    "http://www.w3.org/2000/09/xmldsig#",
    "http://www.w3.org/2001/04/xmlenc#",
    "http://www.w3.org/2009/xmlenc11#",
)
EC = "http://www.w3.org/2001/10/xml-exc-c14n#"

REDIRECT, POST = (
    "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect",
    "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST",
)
BEARER = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
SUCCESS = "urn:oasis:names:tc:SAML:2.0:status:Success"
UNSPECIFIED = "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"

RSA_SHA256 = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
# Accepted algorithms: no SHA-1, no HMAC (with a public key as its secret, anybody could sign).
SIGNATURE_METHODS = frozenset(
    {
        RSA_SHA256,
        "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384",
        "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512",
        "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256",
        "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384",
        "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha512",
        "http://www.w3.org/2007/05/xmldsig-more#sha256-rsa-MGF1",
        "http://www.w3.org/2007/05/xmldsig-more#sha384-rsa-MGF1",
        "http://www.w3.org/2007/05/xmldsig-more#sha512-rsa-MGF1",
    }
)
DIGEST_METHODS = frozenset(
    {
        "http://www.w3.org/2001/04/xmlenc#sha256",
        "http://www.w3.org/2001/04/xmldsig-more#sha384",
        "http://www.w3.org/2001/04/xmlenc#sha512",
    }
)
ENVELOPED = "http://www.w3.org/2000/09/xmldsig#enveloped-signature"
TRANSFORMS = frozenset({ENVELOPED, EC})


def q(namespace: str, name: str) -> str:
    """Return a qualified name as lxml writes it."""
    return f"{{{namespace}}}{name}"
