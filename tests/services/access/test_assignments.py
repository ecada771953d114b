from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyThere, DravoError, InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.provisioning import applications, connections, roles
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms


@pytest.fixture
def herbarium(rooms: Rooms) -> dict[str, str]:
    """A source with two people, one of them in a group; an application."""
    staff = rooms.source()
    rooms.application()
    ada, bob = rooms.person(staff, "ada", displayName="Ada Fern"), rooms.person(staff, "bob", displayName="Bob Moss")
    return {"staff": staff, "ada": ada, "bob": bob, "group": rooms.group(staff, "Herbarium", ada)}


def test_a_preview_says_what_would_happen_and_changes_nothing(rooms: Rooms, herbarium: dict[str, str]) -> None:
    before = [len(rooms.rows(table)) for table in (t.access, t.account, t.assignment, t.delivery, t.mark, t.audit)]
    preview = assignment_changes.preview_adding(rooms.house, Wish("records", "viewer", group="herbarium", source="staff"))
    assert (preview["gained"], preview["lost"], preview["accounts"]) == (1, 0, 1)
    application = {"key": "records", "label": "Records"}
    person = preview["people"][0]["person"]
    assert preview["people"] == [{"person": person, "application": application, "what": "gained", "before": [], "after": ["Viewer"]}]
    assert [len(rooms.rows(table)) for table in (t.access, t.account, t.assignment, t.delivery, t.mark, t.audit)] == before


def test_what_is_previewed_is_what_happens(rooms: Rooms, herbarium: dict[str, str]) -> None:
    direct = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="bob"))
    for wish in (Wish("records", "viewer", group=herbarium["group"]), Wish("records", "curator", person="ada")):
        preview = assignment_changes.preview_adding(rooms.house, wish)
        before = len(rooms.rows(t.access))
        assignments.add(rooms.house, rooms.caller, wish)
        assert len(rooms.rows(t.access)) - before == preview["gained"] + preview["changed"]
    preview = assignment_changes.preview_removing(rooms.house, direct["id"])
    assert (preview["lost"], preview["accounts"]) == (1, 1)
    assignments.remove(rooms.house, rooms.caller, direct["id"])
    assert access_explanation.person(rooms.house, "bob")["access"] == []


def test_two_reasons_hold_a_role_until_the_last_is_gone(rooms: Rooms, herbarium: dict[str, str]) -> None:
    by_group = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    direct = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada", note="Looks after it"))
    first = access_explanation.person(rooms.house, "ada")["access"][0]
    assert len(first["reasons"]) == 2
    assignments.remove(rooms.house, rooms.caller, by_group["id"])
    second = access_explanation.person(rooms.house, "ada")["access"][0]
    assert (second["id"], second["since"]) == (first["id"], first["since"])
    assert [reason["until"] is None for reason in second["reasons"]] == [False, True]
    assert second["reasons"][1]["note"] == "Looks after it"
    assignments.remove(rooms.house, rooms.caller, direct["id"])
    assert access_explanation.person(rooms.house, "ada")["access"] == []
    assert access_explanation.person(rooms.house, "ada")["ended"][0]["id"] == first["id"]


@pytest.mark.parametrize(
    ("wish", "kind", "words"),
    [
        (Wish("none", "viewer", person="ada"), NotFound, "no application"),
        (Wish("records", "owner", person="ada"), NotFound, "no role 'owner'"),
        (Wish("records", "viewer", person="nobody"), NotFound, "Nobody has"),
        (Wish("records", "viewer", group="nothing"), NotFound, "no group"),
        (Wish("records", "viewer", group="herbarium", source="none"), NotFound, "no source"),
        (Wish("records", "viewer"), InvalidInput, "for a person, for a group"),
        (Wish("records", "viewer", person="ada", group="herbarium"), InvalidInput, "for a person, for a group"),
        (Wish("records", "viewer", person="ada", until_at=later(clock.now(), -60)), InvalidInput, "ended already"),
        (Wish("records", "viewer", person="ada", from_at=later(clock.now(), 90), until_at=later(clock.now(), 60)), InvalidInput, "before it begins"),
    ],
)
def test_a_wish_that_cannot_be_met_is_refused_with_the_mend(
    rooms: Rooms, herbarium: dict[str, str], wish: Wish, kind: type[DravoError], words: str
) -> None:
    for asking in (assignments.add, lambda house, _, wished: assignment_changes.preview_adding(house, wished)):
        with pytest.raises(kind, match=words) as told:
            asking(rooms.house, rooms.caller, wish)
        assert told.value.mend
    assert rooms.rows(t.assignment) == []


