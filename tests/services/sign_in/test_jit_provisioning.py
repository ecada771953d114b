"""What becomes of somebody who proved who they are; and that nobody becomes somebody else by it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import pytest

from dravo.core.identity.claims import usual_policy
from dravo.core.identity.records import SIGN_IN
from dravo.core.identity.source_policy import BY_EMAIL, GroupChoice, SourcePolicy
from dravo.core.instants import later
from dravo.protocols.saml.metadata import Provider
from dravo.protocols.saml.names import REDIRECT
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.ingest import conflicts
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.sign_in import maintenance
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.jit_provisioning import JitOptions, JitProvisioner
from dravo.services.sign_in.settings import provider, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.verification import JitResult, StepLog
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries import users as user_queries
from tests.saml_provider import key_pair
from tests.service_fixture import ServiceFixture

ISSUER = "https://id.rootworks.example"
CLAIMS: dict[str, Any] = {
    "username": ["idris.vance"],
    "email": ["idris.vance@rootworks.example"],
    "displayname": ["Idris Vance"],
}


@dataclass
class Door:
    """A source by which users sign in."""

    services: ServiceFixture
    source_id: str
    policy: SourcePolicy = field(default_factory=lambda: usual_policy("saml"))

    def come(
        self, subject: str = "s-1", *, preview: bool = False, says_verified: bool = False, **claims: Any
    ) -> JitResult:
        self.steps = StepLog()
        source = self.services.rows(t.source, id=self.source_id)[0]
        proved = VerifiedIdentity(ISSUER, subject, {**CLAIMS, **claims})
        one = JitProvisioner(
            self.services.ctx,
            source,
            self.policy,
            proved,
            self.steps,
            JitOptions(says_verified=says_verified, preview=preview),
        )
        return one.take(one.user())

    def groups_of(self, user_id: str | None) -> set[str]:
        names = {row.id: row.display_name for row in self.services.rows(t.group)}
        mine = {row.id for row in self.services.rows(t.record, user_id=user_id)}
        return {
            names[row.group_id]
            for row in self.services.rows(t.membership)
            if row.record_id in mine and row.until_at is None
        }

    def refused(self, subject: str = "s-1", **claims: Any) -> str:
        with pytest.raises(SignInRefused) as wrong:
            self.come(subject, **claims)
        assert wrong.value.hint
        return f"{wrong.value.reason}: {wrong.value.message}"


@pytest.fixture
def door(services: ServiceFixture) -> Door:
    return Door(services, services.source("contractors"))


def everything(services: ServiceFixture) -> dict[str, list[Any]]:
    return {table.name: [tuple(row) for row in services.rows(table)] for table in t.metadata.sorted_tables}


def test_a_new_user_gets_groups_and_their_access(services: ServiceFixture, door: Door) -> None:
    services.application()
    door.come(groups=["Site"])
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "curator", group="Site", source="contractors"),
    )
    arrived = door.come(
        "s-2", username=["juno.marlow"], email=["juno.marlow@rootworks.example"], groups=["Site", "Yard"]
    )
    assert [(each["role"], each["what"]) for each in arrived.access] == [("Curator", "gained")]
    assert arrived.access[0]["reasons"] == ["Contractors > Site"]
    assert door.groups_of(arrived.user_id) == {"Site", "Yard"}
    assert not services.rows(t.pending_recompute, user_id=arrived.user_id)
    # They come again: nothing changes but what changed.
    again = door.come(
        "s-2", username=["juno.marlow"], email=["juno.marlow@rootworks.example"], groups=["Yard"]
    )
    assert (again.user_id, again.access[0]["what"]) == (arrived.user_id, "lost")


def test_a_look_changes_nothing_and_tells_the_same(services: ServiceFixture, door: Door) -> None:
    services.application()
    door.come(groups=["Site"])
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "curator", group="Site", source="contractors"),
    )
    recompute.process_marks(services.ctx)
    before = everything(services)
    looked = [
        door.come(preview=True, groups=["Site"]),
        door.come(preview=True, groups=[], displayname=["Somebody Else"]),
        door.come(
            "s-2",
            preview=True,
            username=["new"],
            email=["new@rootworks.example"],
            groups=["Site", "Never heard of"],
        ),
    ]
    assert everything(services) == before
    assert [[(each["role"], each["what"]) for each in one.access] for one in looked] == [
        [("Curator", "kept")],
        [("Curator", "lost")],
        [("Curator", "gained")],
    ]
    done = door.come(
        "s-2", username=["new"], email=["new@rootworks.example"], groups=["Site", "Never heard of"]
    )
    assert [(each["role"], each["what"]) for each in done.access] == [("Curator", "gained")]
    assert [each["claimed"] for each in done.groups] == [each["claimed"] for each in looked[2].groups]


def test_the_subject_is_who_a_user_is_whatever_they_are_called(services: ServiceFixture, door: Door) -> None:
    first = door.come()
    married = door.come(username=["idris.hale"], email=["idris.hale@rootworks.example"])
    assert married.user_id == first.user_id
    assert services.rows(t.user)[0].user_name == "idris.hale"
    # Another subject of the same name is not them.
    assert "conflict" in door.refused("s-2", username=["idris.hale"])
    # Nor is the same subject of another issuer.
    source = services.rows(t.source, id=door.source_id)[0]
    other = JitProvisioner(
        services.ctx,
        source,
        door.policy,
        VerifiedIdentity("https://id.elsewhere.example", "s-1", {**CLAIMS, "username": ["idris.hale"]}),
        StepLog(),
        JitOptions(says_verified=False, preview=False),
    )
    with pytest.raises(SignInRefused, match="The sign-in matches an existing user, but not with certainty"):
        other.take(other.user())


# Who could become somebody else


def test_an_email_of_a_domain_that_the_source_does_not_own_links_no_user(
    services: ServiceFixture, door: Door
) -> None:
    staff = services.source("staff")
    services.user(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    door.policy = replace(door.policy, match=BY_EMAIL, domains=("rootworks.example",))
    assert "conflict" in door.refused(username=["una"], email=["una.kerrigan@fernhollow.example"])
    assert not services.rows(t.record, connection_type=SIGN_IN)


@pytest.mark.parametrize(
    ("verified", "links"), [([True], True), (["true"], True), ([False], False), ([], False), (["yes"], False)]
)
def test_an_e_mail_links_only_if_the_provider_vouches_for_it(
    services: ServiceFixture, door: Door, verified: list[Any], links: bool
) -> None:
    staff = services.source("staff", "fernhollow.example")
    services.user(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    door.policy = replace(door.policy, match=BY_EMAIL, domains=("fernhollow.example",))
    claims = {"username": ["una"], "email": ["una.kerrigan@fernhollow.example"], "email_verified": verified}
    if links:
        assert door.come(says_verified=True, **claims).user_id == services.rows(t.user)[0].id
    else:
        assert "conflict" in door.refused(says_verified=True, **claims)


def test_an_e_mail_that_two_have_links_neither(services: ServiceFixture, door: Door) -> None:
    for source, name in (("staff", "una.kerrigan"), ("estates", "u.kerrigan")):
        services.user(services.source(source), name, emails=[{"value": "una@fernhollow.example"}])
    door.policy = replace(door.policy, match=BY_EMAIL, domains=("fernhollow.example",))
    assert "conflict" in door.refused(username=["una"], email=["una@fernhollow.example"])


def test_no_sign_in_becomes_an_operator_or_a_leaver(services: ServiceFixture, door: Door) -> None:
    staff = services.source("staff")
    operators.add(
        services.ctx,
        services.caller,
        NewOperator("una.kerrigan", "super_administrator"),
        "fern-hollow-gate-seven",
    )
    services.user(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    gone = services.user(staff, "perdita.mossop", emails=[{"value": "perdita.mossop@fernhollow.example"}])
    services.intake.remove_user(staff, gone)
    door.policy = replace(door.policy, match=BY_EMAIL, domains=("fernhollow.example",))
    assert "An operator has the user name '" in door.refused(
        "s-1", username=["una.kerrigan"], email=["una.kerrigan@fernhollow.example"]
    )
    assert "A leaver had " in door.refused(
        "s-2", username=["perdita.mossop"], email=["perdita.mossop@fernhollow.example"]
    )


def test_a_group_of_another_source_is_another_group(services: ServiceFixture, door: Door) -> None:
    staff = services.source("staff")
    services.application()
    group = services.group(staff, "Curators")
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "curator", group="Curators", source="staff"),
    )
    for claimed in ("Curators", group):
        arrived = door.come(groups=[claimed])
        assert arrived.access == []
    sources = {row.id: row.source_id for row in services.rows(t.group)}
    assert {sources[row.group_id] for row in services.rows(t.membership)} == {door.source_id}


def test_a_sign_in_activates_no_user(services: ServiceFixture, door: Door) -> None:
    record = services.user(door.source_id, "idris.vance", emails=[{"value": "idris.vance@rootworks.example"}])
    here = door.come()
    user_session = None
    with services.ctx.database.writing() as connection:
        user_session = user_sessions.begin(
            connection, str(here.user_id), door.source_id, VerifiedIdentity(ISSUER, "s-1"), 8
        )
    assert user_sessions.by_secret(services.ctx, user_session) is not None
    assert len(services.rows(t.user)) == 1
    services.patch_user(door.source_id, record, {"op": "replace", "path": "active", "value": False})
    # What the same source pushes of them counts: they are out, also where they were in already, and do not
    # come in again.
    assert not services.rows(t.user)[0].active
    assert user_sessions.by_secret(services.ctx, user_session) is None
    assert door.refused().startswith("inactive")
    assert door.refused(preview=True).startswith("inactive")
    services.intake.remove_user(door.source_id, record)
    assert services.rows(t.user)[0].left_at is not None
    assert door.refused().startswith("inactive")


# Groups out of claims


def test_a_missing_claim_differs_from_an_empty_one(door: Door) -> None:
    here = door.come(groups=["Site", "Yard"])
    assert door.groups_of(door.come().user_id) == {"Site", "Yard"}
    assert any("No claim contains groups (expected: " in each["message"] for each in door.steps.lines)
    assert door.groups_of(door.come(groups=[]).user_id) == set()
    assert door.groups_of(here.user_id) == set()


def test_an_id_in_a_claim_is_the_group_that_the_source_pushed_under_it(
    services: ServiceFixture, door: Door
) -> None:
    services.application()
    services.intake.create_group(
        door.source_id,
        {"displayName": "Tree surgeons", "externalId": "5f2c8a10-77aa-4c1e-9d0f-0a1b2c3d4e5f"},
        (),
    )
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Tree surgeons", source="contractors"),
    )
    arrived = door.come(
        groups=["5F2C8A10-77aa-4c1e-9d0f-0a1b2c3d4e5f", "0000aaaa-77aa-4c1e-9d0f-0a1b2c3d4e5f"]
    )
    assert arrived.groups[0]["group"]["name"] == "Tree surgeons"
    assert [each["role"] for each in arrived.access] == ["Viewer"]
    assert any("looks like an ID" in each["message"] for each in door.steps.lines)


def test_groups_that_are_not_chosen_are_left_out(door: Door) -> None:
    door.policy = replace(door.policy, groups=GroupChoice("named", ("Site",)))
    arrived = door.come(groups=["Site", "Chess club"])
    assert [each["outcome"] for each in arrived.groups] == ["created", "ignored"]
    assert door.groups_of(arrived.user_id) == {"Site"}


def test_claimed_memberships_expire_without_sign_ins(services: ServiceFixture, door: Door) -> None:
    services.application()
    sign_in_settings.change(
        services.ctx, services.caller, "contractors", {"protocol": "saml", "settings": {"claim_days": 30}}
    )
    door.come(groups=["Site"])
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Site", source="contractors"),
    )
    here = door.come(groups=["Site"])
    now = clock.now()
    assert maintenance.lapse(services.ctx, later(now, 29 * 86_400)) == 0
    assert maintenance.lapse(services.ctx, later(now, 31 * 86_400)) == 1
    recompute.process_marks(services.ctx)
    assert door.groups_of(here.user_id) == set()
    assert not [row for row in services.rows(t.access) if row.until_at is None]
    assert [each["what"] for each in door.come(groups=["Site"]).access] == ["gained"]


def test_users_without_sign_in_become_inactive_and_return_with_the_next(
    services: ServiceFixture, door: Door
) -> None:
    services.application()
    given = {"protocol": "saml", "settings": {"inactive_days": 30}}
    sign_in_settings.change(services.ctx, services.caller, "contractors", given)
    idle = door.come("s-1")
    door.come("s-2", username=["juno"], email=["juno@rootworks.example"])
    both = door.come("s-3", username=["odalys"], email=["odalys@rootworks.example"])
    record = services.user(services.source("other"), "odalys.other")
    with services.ctx.database.writing() as connection:
        connection.execute(t.record.update().where(t.record.c.id == record).values(user_id=both.user_id))
        connection.execute(t.source_sign_in.update().values(status="enabled"))
    wish = AssignmentRequest("records", "viewer", user=idle.user_id)
    assignments.add(services.ctx, services.caller, wish)

    def age(days: int, *subjects: str) -> None:
        ids = [f"{ISSUER}\n{each}" for each in subjects]
        with services.ctx.database.writing() as connection:
            chosen = t.record.update().where(t.record.c.native_id.in_(ids))
            connection.execute(chosen.values(signed_in_at=later(clock.now(), -86_400 * days)))

    def active() -> set[str]:
        recompute.process_marks(services.ctx)
        return {row.user_name for row in services.rows(t.user) if row.active}

    now = clock.now()
    age(29, "s-1", "s-3")
    assert maintenance.deactivate_idle(services.ctx, now) == 0
    # Where nobody signs in, the sign-in itself has failed.
    age(31, "s-1", "s-2", "s-3")
    assert maintenance.deactivate_idle(services.ctx, now) == 0
    age(1, "s-2")
    caller = services.caller
    effects = rollout.preview_settings(
        services.ctx, caller, "contractors", {"settings": {"inactive_days": 7}}
    )
    assert any("2 users become inactive" in line for line in effects.sentences), effects.sentences
    assert maintenance.deactivate_idle(services.ctx, now) == 2
    with services.ctx.database.reading() as connection:
        (shown,) = user_queries.records_of(connection, str(idle.user_id))
    assert (shown.idle, shown.active, shown.left_out) == (True, False, None)
    # A user that another source reports as active stays active.
    assert active() == {"juno", "odalys.other"}
    assert not [row for row in services.rows(t.access) if row.until_at is None]
    assert services.rows(t.audit)[-1].action == "deactivated users without sign-in"
    assert maintenance.deactivate_idle(services.ctx, now) == 0
    looked = door.come("s-1", preview=True)
    assert [each["what"] for each in looked.access] == ["gained"] and "idris.vance" not in active()
    again = door.come("s-1")
    assert again.user_id == idle.user_id and "idris.vance" in active()
    assert [each["what"] for each in again.access] == ["gained"]


def test_a_refused_user_and_a_refused_creation_are_explained(services: ServiceFixture, door: Door) -> None:
    door.policy = replace(door.policy, users='emails co "@rootworks.example"')
    assert door.refused(email=["x@elsewhere.example"]).startswith("outside")
    door.policy = replace(door.policy, users="", makes=False)
    assert door.refused().startswith("unknown_user")
    door.policy = replace(door.policy, attributes=(("userName", "staffnumber"),))
    assert "Received claims: displayname, email, subject, username" in door.refused()
    assert not services.rows(t.user)


def test_a_decided_conflict_allows_the_next_sign_in(services: ServiceFixture, door: Door) -> None:
    sign_in_settings.change(services.ctx, services.caller, "contractors", {"protocol": "saml"})
    staff = services.source("staff")
    services.user(staff, "idris.vance")
    door.refused()
    line = conflicts.list_conflicts(services.ctx, services.caller, "contractors", PageRequest()).items[0]
    assert line.kind == "name_known"
    assert (
        len(conflicts.list_conflicts(services.ctx, services.caller, "contractors", PageRequest()).items) == 1
    )
    conflicts.decide(services.ctx, services.caller, "contractors", line.id, "link", "idris.vance")
    arrived = door.come(groups=["Site"])
    assert arrived.user_id == services.rows(t.user)[0].id
    assert len(services.rows(t.user)) == 1
    assert door.groups_of(arrived.user_id) == {"Site"}


def test_another_certificate_at_the_providers_address_waits_or_is_taken_over(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.source("contractors")
    first, second = key_pair("provider")[1], key_pair("next")[1]
    published = [Provider(ISSUER, {REDIRECT: f"{ISSUER}/in"}, {}, (first,))]
    for module in (provider, maintenance):
        monkeypatch.setattr(module, "fetch_metadata", lambda *_: published[-1])
    sign_in_settings.change(
        services.ctx,
        services.caller,
        "contractors",
        {"protocol": "saml", "settings": {"metadata_url": f"{ISSUER}/metadata"}},
    )
    rollout.set_status(services.ctx, services.caller, "contractors", "enabled", confirm="Contractors")

    def kept() -> list[str]:
        return list(services.rows(t.source_sign_in)[0].provider["certificates"])

    def looked(days: int) -> Any:
        maintenance.look_at_addresses(services.ctx, later(clock.now(), 86_400 * days))
        return sources.one(services.ctx, "contractors").sign_in_needs

    assert looked(2) is None
    published.append(replace(published[0], certificates=(first, second)))
    assert "The provider has a new certificate, which is not accepted yet." in looked(4)
    assert kept() == [first.pem]
    sign_in_settings.use_waiting_certificates(services.ctx, services.caller, "contractors")
    assert kept() == [first.pem, second.pem]
    # Another provider at the same address is not taken for it.
    published.append(replace(published[0], entity_id="https://elsewhere.example", certificates=(second,)))
    assert "'. Dravo did not accept it." in looked(6)
    published.append(replace(published[0], certificates=(second,)))
    sign_in_settings.change(
        services.ctx, services.caller, "contractors", {"settings": {"auto_accept_certificates": True}}
    )
    assert looked(8) is None
    assert kept() == [second.pem]
    told = [row.action for row in services.rows(t.audit)]
    assert told.count("found new certificates") == 1
    assert told.count("accepted certificates") == 2
    (event,) = services.rows(t.notification_event)
    assert event.kind == "provider_updated" and "the new values: certificates." in event.text
