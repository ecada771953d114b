"""Access reviews: what is looked through, who decides about what, what a decision does, and what stays as evidence."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.access import assignments, review_export, undo
from dravo.services.access import reviews as access_reviews
from dravo.services.access.assignment_targets import Wish
from dravo.services.access.matrix import View
from dravo.services.access.reviews import CONFIRMED, TAKEN_AWAY
from dravo.services.changes.preview import Sure
from dravo.services.changes.recompute import work_through
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.security.permissions import OWNER
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms

LAST_DAY = "2999-12-31"


@pytest.fixture
def garden(rooms: Rooms) -> Rooms:
    """Two applications: ada by name and by group, bob by group, cai by name and in two roles, dan by a rule."""
    staff = rooms.source()
    for key in ("records", "desk"):
        rooms.application(key)
    people = {name: rooms.person(staff, name, displayName=name.title()) for name in ("ada", "bob", "cai", "dan")}
    group = rooms.group(staff, "Herbarium", people["ada"], people["bob"])
    for wish in (
        Wish("records", "viewer", group=group), Wish("records", "curator", person="ada"), Wish("records", "viewer", person="cai"),
        Wish("records", "curator", person="cai"), Wish("desk", "viewer", rule='userName eq "dan"'), Wish("desk", "viewer", person="dan"),
    ):  # fmt: skip
        assignments.add(rooms.house, rooms.caller, wish)
    work_through(rooms.house)
    return rooms


def begin(rooms: Rooms, **view: Any) -> str:
    return str(access_reviews.start(rooms.house, rooms.caller, "Spring", LAST_DAY, View(**view))["id"])


def rows(rooms: Rooms, review: str, **asked: Any) -> dict[tuple[str, str], dict[str, Any]]:
    found = access_reviews.rows(rooms.house, review, Ask(count=100), **asked)["items"]
    return {(each["person"]["user_name"], each["role"]["key"]): each for each in found}


def held(rooms: Rooms, application: str = "records") -> set[tuple[str, str]]:
    work_through(rooms.house)
    names = {row.id: row.user_name for row in rooms.rows(t.user)}
    of = rooms.rows(t.application, key=application)[0].id
    roles = {row.id: row.key for row in rooms.rows(t.role)}
    return {(names[row.user_id], roles[row.role_id]) for row in rooms.rows(t.access, until_at=None, application_id=of)}


@pytest.mark.parametrize(
    ("view", "expected"),
    [
        ({}, 6), ({"application": "records"}, 5), ({"application": "records", "role": "curator"}, 2), ({"only": "direct only"}, 3),
        ({"only": "highest role"}, 2), ({"words": "ad"}, 2),
    ],
)  # fmt: skip
def test_a_part_of_the_matrix_is_looked_through(garden: Rooms, view: dict[str, str], expected: int) -> None:
    review = begin(garden, **view)
    shown = access_reviews.one(garden.house, garden.caller, review)
    assert (shown["rows"], shown["open"], shown["narrowed"]) == (expected, expected, view)


def test_what_was_assigned_to_the_person_is_taken_away_and_can_be_taken_back(garden: Rooms) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    assert found["ada", "viewer"]["reasons"] == ["Staff > Herbarium"] and found["cai", "viewer"]["reasons"] == ["assignment to the person"]
    row = found["cai", "curator"]["id"]
    shown = access_reviews.preview(garden.house, review, "records", [row])
    assert (shown["changed"], shown["people"][0]["after"], len(held(garden))) == (1, ["Viewer"], 5)
    decided = access_reviews.decide(garden.house, garden.caller, review, "records", [row], TAKEN_AWAY, "moved on", Sure(expect=(0, 0, 1)))
    assert (decided["taken_away"], decided["open"]) == (1, 4)
    assert held(garden) == {("ada", "viewer"), ("ada", "curator"), ("bob", "viewer"), ("cai", "viewer")}
    after = rows(garden, review, decision="taken away")["cai", "curator"]
    assert (after["outcome"], after["note"], after["decided_by"]) == ("Its assignment was taken away.", "moved on", garden.caller.name)
    with pytest.raises(InvalidInput, match="was taken away from Cai already"):
        access_reviews.decide(garden.house, garden.caller, review, "records", [row], CONFIRMED)
    entry = next(each.id for each in reversed(garden.rows(t.audit)) if each.action == "removed assignment")
    undo.undo(garden.house, garden.caller, entry, Sure())
    assert ("cai", "curator") in held(garden)


def test_whoever_has_it_by_a_group_is_kept_out_unless_they_keep_another_role(garden: Rooms) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    access_reviews.decide(garden.house, garden.caller, review, "records", [found["bob", "viewer"]["id"], found["ada", "viewer"]["id"]], TAKEN_AWAY)
    after = rows(garden, review)
    assert after["bob", "viewer"]["outcome"] == "They are kept out of Records: they have it by group Herbarium."
    assert "still have it by group Herbarium" in after["ada", "viewer"]["outcome"]
    assert held(garden) == {("ada", "viewer"), ("ada", "curator"), ("cai", "viewer"), ("cai", "curator")}
    # Both roles of one person at once leave nothing.
    other = begin(garden, application="records", words="ada")
    both = [each["id"] for each in rows(garden, other).values()]
    assert access_reviews.preview(garden.house, other, "records", both)["lost"] == 1
    access_reviews.decide(garden.house, garden.caller, other, "records", both, TAKEN_AWAY)
    assert not any(name == "ada" for name, _ in held(garden))


def test_a_rule_that_gives_the_same_is_not_forgotten_and_what_is_gone_is_said(garden: Rooms) -> None:
    review = begin(garden)
    row = rows(garden, review, application="desk")["dan", "viewer"]["id"]
    access_reviews.decide(garden.house, garden.caller, review, "desk", [row], TAKEN_AWAY)
    assert held(garden, "desk") == set()
    record = next(each for each in garden.rows(t.record) if each.data["userName"] == "bob")
    garden.intake.remove_person(record.source_id, record.id)
    work_through(garden.house)
    row = rows(garden, review)["bob", "viewer"]["id"]
    access_reviews.decide(garden.house, garden.caller, review, "records", [row], TAKEN_AWAY)
    assert rows(garden, review)["bob", "viewer"]["outcome"] == "They no longer had it." and rows(garden, review)["bob", "viewer"]["state"] == "gone"


def test_an_owner_sees_and_decides_about_their_own_application_only(garden: Rooms) -> None:
    review = begin(garden)
    owner = replace(garden.caller, kind=OWNER, applications=frozenset({"desk"}))
    assert [each["application"]["key"] for each in access_reviews.one(garden.house, owner, review)["applications"]] == ["desk"]
    theirs = begin(garden, application="records")
    with pytest.raises(NotFound):
        access_reviews.one(garden.house, owner, theirs)
    assert [each["id"] for each in access_reviews.listing(garden.house, owner, Ask())["items"]] == [review]
    # A row of another application does not come along under the name of theirs.
    foreign = rows(garden, review, application="records")["bob", "viewer"]["id"]
    with pytest.raises(NotFound, match="Not all of these rows"):
        access_reviews.decide(garden.house, owner, review, "desk", [foreign], TAKEN_AWAY)
    assert len(held(garden)) == 5


def test_a_review_ends_by_its_day_and_by_hand_and_stays_as_evidence(garden: Rooms) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    access_reviews.decide(garden.house, garden.caller, review, "records", [found["ada", "viewer"]["id"]], CONFIRMED, "=needs it")
    access_reviews.close_those_whose_day_is_over(garden.house, later(clock.now(), 60))
    assert access_reviews.one(garden.house, garden.caller, review)["closed_at"] is None
    access_reviews.close_those_whose_day_is_over(garden.house, "3000-01-02T00:00:00.000000Z")
    assert access_reviews.one(garden.house, garden.caller, review)["closed_by"] == "its last day"
    with pytest.raises(InvalidInput, match="has ended"):
        access_reviews.decide(garden.house, garden.caller, review, "records", [found["bob", "viewer"]["id"]], CONFIRMED)
    lines = list(csv.DictReader(io.StringIO(b"".join(review_export.export(garden.house, review, "csv")).decode())))
    assert len(lines) == 5 and lines[0]["person"] == "Ada"
    confirmed = next(each for each in lines if each["decision"])
    assert (confirmed["role"], confirmed["note"], confirmed["because of"]) == ("Viewer", "'=needs it", "Staff > Herbarium")
    whole = json.loads(b"".join(review_export.export(garden.house, review, "json")))
    assert (whole["label"], len(whole["rows"])) == ("Spring", 5)
    other = begin(garden, application="desk")
    assert access_reviews.close(garden.house, garden.caller, other)["closed_by"] == garden.caller.name


@pytest.mark.parametrize(
    ("until", "view", "said"),
    [
        ("2020-01-01", View(), "last day to come"), ("", View(), "last day to come"), ("soon", View(), "soon"), (LAST_DAY, View(words="nobody"), "no access of that kind"),
        (LAST_DAY, View(role="viewer"), "of an application"), (LAST_DAY, View(only="inactive but assigned"), "nothing to review"),
    ],
)  # fmt: skip
def test_a_review_that_cannot_be_is_refused(garden: Rooms, until: str, view: View, said: str) -> None:
    with pytest.raises(InvalidInput, match=said):
        access_reviews.start(garden.house, garden.caller, "Spring", until, view)
    assert garden.rows(t.review) == []


def test_taking_away_from_many_asks_for_the_application_s_name(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.application()
    for number in range(15):
        rooms.person(staff, f"p{number}")
        assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person=f"p{number}"))
    work_through(rooms.house)
    review = begin(rooms)
    ids = [each["id"] for each in rows(rooms, review).values()]
    with pytest.raises(NeedsConfirmation, match="15 people"):
        access_reviews.decide(rooms.house, rooms.caller, review, "records", ids, TAKEN_AWAY)
    assert len(held(rooms)) == 15
    access_reviews.decide(rooms.house, rooms.caller, review, "records", ids, TAKEN_AWAY, sure=Sure("Records"))
    assert held(rooms) == set()
