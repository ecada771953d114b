"""Another sign-in protocol of a source: users keep their access, and nobody becomes another user."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput, StalePreview
from dravo.core.identity.claims import usual_policy
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.sign_in import response_checks
from dravo.services.sign_in.jit_provisioning import JitOptions, JitProvisioner
from dravo.services.sign_in.settings import protocol_change, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.verification import JitResult, SignInAttempt, StepLog
from dravo.store import tables as t
from dravo.store.queries import users as user_queries
from tests.service_fixture import ServiceFixture
from tests.services.sign_in.test_provider_settings import BASE, CLIENT, ENDPOINTS, FIELDS, ISSUER, change


@pytest.fixture
def partners(services: ServiceFixture) -> ServiceFixture:
    services.source("partners")
    return services


def come(
    services: ServiceFixture, protocol: str, subject: str, *, preview: bool = False, **claims: Any
) -> JitResult:
    source = services.rows(t.source, key="partners")[0]
    named = {"username": ["idris.vance"], "preferred_username": ["idris.vance"]} | claims
    one = JitProvisioner(
        services.ctx,
        source,
        usual_policy(protocol),
        VerifiedIdentity(ISSUER, subject, named),
        StepLog(),
        JitOptions(says_verified=False, preview=preview),
    )
    return one.take(one.user())


def test_after_a_change_of_protocol_users_are_matched_by_user_name_and_keep_access(
    partners: ServiceFixture,
) -> None:
    ctx, caller = partners.ctx, partners.caller
    partners.application()
    change(partners, protocol="saml", settings={"clock_skew": 30, "sign_requests": False}, fields=FIELDS)
    idris = come(partners, "saml", "1", groups=["Site"]).user_id
    juno = come(partners, "saml", "2", username=["juno.marlow"]).user_id
    assignments.add(ctx, caller, AssignmentRequest("records", "curator", group="Site", source="partners"))
    recompute.process_marks(ctx)
    told = " ".join(protocol_change.preview(ctx, "partners", "oidc").shown().effects)
    assert "2 users keep access and groups" in told and "deleted: sign_requests." in told
    with pytest.raises(NeedsConfirmation):
        protocol_change.change(ctx, caller, "partners", "oidc", None)
    protocol_change.change(ctx, caller, "partners", "oidc", "Partners")
    row = partners.rows(t.source_sign_in)[0]
    assert (row.protocol, row.provider, row.secret, row.settings["clock_skew"]) == ("oidc", {}, None, 30)
    assert len(partners.rows(t.access, user_id=idris, until_at=None)) == 1
    # The new provider has the same ID and gives Juno the subject that was that of Idris.
    looked = come(partners, "oidc", "1", preview=True, preferred_username=["juno.marlow"])
    assert looked.user_id == juno
    assert come(partners, "oidc", "1", preferred_username=["juno.marlow"]).user_id == juno
    again = come(partners, "oidc", "7", groups=["Site"])
    assert again.user_id == idris and [each["what"] for each in again.access] in ([], ["kept"])
    assert len(partners.rows(t.access, user_id=idris, until_at=None)) == 1
    present = [row for row in partners.rows(t.record, user_id=idris) if row.deleted_at is None]
    assert [row.native_id for row in present] == [f"{ISSUER}\n7"]
    # Groups that the provider no longer names end with the next sign-in.
    come(partners, "oidc", "7", groups=[])
    assert partners.rows(t.access, user_id=idris, until_at=None) == []
    # And back: no record of the first time stands in the way.
    protocol_change.change(ctx, caller, "partners", "saml", "Partners")
    assert come(partners, "saml", "1").user_id == idris


def test_another_user_name_after_a_change_of_protocol_becomes_no_known_user(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml", fields=FIELDS)
    idris = come(partners, "saml", "1", email=["idris.vance@rootworks.example"]).user_id
    protocol_change.change(ctx, caller, "partners", "oidc", "Partners")
    with pytest.raises(SignInRefused, match="email"):
        come(
            partners,
            "oidc",
            "1",
            preferred_username=["mallow"],
            email=["idris.vance@rootworks.example"],
        )
    assert len([row for row in partners.rows(t.record, user_id=idris) if row.deleted_at is None]) == 1


def test_a_protocol_changes_only_while_sign_in_is_disabled_and_serves_users(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml", fields=FIELDS)

    def refused(protocol: str = "oidc") -> str:
        with pytest.raises(InvalidInput) as wrong:
            protocol_change.change(ctx, caller, "partners", protocol, "Partners")
        assert wrong.value.hint
        return wrong.value.message

    assert "uses SAML 2.0 already" in refused("saml")
    assert "'ldap' is not a valid protocol" in refused("ldap")
    rollout.set_status(ctx, caller, "partners", "enabled", confirm="Partners")
    assert "is not disabled" in refused()
    rollout.set_status(ctx, caller, "partners", "disabled")
    change(partners, serves="both")
    assert "Operators sign in through 'Partners'" in refused()
    assert partners.rows(t.source_sign_in)[0].protocol == "saml"


def test_the_pilot_of_a_new_protocol_knows_its_users_by_user_name(partners: ServiceFixture) -> None:
    ctx, caller = partners.ctx, partners.caller
    change(partners, protocol="saml", fields=FIELDS)
    come(partners, "saml", "1", groups=["Site"])
    come(partners, "saml", "2", username=["juno.marlow"], groups=["Yard"])
    protocol_change.change(ctx, caller, "partners", "oidc", "Partners")
    change(partners, settings={**CLIENT, "pilot": "Site"}, secret="s", fields=ENDPOINTS)
    rollout.set_status(ctx, caller, "partners", "pilot", confirm="Partners")

    def asks(subject: str, name: str) -> None:
        source = partners.rows(t.source, key="partners")[0]
        row = partners.rows(t.source_sign_in)[0]
        proved = VerifiedIdentity(ISSUER, subject, {"preferred_username": [name]})
        way = SignInAttempt(source, row, BASE, proved=proved)
        one = JitProvisioner(
            ctx, source, usual_policy("oidc"), proved, StepLog(), JitOptions(says_verified=False)
        )
        response_checks.check_status(ctx, way, one)

    asks("7", "idris.vance")
    for subject, name in (("1", "juno.marlow"), ("8", "vance"), ("8", "%vance")):
        with pytest.raises(SignInRefused, match="pilot"):
            asks(subject, name)
    user_id = next(row.id for row in partners.rows(t.user) if row.user_name == "idris.vance")
    with ctx.database.reading() as connection:
        shown = user_queries.records_of(connection, user_id)
    assert [each.external_id for each in shown] == [None]


def test_settings_that_are_saved_while_the_protocol_changes_are_refused(
    partners: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    change(partners, protocol="saml", fields=FIELDS)

    def meanwhile(*_: Any) -> tuple[dict[str, Any], dict[str, Any]]:
        protocol_change.change(partners.ctx, partners.caller, "partners", "oidc", "Partners")
        return {"provider": {"entity_id": ISSUER}}, {}

    monkeypatch.setattr(sign_in_settings, "of_provider", meanwhile)
    with pytest.raises(StalePreview):
        change(partners, settings={"sign_requests": False})
    row = partners.rows(t.source_sign_in)[0]
    assert (row.protocol, row.provider) == ("oidc", {})
