"""B6: accepted SAML responses and ID tokens, and issued SAML responses, against the bare signature operation
on the same bytes.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from joserfc import jws, jwt
from joserfc.jwk import KeySet, RSAKey
from lxml import etree
from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureMethod
from signxml.signer import XMLSigner
from signxml.verifier import SignatureConfiguration, XMLVerifier

from dravo.core.instants import instant
from dravo.protocols.oidc import tokens
from dravo.protocols.oidc.discovery import ALGORITHMS
from dravo.protocols.saml.issuing import (
    ASSERTION,
    Attribute,
    IssuingKey,
    ResponseOptions,
    ResponseTo,
    SignedInSubject,
    success,
)
from dravo.protocols.saml.responses import Expected, accept
from tests.saml_provider import ACS, AUDIENCE, ISSUER, NOW, PASSWORD, Shape, key_pair, signed

TIMES, ROUNDS = 100, 12
PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
GROUPS = [f"Team {number}" for number in range(40)]


def time_one(work: Callable[[], object]) -> float:
    """Return the milliseconds of one call, as the mean of a round."""
    began = time.perf_counter()
    for _ in range(TIMES):
        work()
    return (time.perf_counter() - began) * 1000 / TIMES


def compare(name: str, work: Callable[[], object], bare: Callable[[], object]) -> None:
    """Measure both in alternating rounds, so that other load affects both; print the best of each and the
    ratio.
    """
    rounds = [(time_one(work), time_one(bare)) for _ in range(ROUNDS)]
    service, check = min(each for each, _ in rounds), min(each for _, each in rounds)
    print(
        f"B6  {name:<22} {service:6.2f} ms  bare signature operation {check:6.2f} ms  ratio "
        f"{service / check:.2f}  (goal: at most 1.5)"
    )


def compare_issuing() -> None:
    """Measure a response that is issued with a signed assertion and 40 groups."""
    key, certificate = key_pair("provider")
    now = instant(NOW)
    to = ResponseTo(ACS, AUDIENCE, "_asked", ISSUER, now)
    subject = SignedInSubject("una.kerrigan", PERSISTENT, "_session", now, PASSWORD)
    attributes = [Attribute("displayName", ("Una Kerrigan",)), Attribute("groups", tuple(GROUPS))]
    options, ours = ResponseOptions(signs=ASSERTION), IssuingKey(key, certificate)
    issued = etree.fromstring(success(to, subject, attributes, options, ours))
    unsigned = issued.find("{urn:oasis:names:tc:SAML:2.0:assertion}Assertion")
    unsigned.remove(unsigned.find("{http://www.w3.org/2000/09/xmldsig#}Signature"))
    content = etree.tostring(unsigned)
    signer = XMLSigner(
        signature_algorithm=SignatureMethod.RSA_SHA256,
        digest_algorithm=DigestAlgorithm.SHA256,
        c14n_algorithm=CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0,
    )

    def bare() -> object:
        root = etree.fromstring(content)
        return signer.sign(
            root, key=key, cert=certificate.pem, reference_uri=f"#{root.get('ID')}", id_attribute="ID"
        )

    compare("SAML response issued", lambda: success(to, subject, attributes, options, ours), bare)


def run() -> None:
    """Measure a response with a signed assertion, and a token, each with 40 groups."""
    compare_issuing()
    content = signed(Shape(attributes={"displayName": ["Una Kerrigan"], "groups": GROUPS}))
    certificate = key_pair("provider")[1]
    expected = Expected(ISSUER, (certificate,), AUDIENCE, ACS, "_asked", NOW.timestamp())
    config = SignatureConfiguration(location=".//", ignore_ambiguous_key_info=True)

    def bare_response() -> object:
        return XMLVerifier().verify(
            etree.fromstring(content),
            x509_cert=certificate.pem,
            expect_config=config,
            id_attribute="ID",
            validate_schema=False,
        )

    compare("SAML response accepted", lambda: accept(content, expected), bare_response)
    key = RSAKey.generate_key(2048, {"kid": "k"})
    now = NOW.timestamp()
    claims = {
        "iss": ISSUER,
        "sub": "u",
        "aud": "dravo",
        "exp": now + 300,
        "iat": now,
        "nonce": "n",
        "groups": GROUPS,
    }
    token = jwt.encode({"alg": "RS256", "kid": "k"}, claims, key)
    keys = KeySet([RSAKey.import_key(key.as_dict(private=False))])
    wanted = tokens.ExpectedToken(ISSUER, "dravo", "n", now, ALGORITHMS)
    compare(
        "ID token accepted",
        lambda: tokens.accept(token, keys, wanted),
        lambda: jws.deserialize_compact(token, keys, algorithms=["RS256"]),
    )
