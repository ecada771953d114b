"""XML signatures as SAML uses them: one signature over the element that contains it, and only signed content
is read.

The form of a signature is checked before its value. Everything that SAML does not need is refused, so that
nothing depends on the library's tolerance. From then on the signed content is read, never the document around
it (SAML core, section 5.4).
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from cryptography import x509
from lxml import etree

from dravo.protocols.saml.certificates import Certificate
from dravo.protocols.saml.names import DIGEST_METHODS, DS, EC, SIGNATURE_METHODS, TRANSFORMS, q
from dravo.protocols.verified_identity import SignInRefused

# signxml is imported at its first use: a service without SAML starts without it.
if TYPE_CHECKING:
    from signxml.verifier import SignatureConfiguration

STRANGER = "The sender is not a SAML provider. Check the ACS URL and the provider."


def signature_of(element: etree._Element) -> etree._Element | None:
    """Return the signature inside an element, or None.

    Raises:
        SignInRefused: "signature", for several.
    """
    found = element.findall(q(DS, "Signature"))
    if len(found) > 1:
        raise SignInRefused("signature", "The message has several signatures in one place.", STRANGER)
    return found[0] if found else None


def signed(element: etree._Element, certificates: Sequence[Certificate]) -> etree._Element:
    """Return the content that an element's own signature covers, as a document of its own.

    Args:
        element: the element with its signature as a child.
        certificates: one of them must verify the signature. Certificates within the message are ignored.

    Raises:
        SignInRefused: "signature", "algorithm", "transform" or "certificate".
    """
    signature = signature_of(element)
    if signature is None:
        raise SignInRefused(
            "unsigned",
            "The message is not signed.",
            "Configure the provider to sign the response or the assertion.",
        )
    _check_form(element, signature)
    # In a document of its own, so that the reference cannot mean anything around it.
    alone = etree.tostring(element, with_tail=False)
    for certificate in certificates:
        result = _verified(alone, certificate)
        if result is not None:
            covered: Any = result.signed_xml
            if covered is None or covered.tag != element.tag or covered.get("ID") != element.get("ID"):
                raise SignInRefused(
                    "signature", "The signature covers another element than its parent.", STRANGER
                )
            return covered
    raise SignInRefused(
        "certificate",
        "The signature does not match a certificate of this source. The key is another one, or the "
        "message was changed.",
        "If the provider has a new certificate, fetch its metadata again.",
    )


def _check_form(element: etree._Element, signature: etree._Element) -> None:
    info = signature.find(q(DS, "SignedInfo"))
    references = signature.findall(f".//{q(DS, 'Reference')}")
    if (
        info is None
        or len(signature.findall(q(DS, "SignedInfo"))) != 1
        or len(references) != 1
        or references[0].getparent() is not info
    ):
        raise SignInRefused("signature", "The signature does not cover exactly one element.", STRANGER)
    if signature.find(f".//{q(DS, 'Object')}") is not None:
        raise SignInRefused("signature", "The signature contains an Object element.", STRANGER)
    for name in (f"{q(DS, 'SignatureValue')}", f".//{q(DS, 'DigestValue')}"):
        value = signature.find(name)
        if value is None or not "".join(value.itertext()).strip():
            raise SignInRefused("signature", "The signature is empty.", STRANGER)
    reference = references[0]
    identifier = element.get("ID")
    if not identifier or reference.get("URI") != f"#{identifier}":
        raise SignInRefused("signature", "The signature covers another element than its parent.", STRANGER)
    _allowed(info.find(q(DS, "CanonicalizationMethod")), frozenset({EC}), "canonicalization")
    _allowed(info.find(q(DS, "SignatureMethod")), SIGNATURE_METHODS, "algorithm")
    _allowed(reference.find(q(DS, "DigestMethod")), DIGEST_METHODS, "algorithm")
    transforms = reference.findall(f"{q(DS, 'Transforms')}/{q(DS, 'Transform')}")
    names = [each.get("Algorithm") for each in transforms]
    if not transforms or len(names) > 2 or len(set(names)) != len(names) or not TRANSFORMS.issuperset(names):
        raise SignInRefused("transform", "The signature uses a transform that SAML does not allow.", STRANGER)
    if any(child.tag != q(EC, "InclusiveNamespaces") for each in transforms for child in each):
        raise SignInRefused("transform", "The signature uses a transform that SAML does not allow.", STRANGER)


def _allowed(method: etree._Element | None, known: frozenset[str], reason: str) -> None:
    name = method.get("Algorithm") if method is not None else None
    if name not in known:
        short = str(name).rpartition("#")[2] or str(name)
        hint = "Configure the provider to sign with SHA-256 and exclusive canonicalization."
        raise SignInRefused("algorithm", f"The {reason} '{short}' of the signature is not supported.", hint)


@functools.lru_cache(256)
def _loaded(pem: str) -> x509.Certificate:
    return x509.load_pem_x509_certificate(pem.encode())


@functools.cache
def _expected() -> SignatureConfiguration:
    """Return the requirements for signxml, with the allowed algorithms by its own names."""
    from signxml.verifier import SignatureConfiguration

    usual = SignatureConfiguration()
    return SignatureConfiguration(
        require_x509=True,
        location="./",
        expect_references=1,
        signature_methods=frozenset(
            each for each in usual.signature_methods if each.value in SIGNATURE_METHODS
        ),
        digest_algorithms=frozenset(each for each in usual.digest_algorithms if each.value in DIGEST_METHODS),
        ignore_ambiguous_key_info=True,
    )


def _verified(alone: bytes, certificate: Certificate) -> Any:
    """Return the content that signxml verified; None if another key made the signature."""
    from signxml.exceptions import (
        InvalidCertificate,
        InvalidDigest,
        InvalidInput,
        InvalidSignature,
        SignXMLException,
    )
    from signxml.verifier import XMLVerifier

    try:
        return XMLVerifier().verify(
            alone,
            x509_cert=_loaded(certificate.pem),
            expect_config=_expected(),
            id_attribute="ID",
            validate_schema=False,
        )
    except (InvalidSignature, InvalidDigest, InvalidCertificate):
        return None
    except (InvalidInput, SignXMLException, ValueError, TypeError, AttributeError, etree.LxmlError) as wrong:
        # Whatever error the message causes in the library, it verifies nobody.
        raise SignInRefused(
            "signature", f"The signature cannot be read: {str(wrong)[:200]}", STRANGER
        ) from None
