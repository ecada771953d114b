"""B6: accepted SAML responses and ID tokens, against the bare signature check of the same bytes."""

from __future__ import annotations

import time
from collections.abc import Callable

from joserfc import jws, jwt
from joserfc.jwk import KeySet, RSAKey
from lxml import etree
from signxml.verifier import SignatureConfiguration, XMLVerifier

from dravo.protocols.oidc import tokens
from dravo.protocols.oidc.discovery import ALGORITHMS
from dravo.protocols.saml.responses import Expected, accept
from tests.saml_provider import ACS, AUDIENCE, ISSUER, NOW, Shape, key_pair, signed

TIMES, ROUNDS = 100, 12
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
        f"B6  {name:<14} {service:6.2f} ms  bare signature check {check:6.2f} ms  ratio "
        f"{service / check:.2f}  (goal: at most 1.5)"
    )


def run() -> None:
    """Measure a response with a signed assertion, and a token, each with 40 groups."""
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

    compare("SAML response", lambda: accept(content, expected), bare_response)
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
        "ID token",
        lambda: tokens.accept(token, keys, wanted),
        lambda: jws.deserialize_compact(token, keys, algorithms=["RS256"]),
    )
