"""By which ways somebody could sign in, foretold: what it says is what then happens."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import update

from dravo.protocols.verified_identity import SignInRefused
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.notifications import mail_server
from dravo.services.sign_in import eligibility
from dravo.services.sign_in.eligibility import SignInOption
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import policy as source_policies
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture
from tests.services.sign_in.test_jit_provisioning import Door
from tests.services.sign_in.test_settings import FIELDS

MAIL = "idris.vance@rootworks.example"
OWNED = {"match": "user_name", "domains": ["rootworks.example"]}


@pytest.fixture
def ctx(services: ServiceFixture) -> ServiceFixture:
    """A organization in which somebody of the staff could come by the contractors' provider too."""
    services.source("contractors")
    sign_in_settings.change(
        services.ctx, services.caller, "contractors", {"protocol": "saml", "fields": FIELDS}
    )
    return services


def put(services: ServiceFixture, status: str, pilot: str = "") -> None:
    with services.ctx.database.writing() as connection:
        for row in services.rows(t.source_sign_in):
            here = t.source_sign_in.c.source_id == row.source_id
            connection.execute(
                update(t.source_sign_in)
                .where(here)
                .values(status=status, settings={**row.settings, "pilot": pilot})
            )


def way(services: ServiceFixture, who: str = "idris.vance") -> SignInOption:
    return eligibility.of_user(services.ctx, who).ways[0]


def staff(services: ServiceFixture, **more: Any) -> tuple[str, str]:
    source = services.source("staff", MAIL.rpartition("@")[2])
    return source, services.user(source, "idris.vance", emails=[{"value": MAIL, "primary": True}], **more)


def test_where_it_is_not_in_force_they_would_read_so(ctx: ServiceFixture) -> None:
    staff(ctx)
    settings.change(ctx.ctx, ctx.caller, "support_contact", "Ask Hazel Marlow.")
    found = way(ctx)
    assert (found.opens, found.message_to_user, found.bound_at) == (
        False,
        "This sign-in is not enabled yet.",
        None,
    )
    assert (found.support_contact, found.source.key, found.protocol) == (
        "Ask Hazel Marlow.",
        "contractors",
        "SAML 2.0",
    )
    assert (
        "Sign-in through this source is disabled." in found.reason
        and "Enable sign-in, or create a test sign-in." in found.hint
    )


def test_a_pilot_group_opens_it_to_those_who_are_known_to_be_in_it(ctx: ServiceFixture) -> None:
    source, record = staff(ctx)
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"policy": OWNED})
    put(ctx, "pilot", "First ones")
    ctx.group(source, "First ones", record)
    # A group of that name in another source is not the pilot group.
    assert way(ctx).message_to_user == "This sign-in is not enabled for you yet."
    door = Door(ctx, ctx.rows(t.source, key="contractors")[0].id)
    door.come("s-9", username=["juno.marlow"], email=["juno.marlow@rootworks.example"], groups=["First ones"])
    assert way(ctx, "juno.marlow").opens
    assert not way(ctx).opens


@pytest.mark.parametrize(
    ("policy", "reason"),
    [
        ({}, "conflict"),
        (OWNED, None),
        ({"match": "email", "domains": ["rootworks.example"]}, None),
        ({"match": "user_name", "domains": ["elsewhere.example"]}, "conflict"),
    ],
)
def test_the_preview_of_a_first_sign_in_equals_the_sign_in(
    ctx: ServiceFixture, policy: dict[str, Any], reason: str | None
) -> None:
    staff(ctx)
    put(ctx, "enabled")
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"policy": policy})
    found = way(ctx)
    assert found.opens == (reason is None)
    row = ctx.rows(t.source_sign_in)[0]
    door = Door(ctx, row.source_id, source_policies.sign_in_policy(row))
    if reason is None:
        door.come()
        assert way(ctx).bound_at == ctx.rows(t.record, source_id=row.source_id)[0].created_at
        assert len(ctx.rows(t.user)) == 1
        return
    with pytest.raises(SignInRefused) as wrong:
        door.come(preview=True)
    assert (wrong.value.reason, wrong.value.message, wrong.value.hint) == (
        reason,
        found.reason,
        found.hint,
    )
    assert found.message_to_user == "An administrator must confirm your account first."


def test_linked_users_out_of_scope_or_inactive_are_distinguished(ctx: ServiceFixture) -> None:
    put(ctx, "enabled")
    door = Door(ctx, ctx.rows(t.source)[0].id)
    ctx.application()
    door.come(groups=["Site"])
    assignments.add(
        ctx.ctx, ctx.caller, AssignmentRequest("records", "curator", group="Site", source="contractors")
    )
    seen = eligibility.of_user(ctx.ctx, "idris.vance")
    assert (seen.ways[0].opens, [(each.key, each.roles) for each in seen.applications]) == (
        True,
        [("records", ["Curator"])],
    )
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"policy": {"users": 'userName sw "x"'}})
    assert "The user is outside the scope of the source: " in way(ctx).reason
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"policy": {"users": ""}})
    with ctx.ctx.database.writing() as connection:
        connection.execute(update(t.user).values(active=False))
    after = eligibility.of_user(ctx.ctx, "idris.vance")
    assert (after.ways[0].message_to_user, after.applications) == ("Your account is not active.", [])


def test_a_code_is_sent_only_to_addresses_of_the_domain(ctx: ServiceFixture) -> None:
    ctx.source("volunteers")
    given = {"protocol": "email_code", "policy": {"domains": ["volunteers.example"]}}
    sign_in_settings.change(ctx.ctx, ctx.caller, "volunteers", given)
    mail_server.change(
        ctx.ctx, ctx.caller, {"host": "mail.fernhollow.example", "sender": "dravo@fernhollow.example"}
    )
    put(ctx, "enabled")
    staff(ctx)
    found = eligibility.of_user(ctx.ctx, "idris.vance").ways[1]
    assert (found.opens, found.message_to_user, found.protocol) == (
        False,
        "Sign-in with a code is not available for your email address.",
        "emailed code",
    )
    assert "domain" in found.hint
    # Anyone who is bound by an address of the domain gets codes there, whatever other address a source of
    # higher precedence gives them.
    row = ctx.rows(t.source_sign_in, protocol="email_code")[0]
    door = Door(ctx, row.source_id, sign_in_settings.policy_with(row, {"makes": True}))
    door.come("p-1", email=["petra.lind@volunteers.example"], name=["Petra Lind"], registered=[])
    with ctx.ctx.database.writing() as connection:
        connection.execute(
            update(t.user)
            .where(t.user.c.display_name == "Petra Lind")
            .values(email="petra@elsewhere.example")
        )
    petra = {
        each.source.key: each for each in eligibility.of_user(ctx.ctx, "petra.lind@volunteers.example").ways
    }
    assert petra["volunteers"].opens and petra["volunteers"].bound_at


def test_missing_settings_disable_the_sign_in(ctx: ServiceFixture) -> None:
    staff(ctx)
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"policy": OWNED})
    put(ctx, "enabled")
    assert way(ctx).opens
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"fields": {"certificates": ""}})
    found = way(ctx)
    assert (found.opens, found.message_to_user) == (False, found.reason)
    assert (
        "the certificate of the provider" in found.reason
        and "Enter the values on the Sign-in tab." in found.hint
    )


def test_sources_of_operators_alone_are_no_way_in_for_users(ctx: ServiceFixture) -> None:
    staff(ctx)
    sign_in_settings.change(ctx.ctx, ctx.caller, "contractors", {"serves": "operators"})
    assert eligibility.of_user(ctx.ctx, "idris.vance").ways == []
