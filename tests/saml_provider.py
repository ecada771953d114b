"""A provider of one's own for tests: makes responses of every shape, good and bad, and signs them by signxml
or by Debian's xmlsec1.
"""

from __future__ import annotations

import base64
import functools
import os
import subprocess
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import padding, rsa
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.x509.oid import NameOID
from lxml import etree
from signxml import XMLSigner
from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureMethod

from dravo.protocols.saml.certificates import Certificate, of

SAML, SAMLP = "urn:oasis:names:tc:SAML:2.0:assertion", "urn:oasis:names:tc:SAML:2.0:protocol"
NS = {"saml": SAML, "samlp": SAMLP, "ds": "http://www.w3.org/2000/09/xmldsig#"}
ISSUER, AUDIENCE = "https://id.fernhollow.example/entity", "https://dravo.fernhollow.example/sso/staff"
ACS = f"{AUDIENCE}/saml/acs"
NOW = datetime(2026, 5, 4, 9, 0, tzinfo=UTC)
EXC = CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0
Change = Callable[[etree._Element], Any]


@functools.cache
def key_pair(name: str) -> tuple[rsa.RSAPrivateKey, Certificate]:
    """Return a key and its certificate, the same for a name throughout a run."""
    key = rsa.generate_private_key(65537, 2048)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"{name}.fernhollow.example")])
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - timedelta(days=30))
        .not_valid_after(NOW + timedelta(days=700))
        .sign(key, hashes.SHA256())
    )
    return key, of(made)


