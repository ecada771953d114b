"""Encrypts assertions for an application (XML Encryption): AES-256-GCM, its key wrapped by RSA-OAEP."""

from __future__ import annotations

import base64
import os

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from lxml import etree

from dravo.core.errors import InvalidInput
from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.names import DS, SAML, XENC, XENC11, q

AES_256_GCM = f"{XENC11}aes256-gcm"
# With SHA-1 inside OAEP, where that is no weakness: what all implementations of the standard support.
RSA_OAEP = f"{XENC}rsa-oaep-mgf1p"
ELEMENT = f"{XENC}Element"


def encrypted(assertion: etree._Element, certificate: Certificate) -> etree._Element:
    """Return an EncryptedAssertion (SAML core, section 2.3.4).

    Args:
        assertion: the assertion, signed before.
        certificate: the certificate of the application for encryption.

    Raises:
        InvalidInput: for a certificate without an RSA key.
    """
    public = x509.load_pem_x509_certificate(certificate.pem.encode()).public_key()
    if not isinstance(public, rsa.RSAPublicKey):
        raise InvalidInput(
            "The encryption certificate of the application has no RSA key.",
            "Use a certificate with an RSA key, or disable encryption.",
            "certificate",
        )
    key, nonce = AESGCM.generate_key(256), os.urandom(12)
    content = nonce + AESGCM(key).encrypt(nonce, etree.tostring(assertion, with_tail=False), None)
    wrapped = public.encrypt(key, padding.OAEP(padding.MGF1(hashes.SHA1()), hashes.SHA1(), None))
    root = etree.Element(q(SAML, "EncryptedAssertion"), nsmap={"saml": SAML, "xenc": XENC, "ds": DS})
    data = etree.SubElement(root, q(XENC, "EncryptedData"), Type=ELEMENT)
    etree.SubElement(data, q(XENC, "EncryptionMethod"), Algorithm=AES_256_GCM)
    info = etree.SubElement(data, q(DS, "KeyInfo"))
    sealed = etree.SubElement(info, q(XENC, "EncryptedKey"))
    method = etree.SubElement(sealed, q(XENC, "EncryptionMethod"), Algorithm=RSA_OAEP)
    etree.SubElement(method, q(DS, "DigestMethod"), Algorithm=f"{DS}sha1")
    _cipher(sealed, wrapped)
    _cipher(data, content)
    return root


def _cipher(parent: etree._Element, value: bytes) -> None:
    data = etree.SubElement(parent, q(XENC, "CipherData"))
    etree.SubElement(data, q(XENC, "CipherValue")).text = base64.b64encode(value).decode()