def test_the_mend_names_what_there_is(rooms: Rooms, herbarium: dict[str, str]) -> None:
    with pytest.raises(NotFound) as told:
        assignments.add(rooms.house, rooms.caller, Wish("records", "owner", person="ada"))
    assert "viewer, curator" in told.value.mend


def test_the_same_group_cannot_be_mapped_to_the_same_role_twice(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    with pytest.raises(AlreadyThere):
        assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", group=herbarium["group"]))


def test_an_assignment_can_be_limited_and_opened_again(rooms: Rooms, herbarium: dict[str, str]) -> None:
    made = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada"))
    soon = later(clock.now(), 3600)
    changed = assignments.change(rooms.house, rooms.caller, made["id"], None, soon, "for the summer")
    assert (changed["until"], changed["note"]) == (soon, "for the summer")
    assert rooms.rows(t.user, user_name="ada")[0].next_change_at == soon
    assignments.change(rooms.house, rooms.caller, made["id"], soon, None, None)
    assert access_explanation.person(rooms.house, "ada")["access"] == []
    assignments.change(rooms.house, rooms.caller, made["id"], None, None, None)
    assert access_explanation.person(rooms.house, "ada")["access"]
    with pytest.raises(NotFound):
        assignments.change(rooms.house, rooms.caller, "none", None, None, None)


def test_a_date_is_swept_when_it_comes_and_not_before(rooms: Rooms, herbarium: dict[str, str]) -> None:
    soon = later(clock.now(), 3600)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada", until_at=soon))
    assert recompute.mark_those_whose_time_has_come(rooms.house, later(soon, -1)) is False
    assert recompute.mark_those_whose_time_has_come(rooms.house, soon) is True
    assert [row.user_id for row in rooms.rows(t.mark)] == [rooms.rows(t.user, user_name="ada")[0].id]


def test_a_list_of_assignments_says_how_many_each_reaches(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    rooms.add(herbarium["staff"], herbarium["group"], herbarium["bob"])
    empty = rooms.group(herbarium["staff"], "Nobody")
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", group=empty))
    listed = assignments.listing(rooms.house, Ask(), application="records")["items"]
    assert [(item["group"]["name"], item["reach"]) for item in listed] == [("Herbarium", 2), ("Nobody", 0)]
    assert assignments.listing(rooms.house, Ask(), group_id=empty)["total"] == 1


def test_a_tracked_application_has_access_and_no_accounts(rooms: Rooms, herbarium: dict[str, str]) -> None:
    applications.add(rooms.house, rooms.caller, "payslips", "Payslips", "Honor", tracked_only=True)
    roles.add_role(rooms.house, rooms.caller, "payslips", "clerk", "Clerk", 1)
    assignments.add(rooms.house, rooms.caller, Wish("payslips", "clerk", person="ada"))
    why = access_explanation.why(rooms.house, "ada", "payslips")
    assert why["has_access"]
    assert why["sentences"][-1] == "Payslips is only tracked: its accounts are kept by hand."
    assert rooms.rows(t.account) == []
    with pytest.raises(InvalidInput, match="only tracked"):
        connections.connect(rooms.house, rooms.caller, "payslips", "https://x.example", "token")


def sentences(rooms: Rooms, person: str) -> str:
    return " ".join(access_explanation.why(rooms.house, person, "records")["sentences"])


def test_why_and_why_not_are_told_in_sentences(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assert "No group gives a role in Records" in sentences(rooms, "ada")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    assert "Ada Fern is Viewer in Records since" in sentences(rooms, "ada")
    assert "the group 'Herbarium' of Staff, which the person is in, gives the role" in sentences(rooms, "ada")
    assert "Records is switched off, so nothing is delivered." in sentences(rooms, "ada")
    assert "Being in one of these groups would give it: 'Herbarium' (Viewer)." in sentences(rooms, "bob")
    rooms.take_out(herbarium["staff"], herbarium["group"], herbarium["ada"])
    assert "Until" in sentences(rooms, "ada")
    rooms.add(herbarium["staff"], herbarium["group"], herbarium["ada"])
    rooms.patch_person(herbarium["staff"], herbarium["ada"], {"op": "replace", "path": "active", "value": False})
    assert "Active again, Ada Fern would have it by 'Herbarium' (Viewer)." in sentences(rooms, "ada")
    rooms.intake.remove_person(herbarium["staff"], herbarium["ada"])
    assert "has left since" in sentences(rooms, "ada")
    answer: Any = access_explanation.why(rooms.house, "bob", "records")
    assert answer["would_give"][0]["role"]["key"] == "viewer"
