from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyThere, DravoError, InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services import applications, assigning, explaining, previewing, recalculating
from dravo.services.subjects import Wish
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pages import Ask
from tests.rooms import Rooms


@pytest.fixture
def herbarium(rooms: Rooms) -> dict[str, str]:
    """A source with two people, one of them in a group; an application."""
    staff = rooms.source()
    rooms.application()
    ada, bob = rooms.person(staff, "ada", displayName="Ada Fern"), rooms.person(staff, "bob", displayName="Bob Moss")
    return {"staff": staff, "ada": ada, "bob": bob, "group": rooms.group(staff, "Herbarium", ada)}


def test_a_preview_says_what_would_happen_and_changes_nothing(rooms: Rooms, herbarium: dict[str, str]) -> None:
    before = [len(rooms.rows(table)) for table in (t.access, t.account, t.assignment, t.delivery, t.mark, t.audit)]
    preview = previewing.preview_adding(rooms.house, Wish("records", "viewer", group="herbarium", source="staff"))
    assert (preview["gained"], preview["lost"], preview["accounts"]) == (1, 0, 1)
    application = {"key": "records", "label": "Records"}
    person = preview["people"][0]["person"]
    assert preview["people"] == [{"person": person, "application": application, "what": "gained", "before": [], "after": ["Viewer"]}]
    assert [len(rooms.rows(table)) for table in (t.access, t.account, t.assignment, t.delivery, t.mark, t.audit)] == before


def test_what_is_previewed_is_what_happens(rooms: Rooms, herbarium: dict[str, str]) -> None:
    direct = assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", person="bob"))
    for wish in (Wish("records", "viewer", group=herbarium["group"]), Wish("records", "curator", person="ada")):
        preview = previewing.preview_adding(rooms.house, wish)
        before = len(rooms.rows(t.access))
        assigning.add(rooms.house, rooms.caller, wish)
        assert len(rooms.rows(t.access)) - before == preview["gained"] + preview["changed"]
    preview = previewing.preview_removing(rooms.house, direct["id"])
    assert (preview["lost"], preview["accounts"]) == (1, 1)
    assigning.remove(rooms.house, rooms.caller, direct["id"])
    assert explaining.person(rooms.house, "bob")["access"] == []


def test_two_reasons_hold_a_role_until_the_last_is_gone(rooms: Rooms, herbarium: dict[str, str]) -> None:
    by_group = assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    direct = assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada", note="Looks after it"))
    first = explaining.person(rooms.house, "ada")["access"][0]
    assert len(first["reasons"]) == 2
    assigning.remove(rooms.house, rooms.caller, by_group["id"])
    second = explaining.person(rooms.house, "ada")["access"][0]
    assert (second["id"], second["since"]) == (first["id"], first["since"])
    assert [reason["until"] is None for reason in second["reasons"]] == [False, True]
    assert second["reasons"][1]["note"] == "Looks after it"
    assigning.remove(rooms.house, rooms.caller, direct["id"])
    assert explaining.person(rooms.house, "ada")["access"] == []
    assert explaining.person(rooms.house, "ada")["ended"][0]["id"] == first["id"]


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
    for asking in (assigning.add, lambda house, _, wished: previewing.preview_adding(house, wished)):
        with pytest.raises(kind, match=words) as told:
            asking(rooms.house, rooms.caller, wish)
        assert told.value.mend
    assert rooms.rows(t.assignment) == []


def test_the_mend_names_what_there_is(rooms: Rooms, herbarium: dict[str, str]) -> None:
    with pytest.raises(NotFound) as told:
        assigning.add(rooms.house, rooms.caller, Wish("records", "owner", person="ada"))
    assert "viewer, curator" in told.value.mend


def test_the_same_group_cannot_be_mapped_to_the_same_role_twice(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    with pytest.raises(AlreadyThere):
        assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    assigning.add(rooms.house, rooms.caller, Wish("records", "curator", group=herbarium["group"]))


def test_an_assignment_can_be_limited_and_opened_again(rooms: Rooms, herbarium: dict[str, str]) -> None:
    made = assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada"))
    soon = later(clock.now(), 3600)
    changed = assigning.change(rooms.house, rooms.caller, made["id"], None, soon, "for the summer")
    assert (changed["until"], changed["note"]) == (soon, "for the summer")
    assert rooms.rows(t.user, user_name="ada")[0].next_change_at == soon
    assigning.change(rooms.house, rooms.caller, made["id"], soon, None, None)
    assert explaining.person(rooms.house, "ada")["access"] == []
    assigning.change(rooms.house, rooms.caller, made["id"], None, None, None)
    assert explaining.person(rooms.house, "ada")["access"]
    with pytest.raises(NotFound):
        assigning.change(rooms.house, rooms.caller, "none", None, None, None)


def test_a_date_is_swept_when_it_comes_and_not_before(rooms: Rooms, herbarium: dict[str, str]) -> None:
    soon = later(clock.now(), 3600)
    assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ada", until_at=soon))
    assert recalculating.mark_those_whose_time_has_come(rooms.house, later(soon, -1)) is False
    assert recalculating.mark_those_whose_time_has_come(rooms.house, soon) is True
    assert [row.user_id for row in rooms.rows(t.mark)] == [rooms.rows(t.user, user_name="ada")[0].id]


def test_a_list_of_assignments_says_how_many_each_reaches(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
    rooms.add(herbarium["staff"], herbarium["group"], herbarium["bob"])
    empty = rooms.group(herbarium["staff"], "Nobody")
    assigning.add(rooms.house, rooms.caller, Wish("records", "curator", group=empty))
    listed = assigning.listing(rooms.house, Ask(), application="records")["items"]
    assert [(item["group"]["name"], item["reach"]) for item in listed] == [("Herbarium", 2), ("Nobody", 0)]
    assert assigning.listing(rooms.house, Ask(), group_id=empty)["total"] == 1


def test_a_tracked_application_has_access_and_no_accounts(rooms: Rooms, herbarium: dict[str, str]) -> None:
    applications.add(rooms.house, rooms.caller, "payslips", "Payslips", "Honor", tracked_only=True)
    applications.add_role(rooms.house, rooms.caller, "payslips", "clerk", "Clerk", 1)
    assigning.add(rooms.house, rooms.caller, Wish("payslips", "clerk", person="ada"))
    why = explaining.why(rooms.house, "ada", "payslips")
    assert why["has_access"]
    assert why["sentences"][-1] == "Payslips is only tracked: its accounts are kept by hand."
    assert rooms.rows(t.account) == []
    with pytest.raises(InvalidInput, match="only tracked"):
        applications.connect(rooms.house, rooms.caller, "payslips", "https://x.example", "token")


def sentences(rooms: Rooms, person: str) -> str:
    return " ".join(explaining.why(rooms.house, person, "records")["sentences"])


def test_why_and_why_not_are_told_in_sentences(rooms: Rooms, herbarium: dict[str, str]) -> None:
    assert "No group gives a role in Records" in sentences(rooms, "ada")
    assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", group=herbarium["group"]))
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
    answer: Any = explaining.why(rooms.house, "bob", "records")
    assert answer["would_give"][0]["role"]["key"] == "viewer"
