from __future__ import annotations

import threading
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound, WorldMoved
from dravo.core.scim.errors import ScimError
from dravo.services.access import assignments
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.ingest.intake import AT_ONCE
from dravo.services.reporting import overview
from dravo.store import tables as t
from tests.service_fixture import Rooms


def access_of(rooms: Rooms, name: str) -> set[tuple[str, str]]:
    return {(item["application"]["key"], item["role"]["key"]) for item in access_explanation.person(rooms.house, name)["access"]}


def test_a_record_is_bound_to_a_user_of_its_own(rooms: Rooms) -> None:
    staff, estates = rooms.source("staff"), rooms.source("estates")
    rooms.person(staff, "ada", emails=[{"value": "ada@fernhollow.example"}])
    rooms.person(estates, "ada", emails=[{"value": "ada@fernhollow.example"}])
    assert len({row.id for row in rooms.rows(t.user)}) == 2
    # One whom a source reported, and about whom nobody has decided, does not make a known name ambiguous.
    assert [each["source"]["key"] for each in access_explanation.person(rooms.house, "ada")["records"]] == ["staff"]
    rooms.create_users_of_conflicts("estates")
    with pytest.raises(InvalidInput, match="2 people"):
        access_explanation.person(rooms.house, "ada")


def test_a_change_that_changes_nothing_writes_nothing(rooms: Rooms) -> None:
    staff = rooms.source()
    ada = rooms.person(staff, "ada", title="Botanist")
    rooms.patch_person(staff, ada, {"op": "replace", "path": "title", "value": "Botanist"})
    group = rooms.group(staff, "Herbarium", ada)
    rooms.add(staff, group, ada)
    assert rooms.rows(t.record)[0].version == 1
    assert rooms.rows(t.group)[0].version == 1
    assert len(rooms.rows(t.membership)) == 1


def test_since_when_somebody_is_inactive_is_kept_until_they_are_back(rooms: Rooms) -> None:
    staff = rooms.source()
    ada = rooms.person(staff, "ada")
    rooms.patch_person(staff, ada, {"op": "replace", "path": "active", "value": False})
    since = rooms.rows(t.user)[0].inactive_since
    rooms.patch_person(staff, ada, {"op": "replace", "path": "title", "value": "x"})
    assert rooms.rows(t.user)[0].inactive_since == since
    rooms.patch_person(staff, ada, {"op": "replace", "path": "active", "value": True})
    assert rooms.rows(t.user)[0].inactive_since is None
    rooms.intake.remove_person(staff, ada)
    row = rooms.rows(t.user)[0]
    assert row.gone_at is not None
    assert row.active is False


def test_a_renamed_user_is_found_by_the_new_name_only(rooms: Rooms) -> None:
    staff = rooms.source()
    ada = rooms.person(staff, "ada.fern", emails=[{"value": "ada@fernhollow.example"}])
    rooms.patch_person(staff, ada, {"op": "replace", "value": {"userName": "ada.moss", "emails": [{"value": "moss@fernhollow.example"}]}})
    assert access_explanation.person(rooms.house, "ADA.MOSS")["user_name"] == "ada.moss"
    assert access_explanation.person(rooms.house, "moss@fernhollow.example")["user_name"] == "ada.moss"
    with pytest.raises(NotFound):
        access_explanation.person(rooms.house, "ada.fern")


def test_membership_history_has_from_and_until(rooms: Rooms) -> None:
    staff = rooms.source()
    ada = rooms.person(staff, "ada")
    group = rooms.group(staff, "Herbarium", ada)
    rooms.take_out(staff, group, ada)
    rooms.add(staff, group, ada)
    rows = rooms.rows(t.membership)
    assert [row.until_at is None for row in rows] == [False, True]
    assert rows[0].from_at < rows[0].until_at < rows[1].from_at
    assert [each["until"] is None for each in access_explanation.person(rooms.house, "ada")["groups"]] == [True, False]


def test_one_patch_may_do_many_things_to_the_list(rooms: Rooms) -> None:
    staff = rooms.source()
    people = [rooms.person(staff, f"p{number}") for number in range(6)]
    group = rooms.group(staff, "Herbarium", *people[:3])

    def listed() -> set[str]:
        return {row.record_id for row in rooms.rows(t.membership, group_id=group) if row.until_at is None}

    rooms.patch_group(
        staff, group,
        {"op": "remove", "path": f'members[value eq "{people[0]}"]'},
        {"op": "add", "path": "members", "value": [{"value": people[3]}, {"value": people[0]}]},
        {"op": "replace", "value": {"displayName": "Herbaria"}},
    )  # fmt: skip
    assert listed() == {people[0], people[1], people[2], people[3]}
    rooms.patch_group(
        staff, group,
        {"op": "replace", "path": "members", "value": [{"value": people[4]}]},
        {"op": "add", "path": "members", "value": [{"value": people[5]}]},
        {"op": "remove", "path": "members", "value": [{"value": people[4]}, {"value": "unknown"}]},
    )  # fmt: skip
    assert listed() == {people[5]}
    rooms.patch_group(staff, group, {"op": "remove", "path": 'members[type eq "User"]'})
    assert listed() == set()
    assert rooms.rows(t.group)[0].display_name == "Herbaria"


