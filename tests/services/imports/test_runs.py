"""A real directory is read: what changes there changes here, and nobody leaves who was only not read."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.demo import directory
from dravo.demo.directory import group_dn, user_dn
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes.recompute import process_marks
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.imports import config as import_config
from dravo.services.imports import refresh as import_refresh
from dravo.services.imports import run as import_run
from dravo.services.imports import runs as import_runs
from dravo.services.ingest import conflicts, record_links
from dravo.services.policies import preview as policy_preview
from dravo.services.sources import priority as source_priority
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.directories import Estates, Reading, crowd, estates
from tests.harness import eventually
from tests.scale import sized
from tests.service_fixture import ServiceFixture

Read = Callable[..., Reading]


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Estates]:
    """A directory of three, in two groups, one within the other."""
    users = [
        ("una.kerrigan", "Una", "Kerrigan"),
        ("ibrahim.sow", "Ibrahim", "Sow"),
        ("zofia.wisniarska", "Zofia", "Wiśniarska"),
    ]
    entries = "".join(
        directory.user(uid, given, family, {"mail": [f"{uid}@fernhollow.example"]})
        for uid, given, family in users
    )
    entries += directory.group("Tree surgeons", [user_dn("una.kerrigan")])
    entries += directory.group("Estates, all", [group_dn("Tree surgeons"), user_dn("ibrahim.sow")])
    with estates(tmp_path / "directory", entries) as made:
        yield made


@pytest.fixture
def read(services: ServiceFixture, small: Estates) -> Read:
    return lambda **more: Reading(
        services, "ldap", {**small.settings, **more.pop("settings", {})}, directory.READER_PASSWORD, **more
    )


def access(services: ServiceFixture) -> set[tuple[str, str]]:
    """Return (user name, role) of everyone who has something now."""
    process_marks(services.ctx)
    users = {row.id: row.user_name for row in services.rows(t.user)}
    roles = {row.id: row.key for row in services.rows(t.role)}
    return {
        (users[row.user_id], roles[row.role_id]) for row in services.rows(t.access) if row.until_at is None
    }


def test_users_groups_and_nested_groups_are_imported_with_their_access(
    services: ServiceFixture, read: Read
) -> None:
    reading = read()
    services.application()
    run = reading.run()
    assert (run["status"], run["new"], run["groups_new"], run["memberships_new"]) == ("done", 3, 2, 3)
    zofia = reading.records()["zofia.wisniarska"].data
    assert zofia["name"] == {"givenName": "Zofia", "familyName": "Wiśniarska"}
    assert zofia["emails"] == [{"type": "work", "value": "zofia.wisniarska@fernhollow.example"}]
    assert reading.members("Estates, all") == {"Tree surgeons", "ibrahim.sow"}
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Estates, all", source="estates"),
    )
    assert access(services) == {("una.kerrigan", "viewer"), ("ibrahim.sow", "viewer")}


def test_adding_changing_renaming_moving_disabling_and_deleting(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.unguarded()
    services.application()
    reading = read(
        policy={
            "attributes": [
                {"attribute": "userName", "expression": "uid"},
                {"attribute": "displayName", "expression": "displayName"},
                {"attribute": "title", "expression": "title"},
                {"attribute": "active", "expression": 'false when [employeeType eq "left"] else true'},
            ]
        }
    )
    reading.run()
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Estates, all", source="estates"),
    )
    before = {name: row.user_id for name, row in reading.records().items()}
    small.add_user("stellan.nyberg", "Stellan", "Nyberg")
    small.change(group_dn("Estates, all"), member=[group_dn("Tree surgeons"), user_dn("stellan.nyberg")])
    small.change(user_dn("una.kerrigan"), title=["Tree surgeon"])
    small.rename("zofia.wisniarska", "zofia.marchbanks")
    run = reading.run(whole=True)
    assert (run["new"], run["changed"], run["memberships_new"], run["memberships_ended"]) == (1, 2, 1, 1)
    assert {
        line.name: [each.attribute for each in line.changes] for line in reading.lines(run, "changed")
    } == {
        "Una Kerrigan": ["title"],
        "Zofia Wiśniarska": ["userName"],
    }
    # Renamed in the directory, and the same user here.
    assert reading.records()["zofia.marchbanks"].user_id == before["zofia.wisniarska"]
    assert access(services) == {("una.kerrigan", "viewer"), ("stellan.nyberg", "viewer")}
    small.keeper.add_s(
        f"ou=gardens,{directory.USERS}", [("objectClass", b"organizationalUnit"), ("ou", b"gardens")]
    )
    small.keeper.rename_s(user_dn("una.kerrigan"), "uid=una.kerrigan", f"ou=gardens,{directory.USERS}")
    small.change(group_dn("Tree surgeons"), member=[f"uid=una.kerrigan,ou=gardens,{directory.USERS}"])
    small.change(user_dn("stellan.nyberg"), employeeType=["left"])
    small.remove(user_dn("ibrahim.sow"))
    run = reading.run(whole=True)
    assert (run["left"], run["changed"], run["status"]) == (1, 1, "done")
    assert access(services) == {("una.kerrigan", "viewer")}
    assert {row.user_name: (row.active, row.left_at is None) for row in services.rows(t.user)} == {
        "una.kerrigan": (True, True),
        "zofia.marchbanks": (True, True),
        "stellan.nyberg": (False, True),
        "ibrahim.sow": (False, False),
    }


def test_a_delta_run_reads_changes_only_and_removes_no_users(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    reading = read()
    assert reading.run()["whole"]
    # The directory counts whole seconds: the change is to be in another one.
    read_in = int(time.time())
    eventually(lambda: int(time.time()) > read_in)
    small.change(user_dn("una.kerrigan"), title=["Tree surgeon"])
    small.remove(user_dn("ibrahim.sow"))
    run = reading.run()
    assert (run["whole"], run["progress"] < 3, run["changed"]) == (False, True, 1)
    assert "ibrahim.sow" in reading.records()
    with services.ctx.database.writing() as connection:
        connection.execute(t.source_import.update().values(full_at="2031-01-01T00:00:00.000000Z"))
    run = reading.run()
    assert (run["whole"], run["left"]) == (True, 1)


def test_reading_again_what_did_not_change_changes_nothing(services: ServiceFixture, read: Read) -> None:
    reading = read()
    reading.run()
    before = [services.rows(table) for table in (t.user, t.record, t.group, t.membership, t.access)]
    run = reading.run(whole=True)
    assert (run["unchanged"], reading.lines(run)) == (3, [])
    assert [services.rows(table) for table in (t.user, t.record, t.group, t.membership, t.access)] == before


def test_a_look_changes_nothing_and_tells_what_a_run_would_do(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    reading = read(enabled=False)
    with pytest.raises(InvalidInput, match="' is disabled"):
        reading.run()
    run = reading.run(preview=True)
    assert (run["status"], run["new"], run["groups_new"]) == ("done", 3, 2)
    assert {line.name for line in reading.lines(run, "new")} == {
        "Una Kerrigan",
        "Ibrahim Sow",
        "Zofia Wiśniarska",
    }
    for table in (t.user, t.record, t.group, t.membership, t.conflict):
        assert services.rows(table) == []
    reading.change(enabled=True)
    assert reading.run()["new"] == 3


def test_a_look_tells_who_would_gain_and_lose_which_role(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.unguarded()
    services.application()
    reading = read()
    reading.run()
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Tree surgeons", source="estates"),
    )
    # Another role is the highest, which a rule gives to confirmed users only.
    provisioning_roles.add_role(services.ctx, services.caller, "records", "owner", RoleEdit("Owner", 9))
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "curator", rule='title eq "Keeper"')
    )
    before = access(services)
    # One comes into the group and is new, one is there and comes, one leaves it, and one gets a title that a
    # rule asks for.
    small.add_user("stellan.nyberg", "Stellan", "Nyberg", title=["Keeper"])
    small.change(group_dn("Tree surgeons"), member=[user_dn("stellan.nyberg"), user_dn("ibrahim.sow")])
    small.remove(user_dn("zofia.wisniarska"))
    run = reading.run(preview=True)
    assert run["access"] == [
        {"application": "Records", "role": "Curator", "gained": 1, "lost": 0},
        {"application": "Records", "role": "Viewer", "gained": 2, "lost": 1},
    ]
    assert access(services) == before == {("una.kerrigan", "viewer")}
    reading.run(whole=True)
    assert access(services) == {
        ("stellan.nyberg", "viewer"),
        ("stellan.nyberg", "curator"),
        ("ibrahim.sow", "viewer"),
    }


def test_thousands_of_users_an_outage_in_the_middle_and_a_suspiciously_small_answer(
    services: ServiceFixture, tmp_path: Path
) -> None:
    settings.change(services.ctx, services.caller, "removal_limit_percent", 10)
    number, groups = sized((1_000, 40), (5_000, 200))
    with estates(tmp_path / "large", crowd(number, groups, 50)) as large:
        reading = Reading(services, "ldap", large.settings, directory.READER_PASSWORD)
        run = reading.run()
        assert (run["new"], run["groups_new"], run["memberships_new"]) == (number, groups, groups * 50)
        large.stop()
        run = reading.run(whole=True)
        assert (run["status"], len(reading.records())) == ("failed", number)
        assert "" in run["message"] and run["hint"]
        large.start()
        # Somebody narrows the filter by mistake: few answer, and nobody leaves.
        reading.change(settings={"users_filter": "(&(objectClass=inetOrgPerson)(givenName=Fern))"})
        run = reading.run()
        assert (run["status"], len(reading.records())) == ("held", number)
        assert (
            " are missing, above the removal limit. Nothing was removed." in run["message"]
            and "Check the missing entries. If they are right, run the import again with removals allowed."
            in run["hint"]
        )
        assert all(line.user for line in reading.lines(run, "missing"))
        with pytest.raises(NeedsConfirmation):
            reading.run(allow_removals=True, confirmed="estates")
        run = reading.run(allow_removals=True, confirmed="Estates")
        assert (run["status"], run["left"] + len(reading.records())) == ("done", number)
        # They come back as who they were.
        users = {row.id for row in services.rows(t.user)}
        reading.change(settings={"users_filter": "(objectClass=inetOrgPerson)"})
        run = reading.run()
        assert run["back"] == number - run["unchanged"] and {row.id for row in services.rows(t.user)} == users
        assert len(reading.members("Team 0")) == 50


def test_an_answer_that_is_cut_by_a_limit_is_no_whole_answer(
    services: ServiceFixture, tmp_path: Path
) -> None:
    with estates(tmp_path / "limited", crowd(60, 1, 5), sizelimit="20") as limited:
        reading = Reading(services, "ldap", limited.settings, directory.READER_PASSWORD)
        run = reading.run()
        assert (
            run["status"] == "failed"
            and "Raise the size limit for this account. The result is incomplete." in run["hint"]
        )


def test_an_empty_answer_is_never_believed(services: ServiceFixture, read: Read, small: Estates) -> None:
    services.unguarded()
    reading = read()
    reading.run()
    reading.change(settings={"users_filter": "(uid=nobody)"})
    assert reading.run()["status"] == "held"
    assert len(reading.records()) == 3


def test_an_entry_with_an_unreadable_id_removes_no_users(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    everything = [
        *map(user_dn, ("una.kerrigan", "ibrahim.sow", "zofia.wisniarska")),
        group_dn("Tree surgeons"),
        group_dn("Estates, all"),
    ]
    for number, dn in enumerate(everything):
        small.change(dn, description=[str(number)])
    reading = read(settings={"id_attribute": "description"})
    services.application()
    assert reading.run()["new"] == 3
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Estates, all", source="estates"),
    )
    small.change(user_dn("una.kerrigan"), description=[])
    run = reading.run(whole=True)
    assert (run["status"], run["unreadable"]) == ("held", 1) and "Dravo removed nothing" in run["message"]
    assert [line.name for line in reading.lines(run, "unreadable")] == [user_dn("una.kerrigan")]
    assert access(services) == {("una.kerrigan", "viewer"), ("ibrahim.sow", "viewer")}


def test_scope_of_users_and_groups(services: ServiceFixture, read: Read) -> None:
    services.unguarded()
    reading = read(
        policy={"users": 'userName ne "ibrahim.sow"', "groups": {"which": "pattern", "pattern": "^Tree"}}
    )
    run = reading.run()
    assert (run["new"], run["outside"], run["groups_new"]) == (2, 1, 1)
    assert set(reading.records()) == {"una.kerrigan", "zofia.wisniarska"}
    # Who falls outside later is a leaver here; who comes inside comes in, with the groups that listed them
    # all the while.
    reading.change(policy={"users": 'userName ne "una.kerrigan"', "groups": {"which": "all"}})
    run = reading.run()
    assert (run["left"], run["new"]) == (1, 1)
    reading.change(policy={"users": ""})
    assert reading.run()["back"] == 1
    assert reading.members("Tree surgeons") == {"una.kerrigan"}


def test_no_record_takes_over_a_user_by_name_or_email(services: ServiceFixture, read: Read) -> None:
    staff = services.source("staff")
    services.user(staff, "una.kerrigan")
    services.user(staff, "i.sow", emails=[{"value": "ibrahim.sow@fernhollow.example"}])
    reading = read()
    run = reading.run()
    assert (run["new"], run["conflict"]) == (1, 2)
    waiting = conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    assert {each.name: (each.kind, [one.user_name for one in each.candidates]) for each in waiting} == {
        "Una Kerrigan": ("name_known", ["una.kerrigan"]),
        "Ibrahim Sow": ("email_known", ["i.sow"]),
    }
    by_name = {each.name: each for each in waiting}
    with pytest.raises(InvalidInput, match="The user to link is missing"):
        conflicts.decide(services.ctx, services.caller, "estates", by_name["Una Kerrigan"].id, "link")
    conflicts.decide(
        services.ctx, services.caller, "estates", by_name["Una Kerrigan"].id, "link", "una.kerrigan"
    )
    conflicts.decide(services.ctx, services.caller, "estates", by_name["Ibrahim Sow"].id, "create")
    records = reading.records()
    users = {row.id: row for row in services.rows(t.user)}
    assert len(services.rows(t.record, user_id=records["una.kerrigan"].user_id)) == 2
    assert users[records["ibrahim.sow"].user_id].user_name == "ibrahim.sow" and len(users) == 4
    assert conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items == []
    # The lists that named them are looked at again, though they did not change.
    reading.run(whole=True)
    assert reading.members("Estates, all") == {"Tree surgeons", "ibrahim.sow"}
    with pytest.raises(NotFound):
        conflicts.decide(services.ctx, services.caller, "estates", by_name["Ibrahim Sow"].id, "create")


def test_a_match_rule_needs_the_domains_that_the_source_owns(read: Read) -> None:
    with pytest.raises(InvalidInput, match="domains"):
        read(policy={"match": "user_name"})


def test_the_match_rule_links_only_within_the_domains_of_the_source(
    services: ServiceFixture, small: Estates
) -> None:
    staff = services.source("staff", "fernhollow.example")
    services.user(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    services.user(staff, "ibrahim.sow", emails=[{"value": "ibrahim@elsewhere.example"}])
    reading = Reading(
        services,
        "ldap",
        small.settings,
        directory.READER_PASSWORD,
        policy={"match": "user_name", "domains": ["fernhollow.example"]},
    )
    run = reading.run()
    assert (run["new"], run["conflict"]) == (2, 1)
    assert len(services.rows(t.record, user_id=reading.records()["una.kerrigan"].user_id)) == 2
    assert [
        each.name
        for each in conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    ] == ["Ibrahim Sow"]


def test_a_user_with_a_leavers_name_inherits_nothing(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.unguarded()
    services.application()
    reading = read()
    reading.run()
    una = reading.records()["una.kerrigan"].user_id
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", user=una))
    small.remove(user_dn("una.kerrigan"))
    reading.run(whole=True)
    small.add_user("una.kerrigan", "Ulric", "Kerrigan")
    run = reading.run(whole=True)
    assert run["conflict"] == 1 and access(services) == set()
    waiting = conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    assert [(each.kind, each.choices) for each in waiting] == [("leaver", ["link", "create", "ignore"])]
    conflicts.decide(services.ctx, services.caller, "estates", waiting[0].id, "create")
    assert reading.records()["una.kerrigan"].user_id != una and access(services) == set()


def test_user_names_may_change_hands_within_one_reading(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    reading = read()
    reading.run()
    before = {name: row.user_id for name, row in reading.records().items()}
    small.rename("una.kerrigan", "somebody")
    small.rename("ibrahim.sow", "una.kerrigan")
    small.rename("somebody", "ibrahim.sow")
    run = reading.run(whole=True)
    after = {name: row.user_id for name, row in reading.records().items()}
    assert (run["changed"], "conflict" in run) == (2, False)
    assert (after["una.kerrigan"], after["ibrahim.sow"]) == (before["ibrahim.sow"], before["una.kerrigan"])


def test_a_new_user_name_that_another_user_has_waits_for_a_decision(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.user(services.source("staff"), "u.kerrigan")
    reading = read()
    reading.run()
    small.rename("una.kerrigan", "u.kerrigan")
    run = reading.run(whole=True)
    assert run["conflict"] == 1 and "una.kerrigan" in reading.records()
    waiting = conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    assert [(each.kind, each.choices) for each in waiting] == [("renamed", ["accept", "ignore"])]
    conflicts.decide(services.ctx, services.caller, "estates", waiting[0].id, "accept")
    assert "u.kerrigan" in reading.records()


def test_two_groups_of_one_name_are_not_confused(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    small.keeper.add_s(f"ou=old,{directory.GROUPS}", [("objectClass", b"organizationalUnit"), ("ou", b"old")])
    twin = f"cn=tree surgeons,ou=old,{directory.GROUPS}"
    small.keeper.add_s(
        twin,
        [
            ("objectClass", b"groupOfNames"),
            ("cn", b"tree surgeons"),
            ("member", user_dn("ibrahim.sow").encode()),
        ],
    )
    reading = read()
    run = reading.run()
    assert (run["groups_new"], run["conflict"]) == (2, 1)
    waiting = conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    assert [(each.subject, each.kind) for each in waiting] == [("group", "group_name")]
    conflicts.decide(services.ctx, services.caller, "estates", waiting[0].id, "accept")
    assert reading.run()["groups_new"] == 1


def test_one_user_is_read_again_at_once_with_their_groups(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    reading = read()
    reading.run()
    zofia = reading.records()["zofia.wisniarska"].user_id
    small.change(user_dn("zofia.wisniarska"), title=["Botanist"])
    small.change(group_dn("Tree surgeons"), member=[user_dn("una.kerrigan"), user_dn("zofia.wisniarska")])
    small.remove(user_dn("ibrahim.sow"))
    import_refresh.refresh(services.ctx, services.caller, "estates", zofia)
    assert reading.records()["zofia.wisniarska"].data["title"] == "Botanist"
    assert reading.members("Tree surgeons") == {"una.kerrigan", "zofia.wisniarska"}
    with pytest.raises(NotFound, match="' no longer reports this user"):
        import_refresh.refresh(
            services.ctx, services.caller, "estates", reading.records()["ibrahim.sow"].user_id
        )
    assert "ibrahim.sow" in reading.records()


def test_an_interrupted_run_resumes_and_never_runs_twice(services: ServiceFixture, read: Read) -> None:
    reading = read()
    import_runs.request_run(services.ctx, services.caller, "estates")
    with pytest.raises(AlreadyExists):
        import_runs.request_run(services.ctx, services.caller, "estates")
    run_id, _ = import_runs.next_requested(services.ctx, set()) or ("", "")
    assert import_runs.next_requested(services.ctx, {reading.source_id}) is None
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.run.update().where(t.run.c.id == run_id).values(status="running", started_at=clock.now())
        )
    import_runs.requeue_interrupted(services.ctx)
    again, _ = import_runs.next_requested(services.ctx, set()) or ("", "")
    assert again != run_id and import_runs.one_run(services.ctx, run_id).status == "failed"
    import_run.carry_out(services.ctx, again)
    assert len(reading.records()) == 3


def test_a_run_is_stopped_and_leaves_what_is_whole(
    services: ServiceFixture, read: Read, monkeypatch: pytest.MonkeyPatch
) -> None:
    reading = read()
    monkeypatch.setattr(import_run, "BATCH", 1)
    monkeypatch.setattr(import_run, "TELL_SECONDS", 0.0)
    run = import_runs.request_run(services.ctx, services.caller, "estates")
    with services.ctx.database.writing() as connection:
        connection.execute(t.run.update().values(stop_requested=True))
    import_run.carry_out(services.ctx, run.id)
    found = import_runs.one_run(services.ctx, run.id)
    assert (found.status, len(reading.records())) == ("stopped", 1)
    assert reading.run()["status"] == "done" and len(reading.records()) == 3


def test_the_schedule_asks_once_for_what_was_missed_and_not_while_in_preparation(
    services: ServiceFixture, read: Read
) -> None:
    reading = read(schedule="0 * * * *")
    kept = import_config.shown(services.ctx, "estates")
    assert (kept.schedule_words, len(kept.next_at)) == ("Every hour", 3)
    with services.ctx.database.writing() as connection:
        connection.execute(t.source_import.update().values(next_at="2026-01-01T00:00:00.000000Z"))
    import_runs.request_scheduled(services.ctx, clock.now())
    import_runs.request_scheduled(services.ctx, clock.now())
    assert [run.requested_by for run in services.rows(t.run)] == ["the schedule"]
    reading.change(enabled=False)
    assert import_config.shown(services.ctx, "estates").next_at == []


def test_a_changed_address_clears_the_secret(services: ServiceFixture, read: Read, small: Estates) -> None:
    reading = read()
    assert import_config.shown(services.ctx, "estates").has_secret
    assert "reader-of-the-estates" not in str(import_config.shown(services.ctx, "estates"))
    after = reading.change(settings={"address": "ldaps://elsewhere.example"})
    assert not after.has_secret
    tried = import_config.check(services.ctx, services.caller, "estates", {"settings": small.settings})
    assert [step.outcome for step in tried.steps][2] == "failed" and "password is missing" in tried.steps[
        2
    ].message


def test_a_policy_is_previewed_on_stored_records(services: ServiceFixture, read: Read) -> None:
    reading = read()
    reading.run()
    found = policy_preview.try_policy(services.ctx, "estates", "import", {"users": 'userName sw "una"'})
    assert (found.looked_at, found.leaves, found.accepted) == (3, 2, 1)
    found = policy_preview.try_policy(
        services.ctx, "estates", "import", {"groups": {"which": "pattern", "pattern": "^Tree"}}
    )
    assert [(each.name, each.accepted) for each in found.groups] == [
        ("Estates, all", False),
        ("Tree surgeons", True),
    ]
    rows = [{"attribute": "userName", "expression": "uid then upper"}]
    found = policy_preview.try_policy(services.ctx, "estates", "import", {"attributes": rows})
    assert found.changed == 3 and found.items[0].changes[0].attribute == "userName"
    assert set(reading.records()) == {"una.kerrigan", "ibrahim.sow", "zofia.wisniarska"}
    with pytest.raises(InvalidInput, match="The expression for userName is missing"):
        policy_preview.try_policy(services.ctx, "estates", "import", {"attributes": []})


def test_whose_word_counts_is_looked_at_and_then_counts(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.application()
    staff = services.source("staff", "fernhollow.example")
    record = services.user(
        staff, "una.kerrigan", title="Lead", emails=[{"value": "una.kerrigan@fernhollow.example"}]
    )
    reading = read(policy={"match": "user_name", "domains": ["fernhollow.example"]})
    small.change(user_dn("una.kerrigan"), title=["Tree surgeon"])
    reading.run()
    provisioning_roles.add_role(services.ctx, services.caller, "records", "owner", RoleEdit("Owner", 9))
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "curator", rule='title eq "Tree surgeon"')
    )

    def una() -> tuple[str, bool]:
        process_marks(services.ctx)
        row = next(row for row in services.rows(t.user) if row.user_name == "una.kerrigan")
        return row.attributes["title"], row.active

    assert una() == ("Lead", True) and access(services) == set()
    seen = source_priority.preview(services.ctx, "estates", {"priority": 1})
    assert (seen.gained, seen.lost) == (1, 0) and una() == ("Lead", True)
    source_priority.change(services.ctx, services.caller, "estates", {"priority": 1})
    assert una() == ("Tree surgeon", True) and access(services) == {("una.kerrigan", "curator")}
    source_priority.change(services.ctx, services.caller, "estates", {"updates": False})
    assert una() == ("Lead", True) and access(services) == set()
    # Inactive there, and active by the word of another source; until that source's inactive counts whatever
    # others say.
    services.patch_user(staff, record, {"op": "replace", "path": "active", "value": False})
    assert una()[1]
    source_priority.change(services.ctx, services.caller, "staff", {"deactivation_wins": True})
    assert una()[1] is False
    with pytest.raises(InvalidInput, match=" is not a valid priority"):
        source_priority.change(services.ctx, services.caller, "estates", {"priority": -1})


def test_records_are_linked_and_unlinked_with_a_preview(
    services: ServiceFixture, read: Read, small: Estates
) -> None:
    services.unguarded()
    services.application()
    staff = services.source("staff", "fernhollow.example")
    services.user(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    reading = read(policy={"match": "user_name", "domains": ["fernhollow.example"]})
    reading.run()
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Tree surgeons", source="estates"),
    )
    assert access(services) == {("una.kerrigan", "viewer")}
    record = reading.records()["una.kerrigan"]
    with pytest.raises(InvalidInput, match="This source already has a record of Ibrahim Sow"):
        record_links.preview(services.ctx, record.id, "ibrahim.sow")
    seen = record_links.preview(services.ctx, record.id, None)
    assert seen.lost == 1 and access(services) == {("una.kerrigan", "viewer")}
    made = record_links.move(services.ctx, services.caller, record.id, None)
    assert made != record.user_id and reading.records()["una.kerrigan"].user_id == made
    process_marks(services.ctx)
    assert {row.user_id for row in services.rows(t.access) if row.until_at is None} == {made}
    # Linked back: anyone who nothing is said of any more is a memory.
    record_links.move(services.ctx, services.caller, record.id, record.user_id)
    process_marks(services.ctx)
    assert {row.user_id for row in services.rows(t.access) if row.until_at is None} == {record.user_id}
    assert [row.left_at is not None for row in services.rows(t.user, id=made)] == [True]
    # The next reading changes nothing about that.
    assert reading.run(whole=True)["unchanged"] == 3
    assert reading.records()["una.kerrigan"].user_id == record.user_id
    only = reading.records()["ibrahim.sow"]
    with pytest.raises(InvalidInput, match="only record"):
        record_links.move(services.ctx, services.caller, only.id, None)


def test_a_pilot_group_precedes_all_users(services: ServiceFixture, read: Read, small: Estates) -> None:
    reading = read(policy={"pilot": "estates, ALL"})
    run = reading.run()
    # In the group, or in a group within it.
    assert (run["new"], run["not_in_pilot"]) == (2, 1) and set(reading.records()) == {
        "una.kerrigan",
        "ibrahim.sow",
    }
    reading.change(policy={"pilot": "Nobody's"})
    run = reading.run()
    assert run["status"] == "failed" and "no group 'Nobody's'" in run["message"]
    reading.change(policy={"pilot": "Tree surgeons"})
    small.change(user_dn("ibrahim.sow"), title=["Plumber"])
    run = reading.run()
    # Who is not in it is left as they are, and does not leave.
    assert (run.get("left", 0), run["not_in_pilot"]) == (0, 2) and "title" not in reading.records()[
        "ibrahim.sow"
    ].data
    reading.change(policy={"pilot": ""})
    run = reading.run()
    assert (run["new"], run["changed"]) == (1, 1)


def test_it_is_in_force_from_an_hour_on_and_back(services: ServiceFixture, read: Read) -> None:
    reading = read(enabled=False)
    with pytest.raises(InvalidInput, match="The start time is in the past"):
        reading.change(enabled_from="2026-01-01T00:00:00Z")
    assert reading.change(enabled_from="2031-01-01T06:00:00Z").enabled_from
    import_runs.request_scheduled(services.ctx, Instant("2031-01-01T05:59:59.000000Z"))
    assert not import_config.shown(services.ctx, "estates").enabled
    import_runs.request_scheduled(services.ctx, Instant("2031-01-01T06:00:00.000000Z"))
    assert import_config.shown(services.ctx, "estates").enabled and [
        run.status for run in services.rows(t.run)
    ] == ["waiting"]
    assert not reading.change(enabled=False).enabled


def test_run_entries_expire_and_counts_stay(services: ServiceFixture, read: Read) -> None:
    run = read().run()
    import_runs.sweep(services.ctx, clock.now(), 1)
    assert len(services.rows(t.run_entry)) > 0
    import_runs.sweep(services.ctx, Instant("2031-01-01T00:00:00.000000Z"), 90)
    assert services.rows(t.run_entry) == [] and import_runs.one_run(services.ctx, run["id"]).counts
