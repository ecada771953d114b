"""Which ID tokens prove somebody, and how a provider is found and asked."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from hypothesis import given
from hypothesis import strategies as st
from joserfc import jwt
from joserfc.jwk import ECKey, KeySet, OctKey, RSAKey

from dravo.core.errors import InvalidInput
from dravo.protocols.oidc.discovery import ALGORITHMS, address_of, read_configuration
from dravo.protocols.oidc.flow import Client, challenge, start, token_request, values_of, way_of
from dravo.protocols.oidc.tokens import ExpectedToken, UnknownKey, accept, check_userinfo
from dravo.protocols.verified_identity import AuthnRequirements, SignInRefused

NOW = 1_777_885_200
ISSUER = "https://id.fernhollow.example"
KEY = RSAKey.generate_key(2048, {"kid": "k1"})
CURVE = ECKey.generate_key("P-256", {"kid": "k2"})
OTHER = RSAKey.generate_key(2048, {"kid": "k1"})
PUBLIC = KeySet(
    [RSAKey.import_key(KEY.as_dict(private=False)), ECKey.import_key(CURVE.as_dict(private=False))]
)
EXPECTED = ExpectedToken(ISSUER, "dravo", "n-once", NOW, ALGORITHMS)
CLAIMS: dict[str, Any] = {
    "iss": ISSUER,
    "sub": "u-17",
    "aud": "dravo",
    "exp": NOW + 300,
    "iat": NOW,
    "nonce": "n-once",
    "name": "Una Kerrigan",
    "groups": ["Estates"],
}


def token(
    key: Any = KEY,
    algorithm: str = "RS256",
    kid: str | None = "k1",
    header: dict[str, Any] | None = None,
    **claims: Any,
) -> str:
    said = {name: value for name, value in {**CLAIMS, **claims}.items() if value is not ...}
    return jwt.encode(
        {"alg": algorithm, **({"kid": kid} if kid else {}), **(header or {})},
        said,
        key,
        algorithms=[algorithm],
    )


def reason(text: str, access_token: str | None = None, keys: KeySet = PUBLIC) -> str:
    with pytest.raises(SignInRefused) as refused:
        accept(text, keys, EXPECTED, access_token)
    assert refused.value.hint and refused.value.message
    return refused.value.reason


def raw(header: dict[str, Any], claims: Any = CLAIMS, signature: bytes = b"") -> str:
    parts = [json.dumps(header).encode(), json.dumps(claims).encode(), signature]
    return ".".join(base64.urlsafe_b64encode(each).decode().rstrip("=") for each in parts)


@pytest.mark.parametrize(
    ("key", "algorithm", "kid"),
    [(KEY, "RS256", "k1"), (KEY, "PS256", "k1"), (CURVE, "ES256", "k2"), (KEY, "RS512", None)],
)
def test_a_token_that_holds_proves_a_user(key: Any, algorithm: str, kid: str | None) -> None:
    claims = accept(token(key, algorithm, kid), PUBLIC, EXPECTED)
    assert (claims["sub"], values_of(claims)) == (
        "u-17",
        {"sub": ["u-17"], "name": ["Una Kerrigan"], "groups": ["Estates"]},
    )
    assert accept(token(aud=["dravo", "other"], azp="dravo"), PUBLIC, EXPECTED)["sub"] == "u-17"


@pytest.mark.parametrize(
    ("claims", "why"),
    [
        ({"iss": "https://evil.example"}, "issuer"),
        ({"iss": ISSUER + "/"}, "issuer"),
        ({"aud": "other"}, "audience"),
        ({"aud": ["dravo", "other"]}, "audience"),
        ({"azp": "other"}, "audience"),
        ({"aud": ...}, "audience"),
        ({"exp": NOW - 61}, "expired"),
        ({"iat": NOW + 61}, "early"),
        ({"nbf": NOW + 61}, "early"),
        ({"iat": NOW - 900}, "expired"),
        ({"exp": ...}, "malformed"),
        ({"iat": "now"}, "malformed"),
        ({"exp": True}, "malformed"),
        ({"nonce": "other"}, "nonce"),
        ({"nonce": ...}, "nonce"),
        ({"sub": ...}, "no_subject"),
        ({"sub": " "}, "no_subject"),
        ({"sub": 17}, "no_subject"),
        ({"sub": "x" * 256}, "no_subject"),
    ],
)
def test_a_wrong_audience_recipient_or_time_is_refused(claims: dict[str, Any], why: str) -> None:
    assert reason(token(**claims)) == why


def test_unsigned_or_foreign_signatures_are_refused() -> None:
    assert reason(raw({"alg": "none", "kid": "k1"})) == "algorithm"
    assert reason(raw({"alg": "None"})) == "algorithm"
    assert reason(token(OTHER)) == "signature"
    whole = token()
    head, body, signature = whole.split(".")
    changed = (
        base64.urlsafe_b64encode(json.dumps({**CLAIMS, "sub": "super_administrator"}).encode())
        .decode()
        .rstrip("=")
    )
    assert reason(f"{head}.{changed}.{signature}") == "signature"
    assert reason(f"{head}.{body}.") == "signature"


def test_the_public_key_is_no_secret_to_sign_with() -> None:
    for secret in (KEY.as_pem(private=False), json.dumps(KEY.as_dict(private=False)).encode()):
        unsigned = raw({"alg": "HS256", "kid": "k1"}).rpartition(".")[0]
        mac = hmac.new(secret, unsigned.encode(), hashlib.sha256).digest()
        assert reason(f"{unsigned}.{base64.urlsafe_b64encode(mac).decode().rstrip('=')}") == "algorithm"
    # Not even where the provider's list holds a secret, or the algorithm is said to be another.
    mixed = KeySet([OctKey.import_key(b"x" * 32, {"kid": "k1"})])
    assert reason(token(), keys=mixed) == "signature"


def test_a_key_within_the_token_counts_for_nothing() -> None:
    assert reason(token(OTHER, header={"jwk": OTHER.as_dict(private=False)})) == "signature"
    assert (
        reason(raw({"alg": "RS256", "kid": "k1", "jku": "https://evil.example/keys"}, signature=b"x" * 256))
        == "signature"
    )
    assert reason(raw({"alg": "RS256", "crit": ["b64"], "b64": False}, signature=b"x")) == "algorithm"


def test_an_unknown_key_is_to_be_fetched() -> None:
    with pytest.raises(UnknownKey, match="k9"):
        accept(token(kid="k9"), PUBLIC, EXPECTED)


def test_the_access_token_has_to_be_the_one_that_came_with_it() -> None:
    whole = hashlib.sha256(b"access").digest()
    right = base64.urlsafe_b64encode(whole[:16]).decode().rstrip("=")
    assert accept(token(at_hash=right), PUBLIC, EXPECTED, "access")["sub"] == "u-17"
    assert reason(token(at_hash=right), "injected") == "access token"


def test_userinfo_of_another_user_is_refused_and_the_token_counts_first() -> None:
    claims = accept(token(), PUBLIC, EXPECTED)
    assert (
        check_userinfo(claims, {"sub": "u-17", "name": "Other", "email": "una@fernhollow.example"})["name"]
        == "Una Kerrigan"
    )
    for wrong in ({"sub": "u-18"}, {}):
        with pytest.raises(SignInRefused) as refused:
            check_userinfo(claims, wrong)
        assert refused.value.reason == "userinfo"


@pytest.mark.parametrize(
    "text",
    [
        "",
        "a",
        "a.b",
        "a.b.c",
        "..",
        "a.b.c.d",
        "=.=.=",
        raw({"alg": "RS256"}, [1]),
        "x" * 70_000,
        raw({"alg": ["RS256"]}),
        raw([]),
    ],
)  # type: ignore[arg-type]
def test_an_invalid_token_is_refused(text: str) -> None:
    assert reason(text) in ("malformed", "signature", "algorithm")


@given(st.data())
def test_no_change_of_a_token_proves_another_user_or_fails_unexpectedly(data: st.DataObject) -> None:
    content = bytearray(token().encode())
    for _ in range(data.draw(st.integers(1, 3))):
        place = data.draw(st.integers(0, len(content) - 1))
        content[place : place + data.draw(st.integers(0, 2))] = data.draw(st.binary(max_size=3))
    try:
        claims = accept(bytes(content).decode("latin-1"), PUBLIC, EXPECTED)
    except (SignInRefused, UnknownKey):
        return
    assert claims == CLAIMS


CONFIGURATION: dict[str, Any] = {
    "issuer": ISSUER,
    "authorization_endpoint": f"{ISSUER}/authorize",
    "token_endpoint": f"{ISSUER}/token",
    "jwks_uri": f"{ISSUER}/keys",
    "response_types_supported": ["code"],
    "id_token_signing_alg_values_supported": ["HS256", "ES256", "RS256", "none"],
}


def test_a_provider_is_found_by_its_issuer_however_it_was_pasted() -> None:
    for text in (ISSUER, f" {ISSUER}/ ", f"{ISSUER}/.well-known/openid-configuration"):
        assert address_of(text) == f"{ISSUER}/.well-known/openid-configuration"
        assert read_configuration(CONFIGURATION, text).algorithms == ("RS256", "ES256")


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"issuer": "https://evil.example"}, "issuer"),
        ({"issuer": None}, "issuer"),
        ({"response_types_supported": ["id_token"]}, "issuer"),
        ({"id_token_signing_alg_values_supported": ["HS256"]}, "issuer"),
        ({"token_endpoint": "http://id.fernhollow.example/token"}, "token_endpoint"),
        ({"jwks_uri": "file:///etc/passwd"}, "jwks_uri"),
        ({"authorization_endpoint": ""}, "authorization_endpoint"),
        ({"jwks_uri": "https://u:p@x.example"}, "jwks_uri"),
    ],
)
def test_a_provider_that_cannot_be_used_says_why(change: dict[str, Any], field: str) -> None:
    with pytest.raises(InvalidInput) as told:
        read_configuration({**CONFIGURATION, **change}, ISSUER)
    assert told.value.field == field and told.value.hint


def test_the_way_there_carries_state_nonce_and_challenge() -> None:
    provider = read_configuration(CONFIGURATION, ISSUER)
    client = Client(
        "dravo",
        "https://dravo.fernhollow.example/sso/staff/oidc/callback",
        "s:ecret/1",
        asks_for=("openid", "groups"),
    )
    address = urlsplit(start(provider, client, "st", "no", "verifier", AuthnRequirements(force=True)))
    query = {name: values[0] for name, values in parse_qs(address.query).items()}
    assert (query["state"], query["nonce"], query["scope"], query["prompt"]) == (
        "st",
        "no",
        "openid groups",
        "login",
    )
    assert (query["code_challenge"], query["code_challenge_method"]) == (challenge("verifier"), "S256")
    # RFC 7636, appendix B.
    assert (
        challenge("dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk")
        == "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"
    )


def test_we_say_who_we_are_as_the_provider_takes_it() -> None:
    provider = read_configuration(CONFIGURATION, ISSUER)
    client = Client("dravo", "https://dravo.example/cb", "s:ecret/1")
    form, headers = token_request(provider, client, "c", "v", NOW, "j")
    assert (
        base64.b64decode(headers["Authorization"].split()[1]).decode() == "dravo:s%3Aecret%2F1"
        and "client_secret" not in form
    )
    posting = read_configuration(
        {**CONFIGURATION, "token_endpoint_auth_methods_supported": ["client_secret_post"]}, ISSUER
    )
    assert token_request(posting, client, "c", "v", NOW, "j")[0]["client_secret"] == "s:ecret/1"
    own = RSAKey.generate_key(2048, {"kid": "ours"})
    form, headers = token_request(
        provider, Client("dravo", "https://dravo.example/cb", key=own), "c", "v", NOW, "j"
    )
    claims = jwt.decode(form["client_assertion"], own).claims
    assert (way_of(provider, client), claims["aud"], claims["jti"], headers) == (
        "client_secret_basic",
        f"{ISSUER}/token",
        "j",
        {},
    )


def test_only_the_required_authentication_context_is_accepted() -> None:
    strict = replace(EXPECTED, contexts=("mfa", "phr"))
    assert accept(token(acr="phr"), PUBLIC, strict)["sub"] == "u-17"
    for acr in ("pwd", "", None, ["mfa"], "mfa phr", "MFA"):
        with pytest.raises(SignInRefused, match="required: mfa, phr") as refused:
            accept(token(acr=acr), PUBLIC, strict)
        assert refused.value.reason == "context"
    provider = read_configuration(CONFIGURATION, ISSUER)
    url = start(
        provider,
        Client("dravo", "https://dravo.example/cb"),
        "s",
        "n",
        "v",
        AuthnRequirements(contexts=("mfa", "phr")),
    )
    assert parse_qs(urlsplit(url).query)["acr_values"] == ["mfa phr"]