def pem(key: rsa.RSAPrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def at(seconds: float) -> str:
    return (NOW + timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%SZ")


PASSWORD = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"


@dataclass
class Shape:
    """What a response says, before anything is done to it."""

    subject: str = "una.kerrigan"
    attributes: dict[str, list[str]] = field(
        default_factory=lambda: {"displayName": ["Una Kerrigan"], "groups": ["Estates", "Night watch"]}
    )
    request: str | None = "_asked"
    issuer: str = ISSUER
    audience: str = AUDIENCE
    recipient: str = ACS
    destination: str | None = ACS
    begins: float = -30
    ends: float = 300
    status: str = "urn:oasis:names:tc:SAML:2.0:status:Success"
    id: str = "_assertion"
    context: str | None = PASSWORD


def unsigned(shape: Shape) -> etree._Element:
    """Return a response as it is before it is signed."""
    reference = f"<saml:AuthnContextClassRef>{shape.context}</saml:AuthnContextClassRef>"
    context = f"<saml:AuthnContext>{reference}</saml:AuthnContext>" if shape.context else ""
    answers = f' InResponseTo="{shape.request}"' if shape.request else ""
    destination = f' Destination="{shape.destination}"' if shape.destination else ""
    attributes = "".join(
        f'<saml:Attribute Name="{name}">'
        + "".join(f"<saml:AttributeValue>{value}</saml:AttributeValue>" for value in values)
        + "</saml:Attribute>"
        for name, values in shape.attributes.items()
    )
    return etree.fromstring(
        f"""<samlp:Response xmlns:samlp="{SAMLP}" xmlns:saml="{SAML}" ID="_response" Version="2.0"
 IssueInstant="{at(0)}"{destination}{answers}><saml:Issuer>{shape.issuer}</saml:Issuer>
<samlp:Status><samlp:StatusCode Value="{shape.status}"/></samlp:Status>
<saml:Assertion ID="{shape.id}" Version="2.0" IssueInstant="{at(0)}"><saml:Issuer>{shape.issuer}</saml:Issuer>
<saml:Subject>
<saml:NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:persistent">{shape.subject}</saml:NameID>
<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer">
<saml:SubjectConfirmationData Recipient="{shape.recipient}" NotOnOrAfter="{at(shape.ends)}"{answers}/>
</saml:SubjectConfirmation></saml:Subject>
<saml:Conditions NotBefore="{at(shape.begins)}" NotOnOrAfter="{at(shape.ends)}">
<saml:AudienceRestriction><saml:Audience>{shape.audience}</saml:Audience></saml:AudienceRestriction></saml:Conditions>
<saml:AuthnStatement AuthnInstant="{at(0)}" SessionIndex="_session">{context}</saml:AuthnStatement>
<saml:AttributeStatement>{attributes}</saml:AttributeStatement>
</saml:Assertion></samlp:Response>""".encode()
    )


def find(root: etree._Element, path: str) -> etree._Element:
    found = root.find(path, NS)
    assert found is not None, path
    return found


def sign(
    element: etree._Element,
    key: rsa.RSAPrivateKey | None = None,
    method: SignatureMethod = SignatureMethod.RSA_SHA256,
    digest: DigestAlgorithm = DigestAlgorithm.SHA256,
    c14n: CanonicalizationMethod = EXC,
    **more: Any,
) -> etree._Element:
    """Return an element with its signature behind its issuer."""
    signer = _Lenient(signature_algorithm=method, digest_algorithm=digest, c14n_algorithm=c14n)
    secret = more.pop("secret", None) or pem(key or key_pair("provider")[0])
    made = signer.sign(element, key=secret, reference_uri=f"#{element.get('ID')}", id_attribute="ID", **more)
    signature = find(made, "ds:Signature")
    made.remove(signature)
    made.insert(1, signature)
    return made


class _Lenient(XMLSigner):
    """Signs by any algorithm, as a provider of long ago would."""

    def check_deprecated_methods(self) -> None:
        pass


def signed(
    shape: Shape | None = None,
    what: str = "assertion",
    key: rsa.RSAPrivateKey | None = None,
    change: Change | None = None,
    **how: Any,
) -> bytes:
    """Return a response of which something is signed.

    Args:
        what: "assertion", "response", "both" or "nothing".
        change: is done to it before it is signed.
    """
    root = unsigned(shape or Shape())
    if change is not None:
        change(root)
    if what in ("assertion", "both"):
        assertion = find(root, "saml:Assertion")
        alone = etree.fromstring(etree.tostring(assertion, with_tail=False))
        root.replace(assertion, sign(alone, key, **how))
    if what in ("response", "both"):
        root = sign(root, key, **how)
    return bytes(etree.tostring(root))


def encrypted(
    content: bytes,
    to: Certificate,
    wrap: str = "oaep",
    data: str = "http://www.w3.org/2009/xmlenc11#aes256-gcm",
) -> bytes:
    """Return a response whose assertion is encrypted."""
    root = etree.fromstring(content)
    assertion = find(root, "saml:Assertion")
    secret, nonce = os.urandom(32), os.urandom(12)
    public: Any = x509.load_pem_x509_certificate(to.pem.encode()).public_key()
    oaep = (
        padding.OAEP(padding.MGF1(hashes.SHA256()), hashes.SHA256(), None)
        if wrap == "oaep"
        else padding.PKCS1v15()
    )
    name = (
        "http://www.w3.org/2009/xmlenc11#rsa-oaep"
        if wrap == "oaep"
        else "http://www.w3.org/2001/04/xmlenc#rsa-1_5"
    )
    sealed = nonce + AESGCM(secret).encrypt(nonce, etree.tostring(assertion, with_tail=False), None)
    whole = etree.fromstring(
        f"""<saml:EncryptedAssertion xmlns:saml="{SAML}"><x:EncryptedData xmlns:x="http://www.w3.org/2001/04/xmlenc#">
<x:EncryptionMethod Algorithm="{data}"/><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><x:EncryptedKey>
<x:EncryptionMethod Algorithm="{name}"><ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/>
<o:MGF xmlns:o="http://www.w3.org/2009/xmlenc11#" Algorithm="http://www.w3.org/2009/xmlenc11#mgf1sha256"/></x:EncryptionMethod>
<x:CipherData><x:CipherValue>{base64.b64encode(public.encrypt(secret, oaep)).decode()}</x:CipherValue>
</x:CipherData></x:EncryptedKey></ds:KeyInfo>
<x:CipherData><x:CipherValue>{base64.b64encode(sealed).decode()}</x:CipherValue></x:CipherData></x:EncryptedData></saml:EncryptedAssertion>""".encode()
    )
    root.replace(assertion, whole)
    return bytes(etree.tostring(root))


TEMPLATE = """<ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignedInfo>
<ds:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/>
<ds:SignatureMethod Algorithm="{method}"/><ds:Reference URI="#{id}"><ds:Transforms>
<ds:Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/>
<ds:Transform Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/></ds:Transforms>
<ds:DigestMethod Algorithm="{digest}"/><ds:DigestValue/></ds:Reference></ds:SignedInfo>
<ds:SignatureValue/></ds:Signature>"""
RSA, SHA = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256", "http://www.w3.org/2001/04/xmlenc#sha256"


def signed_by_xmlsec(shape: Shape, what: str = "assertion", method: str = RSA, digest: str = SHA) -> bytes:
    """Return a response that xmlsec1 signed, which shares no code with what checks it."""
    root = unsigned(shape)
    element = root if what == "response" else find(root, "saml:Assertion")
    element.insert(1, etree.fromstring(TEMPLATE.format(id=element.get("ID"), method=method, digest=digest)))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "key.pem").write_bytes(pem(key_pair("provider")[0]))
        (folder / "in.xml").write_bytes(etree.tostring(root))
        command = ["xmlsec1", "--sign", "--privkey-pem", folder / "key.pem", "--output", folder / "out.xml"]
        ids = ["--id-attr:ID", f"{SAML}:Assertion", "--id-attr:ID", f"{SAMLP}:Response"]
        subprocess.run([*command, *ids, folder / "in.xml"], check=True, capture_output=True)
        return (folder / "out.xml").read_bytes()
