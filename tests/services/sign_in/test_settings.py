"""How users sign in by a source is set: what is kept, what is forgotten, what is missing, and from when on
it counts.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import pytest

from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.core.instants import later
from dravo.protocols.verified_identity import SignInRefused
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.notifications import mail_server
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in import setup_checklist, test_sign_ins
from dravo.services.sign_in import start as sign_in_start
from dravo.services.sign_in.settings import provider, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.start import StartOptions
from dravo.services.sign_in.test_sign_ins import NewTestSignIn
from dravo.services.sources import sources
from dravo.services.sources.sources import SourceChange
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries.references import KeyAndLabel
from tests.saml_provider import key_pair
from tests.service_fixture import ServiceFixture

BASE = "https://dravo.fernhollow.example"
FIELDS = {
    "entity_id": " https://id.rootworks.example ",
    "sign_in": "https://id.rootworks.example/in",
    "certificates": key_pair("provider")[1].body,
}
OPENID = {
    "issuer": "https://id.rootworks.example",
    "authorization": "https://id.rootworks.example/authorize",
    "token": "https://id.rootworks.example/token",
    "keys": "https://id.rootworks.example/keys",
    "userinfo": None,
    "end_session": None,
    "algorithms": ["RS256"],
    "token_auth": ["client_secret_basic"],
    "scopes": ["openid"],
    "jwks": {"keys": []},
}

NOWHERE = {
    "source": None,
    "start": "",
    "by_code": False,
    "by_password": False,
    "choices": [],
    "for_operators": [],
}


@pytest.fixture
def partners(services: ServiceFixture) -> ServiceFixture:
    services.source("partners")
    return services


def change(services: ServiceFixture, **given: Any) -> Any:
    sign_in_settings.change(services.ctx, services.caller, "partners", given)
    return services.rows(t.source_sign_in)[0]


def missing(services: ServiceFixture, row: Any) -> list[str]:
    with services.ctx.database.reading() as connection:
        return sign_in_settings.missing(connection, row)


def test_missing_values_are_listed_and_do_not_prevent_saving(partners: ServiceFixture) -> None:
    with pytest.raises(NotFound, match="'Partners' has no sign-in"):
        setup_checklist.shown(partners.ctx, partners.caller, "partners", BASE)
    with pytest.raises(InvalidInput, match="' is not a valid protocol"):
        change(partners, settings={})
    assert len(missing(partners, change(partners, protocol="saml"))) == 3
    row = change(partners, fields={"entity_id": FIELDS["entity_id"]})
    assert (row.provider["entity_id"], len(missing(partners, row))) == ("https://id.rootworks.example", 2)
    assert missing(partners, change(partners, fields=FIELDS)) == []
    # An empty field takes away what stood there.
    assert missing(partners, change(partners, fields={"certificates": ""})) == [
        "the certificate of the provider"
    ]


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"settings": {"clock_skew": 9_000}}, "clock_skew"),
        ({"settings": {"color": "red"}}, "no setting 'color'"),
        ({"protocol": "oidc"}, "uses SAML 2.0"),
        ({"settings": {"metadata_url": "javascript:alert(1)"}}, "' is not a valid URL"),
        ({"fields": {"certificates": "abc"}}, "The certificate is incomplete or invalid."),
        ({"fields": {"entity_id": "a\nb"}}, "The entity ID contains a line break"),
        ({"fields": {"sign_in": "javascript:alert(1)"}}, "' is not a valid URL"),
        ({"metadata": "<html/>"}, "This is not the metadata of an identity provider"),
        ({"policy": {"match": "email"}}, "The domains of the source are missing."),
        (
            {"policy": {"attributes": [{"attribute": "title", "expression": "title"}]}},
            "The expression for userName is missing",
        ),
    ],
)
def test_invalid_settings_are_refused_and_the_old_ones_stay(
    partners: ServiceFixture, given: dict[str, Any], told: str
) -> None:
    before = change(partners, protocol="saml", fields=FIELDS)
    with pytest.raises(DravoError, match=told):
        change(partners, **given)
    assert tuple(partners.rows(t.source_sign_in)[0]) == tuple(before)


def test_a_secret_is_stored_encrypted_and_cleared_for_a_new_host(
    partners: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(provider, "fetch_configuration", lambda issuer, _: {**OPENID, "issuer": issuer})
    row = change(
        partners,
        protocol="oidc",
        settings={"issuer": OPENID["issuer"], "client_id": "dravo"},
        secret="not-to-be-seen",
    )
    assert "not-to-be-seen" not in row.secret
    shown = setup_checklist.shown(partners.ctx, partners.caller, "partners", BASE)
    assert shown.has_secret and "not-to-be-seen" not in str(shown)
    assert "not-to-be-seen" not in str(partners.rows(t.audit))
    assert change(partners, settings={"scopes": "openid groups"}).secret == row.secret
    assert change(partners, settings={"issuer": "https://elsewhere.example"}).secret is None
    assert missing(partners, partners.rows(t.source_sign_in)[0]) == ["the client secret or private_key_jwt"]
    assert missing(partners, change(partners, settings={"private_key_jwt": True})) == []


def test_an_unanswering_metadata_url_is_saved_and_reported(partners: ServiceFixture) -> None:
    row = change(partners, protocol="saml", settings={"metadata_url": "https://id.nowhere.invalid/metadata"})
    assert row.settings["metadata_url"] == "https://id.nowhere.invalid/metadata"
    assert "does not respond:" in row.trouble
    # Metadata that is pasted serves as well, and repairs that.
    assert missing(partners, change(partners, fields=FIELDS)) == []


def test_a_pilot_and_a_start_time_are_respected(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller

    def put(status: str, **more: Any) -> Any:
        rollout.set_status(ctx, caller, "partners", status, **more)
        return partners.rows(t.source_sign_in)[0]

    change(partners, protocol="saml")
    with pytest.raises(InvalidInput, match="Missing:"):
        put("enabled", confirm="Partners")
    change(partners, fields=FIELDS)
    with pytest.raises(NeedsConfirmation, match="These settings have not been tested yet"):
        put("enabled")
    with pytest.raises(InvalidInput, match="The pilot group is missing"):
        put("pilot", confirm="Partners")
    with pytest.raises(SignInRefused, match="is not enabled yet"):
        sign_in_start.start(ctx, "partners", BASE, StartOptions())
    now = clock.now()
    with pytest.raises(InvalidInput, match="The start time is in the past"):
        put("disabled", enabled_from=later(now, -60), confirm="Partners")
    assert put("disabled", enabled_from=later(now, 3_600), confirm="Partners").status == "disabled"
    rollout.apply_scheduled_activation(ctx, later(now, 3_500))
    assert partners.rows(t.source_sign_in)[0].status == "disabled"
    rollout.apply_scheduled_activation(ctx, later(now, 3_700))
    row = partners.rows(t.source_sign_in)[0]
    assert (row.status, row.enabled_from) == ("enabled", None)
    assert sign_in_start.start(ctx, "partners", BASE, StartOptions()).url.startswith(
        "https://id.rootworks.example/in?SAMLRequest="
    )


def test_only_what_counts_has_to_be_proved_again(partners: ServiceFixture) -> None:
    change(partners, protocol="saml", fields=FIELDS)

    def proved_after(**given: Any) -> bool:
        with partners.ctx.database.writing() as connection:
            connection.execute(t.source_sign_in.update().values(verified_at=clock.now()))
        return change(partners, **given).verified_at is not None

    assert proved_after(settings={"pilot": "Site", "support_contact": "Ask in Estates.", "claim_days": 7})
    assert proved_after(settings={"clock_skew": 60})
    assert not proved_after(settings={"clock_skew": 30})
    assert not proved_after(fields={"certificates": key_pair("next")[1].pem})
    assert not proved_after(policy={"makes": False})


def test_a_sign_in_test_is_for_a_user_and_for_a_while(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml", fields=FIELDS)
    for given, told in (
        (("", "observe"), "The user is missing."),
        (("una", "perhaps"), "' is not a valid mode."),
    ):
        with pytest.raises(InvalidInput, match=told):
            test_sign_ins.begin(ctx, caller, "partners", NewTestSignIn(*given), BASE)
    with pytest.raises(InvalidInput, match="A test sign-in must be valid for 1 to 1,440 minutes"):
        test_sign_ins.begin(ctx, caller, "partners", NewTestSignIn("una", "observe", 0), BASE)
    made = test_sign_ins.begin(ctx, caller, "partners", NewTestSignIn("una", "observe"), BASE)
    secret = made.link.partition("sign_in_test=")[2]
    listed = test_sign_ins.list_test_sign_ins(ctx, "partners", PageRequest()).items[0]
    assert listed.open and secret not in str(listed) and secret not in str(partners.rows(t.audit))
    assert sign_in_start.start(ctx, "partners", BASE, StartOptions(secret)).url
    with pytest.raises(SignInRefused, match="The test sign-in has expired or does not exist"):
        sign_in_start.start(ctx, "partners", BASE, StartOptions(f"{secret}x"))
    with ctx.database.writing() as connection:
        connection.execute(t.test_sign_in.update().values(until_at=later(clock.now(), -1)))
    with pytest.raises(SignInRefused, match="The test sign-in has expired or does not exist"):
        sign_in_start.start(ctx, "partners", BASE, StartOptions(secret))


def test_our_keys_change_without_a_gap(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml")
    with pytest.raises(NotFound, match="There is no next key"):
        sign_in_settings.change_keys(ctx, caller, "partners", "use")
    sign_in_settings.change_keys(ctx, caller, "partners", "next")
    with pytest.raises(InvalidInput, match="A next key exists already"):
        sign_in_settings.change_keys(ctx, caller, "partners", "next")

    def keys() -> list[sign_in_keys.OurKey]:
        with ctx.database.reading() as connection:
            return sign_in_keys.of_source(ctx, connection, partners.rows(t.source)[-1].id)

    before = keys()
    sign_in_settings.change_keys(ctx, caller, "partners", "use")
    after = keys()
    assert [each.signs for each in before] == [each.signs for each in after] == [True, False]
    assert [each.id for each in after] == [each.id for each in reversed(before)]
    assert "BEGIN" not in partners.rows(t.sign_in_key)[0].secret
    with ctx.database.writing() as connection:
        connection.execute(
            t.sign_in_key.update()
            .where(t.sign_in_key.c.id == before[0].id)
            .values(retired_at=later(clock.now(), -1))
        )
    assert [each.id for each in keys()] == [before[1].id]


def test_the_domain_of_an_e_mail_picks_the_source_and_tells_nothing_of_users(
    services: ServiceFixture,
) -> None:
    ctx, caller = services.ctx, services.caller
    assert asdict(sign_in_start.source_for_email(ctx, "una@fernhollow.example")) == {**NOWHERE, "any": False}
    for key, domain in (("partners", "rootworks.example"), ("guests", "guests.example")):
        services.source(key)
        sign_in_settings.change(
            ctx, caller, key, {"protocol": "saml", "fields": FIELDS, "policy": {"domains": [domain]}}
        )
        rollout.set_status(ctx, caller, key, "enabled", confirm=key.title())
    assert sign_in_start.source_for_email(ctx, "anybody@Guests.Example").start == "/sso/guests/start"
    assert asdict(sign_in_start.source_for_email(ctx, "anybody@elsewhere.example")) == {
        **NOWHERE,
        "any": True,
    }
    assert asdict(sign_in_start.source_for_email(ctx, "")) == {**NOWHERE, "any": True}
    rollout.set_status(ctx, caller, "guests", "disabled")
    assert sign_in_start.source_for_email(ctx, "anybody@guests.example").source == KeyAndLabel(
        "partners", "Partners"
    )


def test_of_two_sources_that_own_one_domain_users_choose_and_operators_are_warned(
    services: ServiceFixture,
) -> None:
    ctx, caller = services.ctx, services.caller
    for key in ("partners", "guests", "volunteers"):
        services.source(key)
    assert (
        sources.change(ctx, caller, "volunteers", SourceChange(domains=["elsewhere.example"])).shared_domains
        == []
    )
    for key, protocol in (("partners", "saml"), ("guests", "email_code")):
        fields = {"fields": FIELDS} if protocol == "saml" else {}
        sign_in_settings.change(
            ctx, caller, key, {"protocol": protocol, **fields, "policy": {"domains": ["guests.example"]}}
        )
    mail_server.change(ctx, caller, {"host": "mail.fernhollow.example", "sender": "dravo@fernhollow.example"})
    for key in ("partners", "guests"):
        rollout.set_status(ctx, caller, key, "enabled", confirm=key.title())
    found = sign_in_start.source_for_email(ctx, "anybody@guests.example")
    assert (
        found.source,
        [(each.key, each.start, each.by_code) for each in found.choices],
    ) == (
        None,
        [("guests", "/sso/guests/start", True), ("partners", "/sso/partners/start", False)],
    )
    shared = [sources.SharedDomain("guests.example", [KeyAndLabel("partners", "Partners")])]
    assert sources.one(ctx, "guests").shared_domains == shared
    assert sources.one(ctx, "volunteers").shared_domains == []
    assert {each.key for each in sources.list_sources(ctx, PageRequest()).items if each.shared_domains} == {
        "guests",
        "partners",
    }


def test_a_sign_in_without_users_is_deleted_with_its_keys(partners: ServiceFixture) -> None:
    change(partners, protocol="saml", fields=FIELDS)
    sign_in_settings.forget(partners.ctx, partners.caller, "partners")
    assert not partners.rows(t.source_sign_in) and not partners.rows(t.sign_in_key)
    change(partners, protocol="oidc")
    sources.remove(partners.ctx, partners.caller, "partners")
    assert not partners.rows(t.source_sign_in) and not partners.rows(t.sign_in_key)
