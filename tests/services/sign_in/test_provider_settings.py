"""A provider without discovery, keys of one's own, and a test before saving."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from dravo.core.errors import DravoError, InvalidInput
from dravo.protocols.verified_identity import VerifiedIdentity
from dravo.services.sign_in import maintenance, setup_checklist
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.keys import UploadedKey
from dravo.services.sign_in.settings import check, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.check import SignInCheck
from dravo.services.sign_in.settings.provider import BY_HAND
from dravo.store import clock
from dravo.store import tables as t
from tests.harness import SignInProvider, sign_in_provider
from tests.saml_provider import key_pair, pem
from tests.service_fixture import ServiceFixture

BASE = "https://dravo.fernhollow.example"
ISSUER = "https://id.rootworks.example"
JWKS = json.dumps(
    {
        "keys": [
            {
                "kty": "EC",
                "kid": "k-1",
                "crv": "P-256",
                "use": "sig",
                "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
                "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
            }
        ]
    }
)
ENDPOINTS = {
    "authorization_endpoint": f"{ISSUER}/authorize",
    "token_endpoint": f"{ISSUER}/token",
    "jwks": JWKS,
}
CLIENT = {"issuer": ISSUER, "client_id": "dravo"}
FIELDS = {
    "entity_id": ISSUER,
    "sign_in": f"{ISSUER}/in",
    "certificates": key_pair("provider")[1].body,
}


@pytest.fixture
def partners(services: ServiceFixture) -> ServiceFixture:
    services.source("partners")
    return services


@pytest.fixture(scope="module")
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


def change(services: ServiceFixture, **given: Any) -> Any:
    sign_in_settings.change(services.ctx, services.caller, "partners", given)
    return services.rows(t.source_sign_in)[0]


def missing(services: ServiceFixture) -> list[str]:
    return setup_checklist.shown(services.ctx, services.caller, "partners", BASE).missing


# A provider without discovery


def test_endpoints_and_keys_are_entered_one_by_one_and_stay(partners: ServiceFixture) -> None:
    row = change(partners, protocol="oidc", settings=CLIENT, fields={"token_endpoint": f"{ISSUER}/token"})
    assert missing(partners) == [
        "the authorization endpoint of the provider",
        "the keys of the provider",
        "the client secret or private_key_jwt",
    ]
    row = change(partners, secret="not-to-be-seen", fields=ENDPOINTS)
    assert (row.provider["from"], row.provider["issuer"], missing(partners)) == (BY_HAND, ISSUER, [])
    rollout.set_status(partners.ctx, partners.caller, "partners", "enabled", confirm="Partners")
    begun = sign_in_start.start(partners.ctx, "partners", BASE)
    assert begun.url.startswith(f"{ISSUER}/authorize?response_type=code")
    # Other settings and the daily check fetch nothing.
    change(partners, settings={"clock_skew": 30})
    with partners.ctx.database.writing() as connection:
        connection.execute(t.source_sign_in.update().values(looked_at="2020-01-01T00:00:00.000000Z"))
    maintenance.look_at_addresses(partners.ctx, clock.now())
    assert partners.rows(t.source_sign_in)[0].provider == row.provider
    shown = setup_checklist.shown(partners.ctx, partners.caller, "partners", BASE).provider
    assert (shown.token_endpoint, shown.keys, shown.learned_from) == (f"{ISSUER}/token", 1, BY_HAND)


def test_other_endpoints_in_the_discovery_document_are_used_and_reported(
    partners: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    published = {"issuer": ISSUER, "token": f"{ISSUER}/token", "jwks": {"keys": []}}
    change(partners, protocol="oidc", settings=CLIENT, fields=ENDPOINTS)
    with partners.ctx.database.writing() as connection:
        known = {**published, "from": "address"}
        connection.execute(t.source_sign_in.update().values(provider=known))
    for changed, number in (({"jwks": {"keys": [1]}}, 0), ({"token": f"{ISSUER}/other"}, 1)):
        monkeypatch.setattr(maintenance, "fetch_configuration", lambda *_, c=changed: {**published, **c})
        with partners.ctx.database.writing() as connection:
            connection.execute(t.source_sign_in.update().values(looked_at="2020-01-01T00:00:00.000000Z"))
        maintenance.look_at_addresses(partners.ctx, clock.now())
        assert len(partners.rows(t.notification_event)) == number
    assert partners.rows(t.source_sign_in)[0].provider["token"] == f"{ISSUER}/other"


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"jwks": JWKS.replace('"kid"', '"d": "secret", "kid"')}, "This is a private or secret key"),
        ({"jwks": '{"kty": "oct", "k": "c2VjcmV0"}'}, "This is a private or secret key"),
        ({"jwks": "https://id.rootworks.example/keys"}, "not a valid JWK set"),
        ({"jwks": '{"keys": [1]}'}, "not a valid JWK set"),
        ({"jwks": '{"keys": []}'}, "The JWK set has no key"),
        ({"token_endpoint": "http://id.rootworks.example/token"}, "does not use HTTPS"),
        ({"authorization_endpoint": "javascript:alert(1)"}, "is not a URL"),
        ({"entity_id": ISSUER}, "OpenID Connect has no field 'entity_id'"),
    ],
)
def test_invalid_endpoints_and_keys_are_refused_and_the_old_ones_stay(
    partners: ServiceFixture, fields: dict[str, str], told: str
) -> None:
    before = change(partners, protocol="oidc", settings=CLIENT, fields=ENDPOINTS)
    with pytest.raises(DravoError, match=told) as wrong:
        change(partners, fields=fields)
    assert wrong.value.hint
    assert tuple(partners.rows(t.source_sign_in)[0]) == tuple(before)


def test_a_secret_does_not_follow_an_endpoint_to_another_host(partners: ServiceFixture) -> None:
    change(partners, protocol="oidc", settings=CLIENT, secret="not-to-be-seen", fields=ENDPOINTS)
    assert change(partners, fields={"token_endpoint": f"{ISSUER}/oauth/token"}).secret
    assert change(partners, fields={"token_endpoint": "https://elsewhere.example/token"}).secret is None
    assert change(partners, fields={"token_endpoint": f"{ISSUER}/token"}, secret="again").secret
    # A secret that is saved before any endpoint is for the host of the issuer.
    change(partners, fields={"token_endpoint": ""})
    assert change(partners, secret="first").secret
    assert change(partners, fields={"token_endpoint": f"{ISSUER}/token"}).secret
    change(partners, fields={"token_endpoint": ""})
    assert change(partners, fields={"token_endpoint": "https://elsewhere.example/token"}).secret is None


def test_keys_come_as_text_or_from_a_url_that_may_not_answer_yet(
    partners: ServiceFixture, provider: SignInProvider
) -> None:
    keys = httpx.get(f"{provider.url}/keys", trust_env=False).text
    row = change(
        partners,
        protocol="oidc",
        settings={"issuer": provider.url, "client_id": "dravo"},
        fields={**ENDPOINTS, "jwks": keys},
    )
    assert row.provider["keys"] == "" and len(row.provider["jwks"]["keys"]) >= 1
    fetched = change(partners, fields={"jwks_uri": f"{provider.url}/keys", "jwks": ""})
    assert fetched.provider["jwks"] == {} and fetched.provider["keys"] == f"{provider.url}/keys"
    assert change(partners, fields={"jwks_uri": f"{provider.url}/keys"}).provider["jwks"]["keys"]
    late = change(partners, fields={"jwks_uri": "http://127.0.0.1:9/keys"})
    assert late.provider["keys"] == "http://127.0.0.1:9/keys" and "does not respond" in late.trouble
    assert "the keys of the provider" in missing(partners)


# Requests and logout


def test_the_binding_and_the_logout_url_of_the_settings_are_used(partners: ServiceFixture) -> None:
    ctx = partners.ctx
    change(partners, protocol="saml", fields={**FIELDS, "sign_out": f"{ISSUER}/out"})
    rollout.set_status(ctx, partners.caller, "partners", "enabled", confirm="Partners")
    assert sign_in_start.start(ctx, "partners", BASE).form is None
    change(partners, settings={"request_binding": "post"})
    posted = sign_in_start.start(ctx, "partners", BASE)
    assert posted.url == f"{ISSUER}/in" and posted.form is not None and "SAMLRequest" in posted.form
    with pytest.raises(InvalidInput, match="request_binding"):
        change(partners, settings={"request_binding": "artifact"})

    def leaving(**settings: Any) -> str:
        change(partners, settings=settings)
        source_id = partners.rows(t.source, key="partners")[0].id
        record_id = partners.user(source_id, "ines.duarte")
        user_id = partners.rows(t.record, id=record_id)[0].user_id
        with ctx.database.writing() as connection:
            proved = VerifiedIdentity(ISSUER, "s-1")
            secret = user_sessions.begin(connection, user_id, source_id, proved, 1)
        visitor = user_sessions.by_secret(ctx, secret)
        assert visitor is not None
        partners.intake.remove_user(source_id, record_id)
        return user_sessions.leave(ctx, visitor, BASE)

    assert leaving().startswith(f"{ISSUER}/out?SAMLRequest=")
    assert leaving(logout_url=f"{ISSUER}/goodbye").startswith(f"{ISSUER}/goodbye?SAMLRequest=")
    assert leaving(single_logout=False) == ""
    with pytest.raises(InvalidInput, match="is not a valid URL"):
        change(partners, settings={"logout_url": "javascript:alert(1)"})


# Keys of one's own


def certificate(key: Any, days: int = 900) -> str:
    name = x509.Name([x509.NameAttribute(x509.oid.NameOID.COMMON_NAME, "dravo.fernhollow.example")])
    at = datetime.fromisoformat(clock.now())
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(at - timedelta(days=1_000))
        .not_valid_after(at + timedelta(days=days))
        .sign(key, hashes.SHA256())
    )
    return made.public_bytes(serialization.Encoding.PEM).decode()


def test_an_uploaded_key_signs_once_it_is_activated(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml", fields=FIELDS)
    key = key_pair("ours")[0]
    given = UploadedKey(pem(key).decode(), certificate(key))
    sign_in_settings.change_keys(ctx, caller, "partners", "upload", given)
    shown = setup_checklist.shown(ctx, caller, "partners", BASE).certificates
    assert [each.use for each in shown] == ["active", "next"]
    sign_in_settings.change_keys(ctx, caller, "partners", "use")
    shown = setup_checklist.shown(ctx, caller, "partners", BASE).certificates
    assert (shown[0].use, shown[0].pem) == ("active", given.certificate.strip())
    kept = str([tuple(row) for row in (*partners.rows(t.sign_in_key), *partners.rows(t.audit))])
    assert given.private_key.splitlines()[1] not in kept
    rollout.set_status(ctx, caller, "partners", "enabled", confirm="Partners")
    query = parse_qs(urlsplit(sign_in_start.start(ctx, "partners", BASE).url).query)
    assert query["Signature"]


def short() -> rsa.RSAPrivateKey:
    return rsa.generate_private_key(65537, 1024)


@pytest.mark.parametrize(
    ("made", "told"),
    [
        (lambda key: (pem(key).decode(), certificate(key_pair("other")[0])), "belongs to another key"),
        (lambda key: (pem(key).decode(), certificate(key, days=-1)), "expired on"),
        (lambda key: (pem(key).decode(), certificate(key) + certificate(key)), "contains 2 certificates"),
        (lambda key: (certificate(key), certificate(key)), "The private key is incomplete or invalid"),
        (lambda key: ("", certificate(key)), "The private key is incomplete or invalid"),
        (lambda _: ((small := short()) and pem(small).decode(), certificate(small)), "has 1,024 bits"),
        (
            lambda _: (
                ec.generate_private_key(ec.SECP256R1())
                .private_bytes(
                    serialization.Encoding.PEM,
                    serialization.PrivateFormat.PKCS8,
                    serialization.NoEncryption(),
                )
                .decode(),
                "",
            ),
            "is not an RSA key",
        ),
        (
            lambda key: (
                key.private_bytes(
                    serialization.Encoding.PEM,
                    serialization.PrivateFormat.PKCS8,
                    serialization.BestAvailableEncryption(b"fern"),
                ).decode(),
                certificate(key),
            ),
            "protected by a passphrase",
        ),
    ],
)
def test_an_unusable_key_is_refused_and_not_shown(
    partners: ServiceFixture, made: Callable[[rsa.RSAPrivateKey], tuple[str, str]], told: str
) -> None:
    change(partners, protocol="saml", fields=FIELDS)
    private_key, public = made(key_pair("ours")[0])
    with pytest.raises(InvalidInput, match=told) as wrong:
        sign_in_settings.change_keys(
            partners.ctx, partners.caller, "partners", "upload", UploadedKey(private_key, public)
        )
    assert wrong.value.hint and "BEGIN PRIVATE" not in str(wrong.value)
    assert len(partners.rows(t.sign_in_key)) == 1


# A test before saving


def check_of(services: ServiceFixture, **given: Any) -> SignInCheck:
    before = [tuple(row) for row in services.rows(t.source_sign_in)]
    found = check.check(services.ctx, services.caller, "partners", given, BASE)
    assert [tuple(row) for row in services.rows(t.source_sign_in)] == before
    return found


def outcomes(found: SignInCheck) -> dict[str, str]:
    return {each.name: each.outcome for each in found.steps}


def test_an_openid_client_is_tested_before_it_is_saved(
    partners: ServiceFixture, provider: SignInProvider
) -> None:
    provider.put("client", {"id": "dravo", "secret": "known-there"})
    settings = {"issuer": provider.url, "client_id": "dravo"}
    good = check_of(partners, protocol="oidc", settings=settings, secret="known-there")
    assert good.ok and set(outcomes(good).values()) == {"ok"}, good
    bad = check_of(partners, protocol="oidc", settings=settings, secret="another")
    assert not bad.ok and outcomes(bad)["Client"] == "failed"
    assert "another" not in str(bad)
    scopes = check_of(
        partners, protocol="oidc", settings={**settings, "scopes": "openid roles"}, secret="known-there"
    )
    assert scopes.ok and outcomes(scopes)["Scopes"] == "warning"
    nowhere = check_of(partners, protocol="oidc", settings={**settings, "issuer": "http://127.0.0.1:9"})
    assert not nowhere.ok and "does not respond" in nowhere.steps[0].message


def test_a_test_sends_a_saved_secret_to_no_other_host(
    partners: ServiceFixture, provider: SignInProvider
) -> None:
    provider.put("client", {"id": "dravo", "secret": "not-to-be-seen"})
    change(partners, protocol="oidc", settings=CLIENT, secret="not-to-be-seen", fields=ENDPOINTS)
    moved = check_of(partners, fields={"token_endpoint": f"{provider.url}/token"})
    assert outcomes(moved)["Client"] == "skipped"
    other = check_of(partners, settings={"issuer": provider.url}, look=True)
    assert outcomes(other)["Client"] == "skipped"
    assert check_of(partners, fields={"token_endpoint": f"{provider.url}/token"}, secret="not-to-be-seen")
    assert partners.rows(t.source_sign_in)[0].secret


def test_saml_values_are_tested_before_they_are_saved(
    partners: ServiceFixture, provider: SignInProvider
) -> None:
    metadata = f"{provider.url}/metadata"
    good = check_of(partners, protocol="saml", settings={"metadata_url": metadata})
    assert good.ok and outcomes(good)["Certificate"] != "failed", good
    old = check_of(
        partners, protocol="saml", fields={**FIELDS, "certificates": certificate(key_pair("a")[0], -1)}
    )
    assert not old.ok and "expired on" in str(old)
    soon = check_of(
        partners, protocol="saml", fields={**FIELDS, "certificates": certificate(key_pair("a")[0], 9)}
    )
    assert soon.ok and outcomes(soon)["Certificate"] == "warning"
    page = check_of(partners, protocol="saml", settings={"metadata_url": provider.url})
    assert not page.ok and "the single sign-on URL" in page.steps[-1].message
    pasted = check_of(partners, protocol="saml", metadata="<html/>")
    assert not pasted.ok and "not the metadata of an identity provider" in pasted.steps[0].message