def test_a_large_change_of_members_is_worked_through_by_marks(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("dravo.services.ingest.intake.AT_ONCE", 3)
    staff = rooms.source()
    rooms.application()
    group = rooms.group(staff, "Everybody")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group))
    people = [rooms.person(staff, f"p{number}") for number in range(8)]
    rooms.add(staff, group, *people)
    assert len(rooms.rows(t.mark)) == 8
    assert access_explanation.person(rooms.house, "p1")["being_worked_out"]
    assert recompute.work_through(rooms.house) == 8
    assert access_of(rooms, "p7") == {("records", "viewer")}
    rooms.patch_group(staff, group, {"op": "replace", "path": "members", "value": []})
    recompute.work_through(rooms.house)
    assert all(access_of(rooms, f"p{number}") == set() for number in range(8))
    assert AT_ONCE > 100


def test_a_group_that_is_gone_gives_nothing_and_its_history_stays_readable(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.application()
    group = rooms.group(staff, "Herbarium", rooms.person(staff, "ada"))
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group))
    assert access_of(rooms, "ada") == {("records", "viewer")}
    rooms.intake.remove_group(staff, group)
    recompute.work_through(rooms.house)
    person = access_explanation.person(rooms.house, "ada")
    assert person["access"] == []
    assert person["ended"][0]["reasons"][0]["group"]["name"] == "Herbarium"
    assert overview.band(rooms.house)["stages"][2]["needs"] == 1


def test_what_was_planned_on_is_checked_again_before_it_is_written(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between plan and write an assignment is made: the plan is thrown away, and the new one knows of it."""
    staff = rooms.source()
    rooms.application()
    ada = rooms.person(staff, "ada")
    group = rooms.group(staff, "Herbarium")
    original, interfered = rooms.house.database.writing, []

    def writing() -> Any:
        if not interfered:
            interfered.append(True)
            assignments.add(rooms.house, rooms.caller, Wish("records", "curator", group=group))
        return original()

    monkeypatch.setattr(rooms.house.database, "writing", writing)
    rooms.add(staff, group, ada)
    assert access_of(rooms, "ada") == {("records", "curator")}


def test_many_threads_that_change_one_person_lose_nothing(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.application("records", *(f"role{number}" for number in range(6)))
    ada = rooms.person(staff, "ada")
    groups = [rooms.group(staff, f"g{number}") for number in range(6)]
    for number, group in enumerate(groups):
        assignments.add(rooms.house, rooms.caller, Wish("records", f"role{number}", group=group))
    threads = [threading.Thread(target=rooms.add, args=(staff, group, ada)) for group in groups]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert access_of(rooms, "ada") == {("records", f"role{number}") for number in range(6)}
    account = rooms.rows(t.account)[0]
    assert len(account.due["roles"]) == 6
    assert account.due_version == 6
    assert len([row for row in rooms.rows(t.delivery) if row.closed_at is None]) == 1


def test_two_at_once_with_one_name_make_one(rooms: Rooms) -> None:
    staff = rooms.source()
    told: list[str] = []

    def make() -> None:
        try:
            rooms.person(staff, "ada")
            told.append("made")
        except ScimError as wrong:
            told.append(str(wrong.scim_type))

    threads = [threading.Thread(target=make) for _ in range(5)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(told) == ["made", *["uniqueness"] * 4]
    assert len(rooms.rows(t.user)) == 1


def test_a_world_that_never_stands_still_is_told(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    staff = rooms.source()
    ada = rooms.person(staff, "ada")
    monkeypatch.setattr("dravo.store.records.write", lambda *_, **__: False)
    monkeypatch.setattr("dravo.services.ingest.intake.PATIENCE_SECONDS", 0.2)
    with pytest.raises(WorldMoved):
        rooms.patch_person(staff, ada, {"op": "replace", "path": "title", "value": "x"})


def test_adding_to_a_large_group_touches_only_who_is_added(rooms: Rooms) -> None:
    staff = rooms.source()
    group = rooms.group(staff, "Everybody", *(rooms.person(staff, f"p{number}") for number in range(40)))
    new = rooms.person(staff, "new")
    statements: list[str] = []
    from sqlalchemy import event

    for engine in (rooms.house.database._readers, rooms.house.database._writers):
        event.listen(engine, "before_cursor_execute", lambda *given: statements.append(str(given[3])))
    rooms.add(staff, group, new)
    assert new in " ".join(statements)
    others = {row.record_id for row in rooms.rows(t.membership, group_id=group)} - {new}
    assert not any(other in " ".join(statements) for other in others)
