"""Encrypted assertions (XML Encryption): a key wrapped by RSA-OAEP, and the assertion encrypted by AES.

All errors look the same, so that nobody learns the content of a message by trying.
"""

from __future__ import annotations

import base64
from collections.abc import Sequence

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from lxml import etree

from dravo.protocols.saml.documents import read_document, text_of
from dravo.protocols.saml.names import DS, XENC, XENC11, q
from dravo.protocols.verified_identity import SignInRefused

_BLOCK, _GCM = f"{XENC}aes", f"{XENC11}aes"
# By name in the standard: the key length, and whether the integrity of the content is checked.
_DATA = {
    f"{_BLOCK}128-cbc": (16, False),
    f"{_BLOCK}192-cbc": (24, False),
    f"{_BLOCK}256-cbc": (32, False),
    f"{_GCM}128-gcm": (16, True),
    f"{_GCM}192-gcm": (24, True),
    f"{_GCM}256-gcm": (32, True),
}
_OAEP = (f"{XENC}rsa-oaep-mgf1p", f"{XENC11}rsa-oaep")
_HASHES: dict[str, hashes.HashAlgorithm] = {
    f"{DS}sha1": hashes.SHA1(),
    f"{XENC}sha256": hashes.SHA256(),
    "http://www.w3.org/2001/04/xmldsig-more#sha384": hashes.SHA384(),
    f"{XENC}sha512": hashes.SHA512(),
}
_MGF: dict[str, hashes.HashAlgorithm] = {
    f"{XENC11}mgf1sha1": hashes.SHA1(),
    f"{XENC11}mgf1sha256": hashes.SHA256(),
    f"{XENC11}mgf1sha384": hashes.SHA384(),
    f"{XENC11}mgf1sha512": hashes.SHA512(),
}


def decrypted(encrypted: etree._Element, keys: Sequence[rsa.RSAPrivateKey]) -> etree._Element:
    """Return the assertion of an EncryptedAssertion.

    Args:
        encrypted: the EncryptedAssertion.
        keys: our keys, the newest first.

    Raises:
        SignInRefused: "encryption" or "algorithm".
    """
    data = encrypted.find(q(XENC, "EncryptedData"))
    wrapped = encrypted.findall(f".//{q(XENC, 'EncryptedKey')}")
    if data is None or not wrapped or len(wrapped) > 8:
        raise _failed()
    method = data.find(q(XENC, "EncryptionMethod"))
    name = method.get("Algorithm") if method is not None else None
    if name not in _DATA:
        raise _algorithm(name)
    length, whole = _DATA[name]
    content = _value(data)
    for each in wrapped:
        for key in keys:
            opened = _unwrapped(each, key)
            if opened is None or len(opened) != length:
                continue
            plain = _opened(opened, content, whole)
            if plain is not None:
                return read_document(plain)
    raise _failed()


def _failed() -> SignInRefused:
    return SignInRefused(
        "encryption",
        "The assertion could not be decrypted.",
        "Give the provider the current certificate from the Sign-in tab.",
    )


def _algorithm(name: str | None) -> SignInRefused:
    short = str(name).rpartition("#")[2]
    return SignInRefused(
        "algorithm",
        f"The encryption algorithm '{short}' is not supported.",
        "Configure the provider to use AES-GCM with RSA-OAEP.",
    )


def _value(element: etree._Element) -> bytes:
    try:
        return base64.b64decode(
            "".join(text_of(element.find(f"{q(XENC, 'CipherData')}/{q(XENC, 'CipherValue')}")).split()),
            validate=True,
        )
    except ValueError:
        raise _failed() from None


def _unwrapped(wrapped: etree._Element, key: rsa.RSAPrivateKey) -> bytes | None:
    method = wrapped.find(q(XENC, "EncryptionMethod"))
    name = method.get("Algorithm") if method is not None else None
    if method is None or name not in _OAEP:
        # RSA with PKCS #1 v1.5 is refused, because its errors help an attacker who can try often.
        raise _algorithm(name)
    digest, mask = method.find(q(DS, "DigestMethod")), method.find(q(XENC11, "MGF"))
    hashed = _HASHES.get(str(digest.get("Algorithm"))) if digest is not None else hashes.SHA1()
    masked = _MGF.get(str(mask.get("Algorithm"))) if mask is not None else hashes.SHA1()
    if hashed is None or masked is None:
        raise _algorithm(name)
    try:
        return key.decrypt(_value(wrapped), padding.OAEP(padding.MGF1(masked), hashed, None))
    except ValueError:
        return None


def _opened(key: bytes, content: bytes, whole: bool) -> bytes | None:
    try:
        if whole:
            return AESGCM(key).decrypt(content[:12], content[12:], None)
        if len(content) < 32 or len(content) % 16:
            return None
        decryptor = Cipher(algorithms.AES(key), modes.CBC(content[:16])).decryptor()
        plain = decryptor.update(content[16:]) + decryptor.finalize()
        return plain[: -plain[-1]] if 0 < plain[-1] <= 16 else None
    except (InvalidTag, ValueError):
        return None
