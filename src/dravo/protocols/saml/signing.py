"""Signatures that we make (SAML core, section 5; exclusive canonicalization, RSA with SHA-256)."""

from __future__ import annotations

import functools
from typing import Any

from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.names import DS, SAML, q


@functools.cache
def _signer() -> Any:
    # Imported at its first use: a service without SAML starts without signxml.
    from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureMethod
    from signxml.signer import XMLSigner

    return XMLSigner(
        signature_algorithm=SignatureMethod.RSA_SHA256,
        digest_algorithm=DigestAlgorithm.SHA256,
        c14n_algorithm=CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0,
    )


def sign(
    root: etree._Element, key: rsa.RSAPrivateKey, certificate: Certificate | None = None
) -> etree._Element:
    """Return an element with its signature, which stands directly after the issuer, as the schema requires.

    Args:
        root: the element, with an `ID` and an Issuer.
        certificate: our certificate, to be included; None leaves it out.
    """
    made: etree._Element = _signer().sign(
        root,
        # As an object: reading a key from PEM checks its numbers, which takes longer than the signature.
        key=key,
        cert=certificate.pem if certificate is not None else None,
        reference_uri=f"#{root.get('ID')}",
        id_attribute="ID",
        always_add_key_value=False,
    )
    signature = made.find(q(DS, "Signature"))
    issuer = made.find(q(SAML, "Issuer"))
    made.remove(signature)
    made.insert(made.index(issuer) + 1, signature)
    return made
