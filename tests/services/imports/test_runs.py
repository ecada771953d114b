"""A real directory is read: what changes there changes here, and nobody leaves who was only not read."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.demo import directory
from dravo.demo.directory import group_dn, person_dn
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignments import Wish
from dravo.services.changes.recompute import work_through
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.imports import config as import_config
from dravo.services.imports import refresh as import_refresh
from dravo.services.imports import run as import_run
from dravo.services.imports import runs as import_runs
from dravo.services.ingest import conflicts, record_links
from dravo.services.provisioning import roles as provisioning_roles
from dravo.services.sources import priority as source_priority
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.directories import Estates, Reading, crowd, estates
from tests.harness import eventually
from tests.scale import sized
from tests.service_fixture import Rooms

Read = Callable[..., Reading]


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Estates]:
    """A directory of three, in two groups, one within the other."""
    people = [("una.kerrigan", "Una", "Kerrigan"), ("ibrahim.sow", "Ibrahim", "Sow"), ("zofia.wisniarska", "Zofia", "Wiśniarska")]
    entries = "".join(directory.person(uid, given, family, {"mail": [f"{uid}@fernhollow.example"]}) for uid, given, family in people)
    entries += directory.group("Tree surgeons", [person_dn("una.kerrigan")])
    entries += directory.group("Estates, all", [group_dn("Tree surgeons"), person_dn("ibrahim.sow")])
    with estates(tmp_path / "directory", entries) as made:
        yield made


@pytest.fixture
def read(rooms: Rooms, small: Estates) -> Read:
    return lambda **more: Reading(rooms, "ldap", {**small.settings, **more.pop("settings", {})}, directory.READER_PASSWORD, **more)


def access(rooms: Rooms) -> set[tuple[str, str]]:
    """Return (user name, role) of everybody who has something now."""
    work_through(rooms.house)
    users = {row.id: row.user_name for row in rooms.rows(t.user)}
    roles = {row.id: row.key for row in rooms.rows(t.role)}
    return {(users[row.user_id], roles[row.role_id]) for row in rooms.rows(t.access) if row.until_at is None}


def test_people_groups_and_groups_within_groups_come_in_with_what_they_give(rooms: Rooms, read: Read) -> None:
    reading = read()
    rooms.application()
    run = reading.run()
    assert (run["state"], run["new"], run["groups new"], run["memberships new"]) == ("done", 3, 2, 3)
    zofia = reading.records()["zofia.wisniarska"].data
    assert zofia["name"] == {"givenName": "Zofia", "familyName": "Wiśniarska"}
    assert zofia["emails"] == [{"type": "work", "value": "zofia.wisniarska@fernhollow.example"}]
    assert reading.members("Estates, all") == {"Tree surgeons", "ibrahim.sow"}
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group="Estates, all", source="estates"))
    assert access(rooms) == {("una.kerrigan", "viewer"), ("ibrahim.sow", "viewer")}


def test_adding_changing_renaming_moving_disabling_and_deleting(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.unguarded()
    rooms.application()
    reading = read(policy={"attributes": [
        {"attribute": "userName", "expression": "uid"}, {"attribute": "displayName", "expression": "displayName"},
        {"attribute": "title", "expression": "title"}, {"attribute": "active", "expression": 'false when [employeeType eq "left"] else true'},
    ]})  # fmt: skip
    reading.run()
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group="Estates, all", source="estates"))
    before = {name: row.user_id for name, row in reading.records().items()}
    small.add_person("stellan.nyberg", "Stellan", "Nyberg")
    small.change(group_dn("Estates, all"), member=[group_dn("Tree surgeons"), person_dn("stellan.nyberg")])
    small.change(person_dn("una.kerrigan"), title=["Tree surgeon"])
    small.rename("zofia.wisniarska", "zofia.marchbanks")
    run = reading.run(whole=True)
    assert (run["new"], run["changed"], run["memberships new"], run["memberships ended"]) == (1, 2, 1, 1)
    assert {line["name"]: [each["attribute"] for each in line["changes"]] for line in reading.lines(run, "changed")} == {
        "Una Kerrigan": ["title"], "Zofia Wiśniarska": ["userName"],
    }  # fmt: skip
    # Renamed in the directory, and the same person here.
    assert reading.records()["zofia.marchbanks"].user_id == before["zofia.wisniarska"]
    assert access(rooms) == {("una.kerrigan", "viewer"), ("stellan.nyberg", "viewer")}
    small.keeper.add_s(f"ou=gardens,{directory.PEOPLE}", [("objectClass", b"organizationalUnit"), ("ou", b"gardens")])
    small.keeper.rename_s(person_dn("una.kerrigan"), "uid=una.kerrigan", f"ou=gardens,{directory.PEOPLE}")
    small.change(group_dn("Tree surgeons"), member=[f"uid=una.kerrigan,ou=gardens,{directory.PEOPLE}"])
    small.change(person_dn("stellan.nyberg"), employeeType=["left"])
    small.remove(person_dn("ibrahim.sow"))
    run = reading.run(whole=True)
    assert (run["left"], run["changed"], run["state"]) == (1, 1, "done")
    assert access(rooms) == {("una.kerrigan", "viewer")}
    assert {row.user_name: (row.active, row.gone_at is None) for row in rooms.rows(t.user)} == {
        "una.kerrigan": (True, True), "zofia.marchbanks": (True, True), "stellan.nyberg": (False, True), "ibrahim.sow": (False, False),
    }  # fmt: skip


def test_only_what_changed_is_read_between_full_readings_and_nobody_leaves_by_that(rooms: Rooms, read: Read, small: Estates) -> None:
    reading = read()
    assert reading.run()["whole"]
    # The directory counts whole seconds: the change is to be in another one.
    read_in = int(time.time())
    eventually(lambda: int(time.time()) > read_in)
    small.change(person_dn("una.kerrigan"), title=["Tree surgeon"])
    small.remove(person_dn("ibrahim.sow"))
    run = reading.run()
    assert (run["whole"], run["progress"] < 3, run["changed"]) == (False, True, 1)
    assert "ibrahim.sow" in reading.records()
    with rooms.house.database.writing() as connection:
        connection.execute(t.source_pull.update().values(full_at="2031-01-01T00:00:00.000000Z"))
    run = reading.run()
    assert (run["whole"], run["left"]) == (True, 1)


def test_reading_again_what_did_not_change_changes_nothing(rooms: Rooms, read: Read) -> None:
    reading = read()
    reading.run()
    before = [rooms.rows(table) for table in (t.user, t.record, t.group, t.membership, t.access)]
    run = reading.run(whole=True)
    assert (run["unchanged"], reading.lines(run)) == (3, [])
    assert [rooms.rows(table) for table in (t.user, t.record, t.group, t.membership, t.access)] == before


def test_a_look_changes_nothing_and_tells_what_a_run_would_do(rooms: Rooms, read: Read, small: Estates) -> None:
    reading = read(in_force=False)
    with pytest.raises(InvalidInput, match="in preparation"):
        reading.run()
    run = reading.run(look_only=True)
    assert (run["state"], run["new"], run["groups new"]) == ("done", 3, 2)
    assert {line["name"] for line in reading.lines(run, "new")} == {"Una Kerrigan", "Ibrahim Sow", "Zofia Wiśniarska"}
    for table in (t.user, t.record, t.group, t.membership, t.conflict):
        assert rooms.rows(table) == []
    reading.change(in_force=True)
    assert reading.run()["new"] == 3


def test_a_look_tells_who_would_gain_and_lose_which_role(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.unguarded()
    rooms.application()
    reading = read()
    reading.run()
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group="Tree surgeons", source="estates"))
    # Another role is the highest, which a rule gives to confirmed users only.
    provisioning_roles.add_role(rooms.house, rooms.caller, "records", "owner", "Owner", 9)
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", rule='title eq "Keeper"'))
    before = access(rooms)
    # One comes into the group and is new, one is there and comes, one leaves it, and one gets a title that a rule asks for.
    small.add_person("stellan.nyberg", "Stellan", "Nyberg", title=["Keeper"])
    small.change(group_dn("Tree surgeons"), member=[person_dn("stellan.nyberg"), person_dn("ibrahim.sow")])
    small.remove(person_dn("zofia.wisniarska"))
    run = reading.run(look_only=True)
    assert run["access"] == [
        {"application": "Records", "role": "Curator", "gained": 1, "lost": 0}, {"application": "Records", "role": "Viewer", "gained": 2, "lost": 1},
    ]  # fmt: skip
    assert access(rooms) == before == {("una.kerrigan", "viewer")}
    reading.run(whole=True)
    assert access(rooms) == {("stellan.nyberg", "viewer"), ("stellan.nyberg", "curator"), ("ibrahim.sow", "viewer")}


def test_thousands_of_people_an_outage_in_the_middle_and_a_suspiciously_small_answer(rooms: Rooms, tmp_path: Path) -> None:
    settings.change(rooms.house, rooms.caller, "guard_share", 10)
    number, groups = sized((1_000, 40), (5_000, 200))
    with estates(tmp_path / "large", crowd(number, groups, 50)) as large:
        reading = Reading(rooms, "ldap", large.settings, directory.READER_PASSWORD)
        run = reading.run()
        assert (run["new"], run["groups new"], run["memberships new"]) == (number, groups, groups * 50)
        large.stop()
        run = reading.run(whole=True)
        assert (run["state"], len(reading.records())) == ("failed", number)
        assert "Nothing answers" in run["message"] and run["mend"]
        large.start()
        # Somebody narrows the filter by mistake: few answer, and nobody leaves.
        reading.change(settings={"people_filter": "(&(objectClass=inetOrgPerson)(givenName=Fern))"})
        run = reading.run()
        assert (run["state"], len(reading.records())) == ("held", number)
        assert "did not come" in run["message"] and "let them leave" in run["mend"]
        assert all(line["person"] for line in reading.lines(run, "missing"))
        with pytest.raises(NeedsConfirmation):
            reading.run(let_leave=True, confirmed="estates")
        run = reading.run(let_leave=True, confirmed="Estates")
        assert (run["state"], run["left"] + len(reading.records())) == ("done", number)
        # They come back as who they were.
        users = {row.id for row in rooms.rows(t.user)}
        reading.change(settings={"people_filter": "(objectClass=inetOrgPerson)"})
        run = reading.run()
        assert run["back"] == number - run["unchanged"] and {row.id for row in rooms.rows(t.user)} == users
        assert len(reading.members("Team 0")) == 50


def test_an_answer_that_is_cut_by_a_limit_is_no_whole_answer(rooms: Rooms, tmp_path: Path) -> None:
    with estates(tmp_path / "limited", crowd(60, 1, 5), sizelimit="20") as limited:
        reading = Reading(rooms, "ldap", limited.settings, directory.READER_PASSWORD)
        run = reading.run()
        assert run["state"] == "failed" and "not whole" in run["mend"]


def test_an_empty_answer_is_never_believed(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.unguarded()
    reading = read()
    reading.run()
    reading.change(settings={"people_filter": "(uid=nobody)"})
    assert reading.run()["state"] == "held"
    assert len(reading.records()) == 3


def test_an_entry_whose_id_cannot_be_read_removes_nobody(rooms: Rooms, read: Read, small: Estates) -> None:
    everything = [*map(person_dn, ("una.kerrigan", "ibrahim.sow", "zofia.wisniarska")), group_dn("Tree surgeons"), group_dn("Estates, all")]
    for number, dn in enumerate(everything):
        small.change(dn, description=[str(number)])
    reading = read(settings={"id_attribute": "description"})
    rooms.application()
    assert reading.run()["new"] == 3
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group="Estates, all", source="estates"))
    small.change(person_dn("una.kerrigan"), description=[])
    run = reading.run(whole=True)
    assert (run["state"], run["unreadable"]) == ("held", 1) and "Dravo removed nothing" in run["message"]
    assert [line["name"] for line in reading.lines(run, "unreadable")] == [person_dn("una.kerrigan")]
    assert access(rooms) == {("una.kerrigan", "viewer"), ("ibrahim.sow", "viewer")}


def test_who_may_come_in_and_which_groups(rooms: Rooms, read: Read) -> None:
    rooms.unguarded()
    reading = read(policy={"people": 'userName ne "ibrahim.sow"', "groups": {"which": "pattern", "pattern": "^Tree"}})
    run = reading.run()
    assert (run["new"], run["outside"], run["groups new"]) == (2, 1, 1)
    assert set(reading.records()) == {"una.kerrigan", "zofia.wisniarska"}
    # Who falls outside later is a leaver here; who comes inside comes in, with the groups that listed them all the while.
    reading.change(policy={"people": 'userName ne "una.kerrigan"', "groups": {"which": "all"}})
    run = reading.run()
    assert (run["left"], run["new"]) == (1, 1)
    reading.change(policy={"people": ""})
    assert reading.run()["back"] == 1
    assert reading.members("Tree surgeons") == {"una.kerrigan"}


def test_nobody_becomes_somebody_who_is_here_by_a_name_or_an_address(rooms: Rooms, read: Read) -> None:
    staff = rooms.source("staff")
    rooms.person(staff, "una.kerrigan")
    rooms.person(staff, "i.sow", emails=[{"value": "ibrahim.sow@fernhollow.example"}])
    reading = read()
    run = reading.run()
    assert (run["new"], run["conflict"]) == (1, 2)
    waiting = conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"]
    assert {each["name"]: (each["kind"], [one["user_name"] for one in each["could_be"]]) for each in waiting} == {
        "Una Kerrigan": ("name known", ["una.kerrigan"]), "Ibrahim Sow": ("e-mail known", ["i.sow"]),
    }  # fmt: skip
    by_name = {each["name"]: each for each in waiting}
    with pytest.raises(InvalidInput, match="Say who it is"):
        conflicts.decide(rooms.house, rooms.caller, "estates", by_name["Una Kerrigan"]["id"], "link")
    conflicts.decide(rooms.house, rooms.caller, "estates", by_name["Una Kerrigan"]["id"], "link", "una.kerrigan")
    conflicts.decide(rooms.house, rooms.caller, "estates", by_name["Ibrahim Sow"]["id"], "make")
    records = reading.records()
    users = {row.id: row for row in rooms.rows(t.user)}
    assert len(rooms.rows(t.record, user_id=records["una.kerrigan"].user_id)) == 2
    assert users[records["ibrahim.sow"].user_id].user_name == "ibrahim.sow" and len(users) == 4
    assert conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"] == []
    # The lists that named them are looked at again, though they did not change.
    reading.run(whole=True)
    assert reading.members("Estates, all") == {"Tree surgeons", "ibrahim.sow"}
    with pytest.raises(NotFound):
        conflicts.decide(rooms.house, rooms.caller, "estates", by_name["Ibrahim Sow"]["id"], "make")


def test_a_match_rule_needs_the_domains_that_the_source_owns(read: Read) -> None:
    with pytest.raises(InvalidInput, match="domains"):
        read(policy={"match": "user name"})


def test_the_match_rule_links_only_within_the_domains_of_the_source(rooms: Rooms, small: Estates) -> None:
    staff = rooms.source("staff", "fernhollow.example")
    rooms.person(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    rooms.person(staff, "ibrahim.sow", emails=[{"value": "ibrahim@elsewhere.example"}])
    reading = Reading(rooms, "ldap", small.settings, directory.READER_PASSWORD, policy={"match": "user name", "domains": ["fernhollow.example"]})
    run = reading.run()
    assert (run["new"], run["conflict"]) == (2, 1)
    assert len(rooms.rows(t.record, user_id=reading.records()["una.kerrigan"].user_id)) == 2
    assert [each["name"] for each in conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"]] == ["Ibrahim Sow"]


def test_whoever_comes_with_a_leavers_name_inherits_nothing(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.unguarded()
    rooms.application()
    reading = read()
    reading.run()
    una = reading.records()["una.kerrigan"].user_id
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", person=una))
    small.remove(person_dn("una.kerrigan"))
    reading.run(whole=True)
    small.add_person("una.kerrigan", "Ulric", "Kerrigan")
    run = reading.run(whole=True)
    assert run["conflict"] == 1 and access(rooms) == set()
    waiting = conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"]
    assert [(each["kind"], each["choices"]) for each in waiting] == [("leaver", ["link", "make", "leave out"])]
    conflicts.decide(rooms.house, rooms.caller, "estates", waiting[0]["id"], "make")
    assert reading.records()["una.kerrigan"].user_id != una and access(rooms) == set()


def test_user_names_may_change_hands_within_one_reading(rooms: Rooms, read: Read, small: Estates) -> None:
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


def test_a_new_user_name_that_somebody_else_has_waits_for_a_decision(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.person(rooms.source("staff"), "u.kerrigan")
    reading = read()
    reading.run()
    small.rename("una.kerrigan", "u.kerrigan")
    run = reading.run(whole=True)
    assert run["conflict"] == 1 and "una.kerrigan" in reading.records()
    waiting = conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"]
    assert [(each["kind"], each["choices"]) for each in waiting] == [("renamed", ["let", "leave out"])]
    conflicts.decide(rooms.house, rooms.caller, "estates", waiting[0]["id"], "let")
    assert "u.kerrigan" in reading.records()


def test_two_groups_of_one_name_are_not_confused(rooms: Rooms, read: Read, small: Estates) -> None:
    small.keeper.add_s(f"ou=old,{directory.GROUPS}", [("objectClass", b"organizationalUnit"), ("ou", b"old")])
    twin = f"cn=tree surgeons,ou=old,{directory.GROUPS}"
    small.keeper.add_s(twin, [("objectClass", b"groupOfNames"), ("cn", b"tree surgeons"), ("member", person_dn("ibrahim.sow").encode())])
    reading = read()
    run = reading.run()
    assert (run["groups new"], run["conflict"]) == (2, 1)
    waiting = conflicts.listing(rooms.house, rooms.caller, "estates", Ask())["items"]
    assert [(each["subject"], each["kind"]) for each in waiting] == [("group", "group name")]
    conflicts.decide(rooms.house, rooms.caller, "estates", waiting[0]["id"], "let")
    assert reading.run()["groups new"] == 1


def test_one_person_is_read_anew_at_once_with_their_groups(rooms: Rooms, read: Read, small: Estates) -> None:
    reading = read()
    reading.run()
    zofia = reading.records()["zofia.wisniarska"].user_id
    small.change(person_dn("zofia.wisniarska"), title=["Botanist"])
    small.change(group_dn("Tree surgeons"), member=[person_dn("una.kerrigan"), person_dn("zofia.wisniarska")])
    small.remove(person_dn("ibrahim.sow"))
    import_refresh.refresh(rooms.house, rooms.caller, "estates", zofia)
    assert reading.records()["zofia.wisniarska"].data["title"] == "Botanist"
    assert reading.members("Tree surgeons") == {"una.kerrigan", "zofia.wisniarska"}
    with pytest.raises(NotFound, match="no more"):
        import_refresh.refresh(rooms.house, rooms.caller, "estates", reading.records()["ibrahim.sow"].user_id)
    assert "ibrahim.sow" in reading.records()


def test_what_a_run_left_in_the_middle_goes_on_and_never_two_at_once(rooms: Rooms, read: Read) -> None:
    reading = read()
    import_runs.ask_for(rooms.house, rooms.caller, "estates")
    with pytest.raises(AlreadyThere):
        import_runs.ask_for(rooms.house, rooms.caller, "estates")
    run_id, _ = import_runs.next_asked(rooms.house, set()) or ("", "")
    assert import_runs.next_asked(rooms.house, {reading.source_id}) is None
    with rooms.house.database.writing() as connection:
        connection.execute(t.run.update().where(t.run.c.id == run_id).values(state="running", started_at=clock.now()))
    import_runs.go_on_after_breaking_off(rooms.house)
    again, _ = import_runs.next_asked(rooms.house, set()) or ("", "")
    assert again != run_id and import_runs.one_run(rooms.house, run_id)["state"] == "failed"
    import_run.carry_out(rooms.house, again)
    assert len(reading.records()) == 3


def test_a_run_is_stopped_and_leaves_what_is_whole(rooms: Rooms, read: Read, monkeypatch: pytest.MonkeyPatch) -> None:
    reading = read()
    monkeypatch.setattr(import_run, "BATCH", 1)
    monkeypatch.setattr(import_run, "TELL_SECONDS", 0.0)
    run = import_runs.ask_for(rooms.house, rooms.caller, "estates")
    with rooms.house.database.writing() as connection:
        connection.execute(t.run.update().values(stop_asked=True))
    import_run.carry_out(rooms.house, run["id"])
    found = import_runs.one_run(rooms.house, run["id"])
    assert (found["state"], len(reading.records())) == ("stopped", 1)
    assert reading.run()["state"] == "done" and len(reading.records()) == 3


def test_the_schedule_asks_once_for_what_was_missed_and_not_while_in_preparation(rooms: Rooms, read: Read) -> None:
    reading = read(schedule="0 * * * *")
    kept = import_config.shown(rooms.house, "estates")
    assert (kept["schedule_words"], len(kept["next_at"])) == ("every hour", 3)
    with rooms.house.database.writing() as connection:
        connection.execute(t.source_pull.update().values(next_at="2026-01-01T00:00:00.000000Z"))
    import_runs.ask_by_schedule(rooms.house, clock.now())
    import_runs.ask_by_schedule(rooms.house, clock.now())
    assert [run.asked_by for run in rooms.rows(t.run)] == ["the schedule"]
    reading.change(in_force=False)
    assert import_config.shown(rooms.house, "estates")["next_at"] == []


def test_a_secret_goes_nowhere_else_when_the_address_changes(rooms: Rooms, read: Read, small: Estates) -> None:
    reading = read()
    assert import_config.shown(rooms.house, "estates")["has_secret"]
    assert "reader-of-the-estates" not in str(import_config.shown(rooms.house, "estates"))
    after = reading.change(settings={"address": "ldaps://elsewhere.example"})
    assert not after["has_secret"]
    tried = import_config.check(rooms.house, rooms.caller, "estates", {"settings": small.settings})
    assert [step["outcome"] for step in tried["steps"]][2] == "wrong" and "password is missing" in tried["steps"][2]["message"]


def test_answers_are_tried_on_whom_the_source_said_before(rooms: Rooms, read: Read) -> None:
    reading = read()
    reading.run()
    found = import_config.try_policy(rooms.house, "estates", {"people": 'userName sw "una"'})
    assert (found["looked_at"], found["leaves"], found["comes_in"]) == (3, 2, 1)
    found = import_config.try_policy(rooms.house, "estates", {"groups": {"which": "pattern", "pattern": "^Tree"}})
    assert [(each["name"], each["comes_in"]) for each in found["groups"]] == [("Estates, all", False), ("Tree surgeons", True)]
    rows = [{"attribute": "userName", "expression": "uid then upper"}]
    found = import_config.try_policy(rooms.house, "estates", {"attributes": rows})
    assert found["changed"] == 3 and found["items"][0]["changes"][0]["attribute"] == "userName"
    assert set(reading.records()) == {"una.kerrigan", "ibrahim.sow", "zofia.wisniarska"}
    with pytest.raises(InvalidInput, match="user name"):
        import_config.try_policy(rooms.house, "estates", {"attributes": []})


def test_whose_word_counts_is_looked_at_and_then_counts(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.application()
    staff = rooms.source("staff", "fernhollow.example")
    record = rooms.person(staff, "una.kerrigan", title="Lead", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    reading = read(policy={"match": "user name", "domains": ["fernhollow.example"]})
    small.change(person_dn("una.kerrigan"), title=["Tree surgeon"])
    reading.run()
    provisioning_roles.add_role(rooms.house, rooms.caller, "records", "owner", "Owner", 9)
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", rule='title eq "Tree surgeon"'))

    def una() -> tuple[str, bool]:
        work_through(rooms.house)
        row = next(row for row in rooms.rows(t.user) if row.user_name == "una.kerrigan")
        return row.attributes["title"], row.active

    assert una() == ("Lead", True) and access(rooms) == set()
    seen = source_priority.preview(rooms.house, "estates", {"precedence": 1})
    assert (seen["gained"], seen["lost"]) == (1, 0) and una() == ("Lead", True)
    source_priority.change(rooms.house, rooms.caller, "estates", {"precedence": 1})
    assert una() == ("Tree surgeon", True) and access(rooms) == {("una.kerrigan", "curator")}
    source_priority.change(rooms.house, rooms.caller, "estates", {"updates": False})
    assert una() == ("Lead", True) and access(rooms) == set()
    # Inactive there, and active by the word of another source; until that source's inactive counts whatever others say.
    rooms.patch_person(staff, record, {"op": "replace", "path": "active", "value": False})
    assert una()[1]
    source_priority.change(rooms.house, rooms.caller, "staff", {"veto": True})
    assert una()[1] is False
    with pytest.raises(InvalidInput, match="no place"):
        source_priority.change(rooms.house, rooms.caller, "estates", {"precedence": -1})


def test_links_are_made_and_undone_by_hand_and_looked_at_first(rooms: Rooms, read: Read, small: Estates) -> None:
    rooms.unguarded()
    rooms.application()
    staff = rooms.source("staff", "fernhollow.example")
    rooms.person(staff, "una.kerrigan", emails=[{"value": "una.kerrigan@fernhollow.example"}])
    reading = read(policy={"match": "user name", "domains": ["fernhollow.example"]})
    reading.run()
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group="Tree surgeons", source="estates"))
    assert access(rooms) == {("una.kerrigan", "viewer")}
    record = reading.records()["una.kerrigan"]
    with pytest.raises(InvalidInput, match="says something of Ibrahim Sow already"):
        record_links.preview(rooms.house, record.id, "ibrahim.sow")
    seen = record_links.preview(rooms.house, record.id, None)
    assert seen["lost"] == 1 and access(rooms) == {("una.kerrigan", "viewer")}
    made = record_links.move(rooms.house, rooms.caller, record.id, None)
    assert made != record.user_id and reading.records()["una.kerrigan"].user_id == made
    work_through(rooms.house)
    assert {row.user_id for row in rooms.rows(t.access) if row.until_at is None} == {made}
    # Linked back: whoever nothing is said of any more is a memory.
    record_links.move(rooms.house, rooms.caller, record.id, record.user_id)
    work_through(rooms.house)
    assert {row.user_id for row in rooms.rows(t.access) if row.until_at is None} == {record.user_id}
    assert [row.gone_at is not None for row in rooms.rows(t.user, id=made)] == [True]
    # The next reading changes nothing about that.
    assert reading.run(whole=True)["unchanged"] == 3
    assert reading.records()["una.kerrigan"].user_id == record.user_id
    only = reading.records()["ibrahim.sow"]
    with pytest.raises(InvalidInput, match="only record"):
        record_links.move(rooms.house, rooms.caller, only.id, None)


def test_a_pilot_group_comes_first_and_everybody_later(rooms: Rooms, read: Read, small: Estates) -> None:
    reading = read(policy={"pilot": "estates, ALL"})
    run = reading.run()
    # In the group, or in a group within it.
    assert (run["new"], run["not in the pilot"]) == (2, 1) and set(reading.records()) == {"una.kerrigan", "ibrahim.sow"}
    reading.change(policy={"pilot": "Nobody's"})
    run = reading.run()
    assert run["state"] == "failed" and "no group 'Nobody's'" in run["message"]
    reading.change(policy={"pilot": "Tree surgeons"})
    small.change(person_dn("ibrahim.sow"), title=["Plumber"])
    run = reading.run()
    # Who is not in it is left as they are, and does not leave.
    assert (run.get("left", 0), run["not in the pilot"]) == (0, 2) and "title" not in reading.records()["ibrahim.sow"].data
    reading.change(policy={"pilot": ""})
    run = reading.run()
    assert (run["new"], run["changed"]) == (1, 1)


def test_it_is_in_force_from_an_hour_on_and_back(rooms: Rooms, read: Read) -> None:
    reading = read(in_force=False)
    with pytest.raises(InvalidInput, match="is over"):
        reading.change(in_force_at="2026-01-01T00:00:00Z")
    assert reading.change(in_force_at="2031-01-01T06:00:00Z")["in_force_at"]
    import_runs.ask_by_schedule(rooms.house, Instant("2031-01-01T05:59:59.000000Z"))
    assert not import_config.shown(rooms.house, "estates")["in_force"]
    import_runs.ask_by_schedule(rooms.house, Instant("2031-01-01T06:00:00.000000Z"))
    assert import_config.shown(rooms.house, "estates")["in_force"] and [run.state for run in rooms.rows(t.run)] == ["asked"]
    assert not reading.change(in_force=False)["in_force"]


def test_what_runs_did_is_forgotten_after_a_while_and_their_counts_stay(rooms: Rooms, read: Read) -> None:
    run = read().run()
    import_runs.sweep(rooms.house, clock.now(), 1)
    assert len(rooms.rows(t.run_line)) > 0
    import_runs.sweep(rooms.house, Instant("2031-01-01T00:00:00.000000Z"), 90)
    assert rooms.rows(t.run_line) == [] and import_runs.one_run(rooms.house, run["id"])["counts"]
