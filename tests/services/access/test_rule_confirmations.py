"""A rule gives the highest role to nobody by an attribute alone: users who come to meet it wait for a confirmation."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.services.access import assignment_changes, assignments, rule_confirmations
from dravo.services.access import explanation as access_explanation
from dravo.services.access import mapping as role_mapping
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes.preview import Sure
from dravo.services.changes.recompute import work_through
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.provisioning import roles as provisioning_roles
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms

RULE = 'title eq "Keeper"'


@pytest.fixture
def garden(rooms: Rooms) -> dict[str, str]:
    """Two sources; one keeper whom the staff's source reports."""
    rooms.application("records", "viewer", "curator")
    made = {"staff": rooms.source("staff"), "contractors": rooms.source("contractors")}
    made["ada"] = rooms.person(made["staff"], "ada", title="Keeper")
    made["bob"] = rooms.person(made["staff"], "bob", title="Guide")
    return made


def have(rooms: Rooms, role: str = "curator") -> list[str]:
    work_through(rooms.house)
    roles = {row.id: row.key for row in rooms.rows(t.role)}
    users = {row.id: row.user_name for row in rooms.rows(t.user)}
    return sorted(users[row.user_id] for row in rooms.rows(t.access) if row.until_at is None and roles[row.role_id] == role)


def line(rooms: Rooms) -> dict[str, Any]:
    (found,) = role_mapping.table(rooms.house, "records", Ask())["items"]
    return dict(found)


def retitle(rooms: Rooms, garden: dict[str, str], name: str, title: str = "Keeper", source: str = "staff") -> None:
    rooms.patch_person(garden[source], garden[name], {"op": "replace", "path": "title", "value": title})


def test_who_meets_it_now_is_confirmed_and_who_comes_to_meet_it_waits(rooms: Rooms, garden: dict[str, str]) -> None:
    made = assignments.add(rooms.house, rooms.caller, Wish("records", "curator", rule=RULE))
    assert have(rooms) == ["ada"]
    assert (line(rooms)["reach"], line(rooms)["waiting"], line(rooms)["confirmed_users"]) == (1, 0, 1)
    retitle(rooms, garden, "bob")
    rooms.person(garden["contractors"], "mallory", title="Keeper")
    assert have(rooms) == ["ada"], "an attribute alone gives nobody the highest role"
    shown = line(rooms)
    assert (shown["reach"], shown["waiting"]) == (1, 2)
    assert any("2 users meet the rule" in each["what"] for each in shown["notes"])
    waiting = rule_confirmations.waiting(rooms.house, made["id"], Ask(count=1))
    assert (waiting["total"], [each["user_name"] for each in waiting["items"]]) == (2, ["bob"])
    rest = rule_confirmations.waiting(rooms.house, made["id"], Ask(after=waiting["next"]))
    assert [each["user_name"] for each in rest["items"]] == ["mallory"]
    bob = waiting["items"][0]["id"]
    preview = rule_confirmations.preview_confirming(rooms.house, made["id"], [bob])
    assert [each["person"]["user_name"] for each in preview["people"]] == ["bob"] and have(rooms) == ["ada"]
    rule_confirmations.confirm(rooms.house, rooms.caller, made["id"], [bob])
    assert have(rooms) == ["ada", "bob"]
    with pytest.raises(InvalidInput, match="does not meet the rule"):
        rule_confirmations.confirm(rooms.house, rooms.caller, made["id"], ["nobody"])
    rule_confirmations.confirm(rooms.house, rooms.caller, made["id"], None)
    assert have(rooms) == ["ada", "bob", "mallory"]
    # Whoever no longer meets it loses the role, confirmed or not.
    retitle(rooms, garden, "bob", "Guide")
    assert have(rooms) == ["ada", "mallory"]


def test_a_rule_that_names_a_source_counts_what_this_source_reports(rooms: Rooms, garden: dict[str, str]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", rule=RULE, source="staff"))
    garden["mallory"] = rooms.person(garden["contractors"], "mallory", title="Keeper")
    assert have(rooms, "viewer") == ["ada"]
    shown = line(rooms)
    assert (shown["reach"], shown["source"], shown["confirmed_users"], shown["notes"]) == (1, {"key": "staff", "label": "Staff"}, None, [])
    # A role that is not the highest comes by itself.
    retitle(rooms, garden, "bob")
    assert have(rooms, "viewer") == ["ada", "bob"]


def test_a_rule_without_a_source_is_flagged(rooms: Rooms, garden: dict[str, str]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", rule=RULE))
    assert [each["what"] for each in line(rooms)["notes"]] == ["Any source can report the attributes of this rule."]


def test_future_users_are_confirmed_with_the_name_typed_and_for_one_source_only(rooms: Rooms, garden: dict[str, str]) -> None:
    wish = Wish("records", "curator", rule=RULE, source="staff", future_users=True)
    with pytest.raises(InvalidInput, match="names a source"):
        assignments.add(rooms.house, rooms.caller, Wish("records", "curator", rule=RULE, future_users=True), Sure("Records"))
    assert "in future" in assignment_changes.preview_adding(rooms.house, wish)["confirm"]
    with pytest.raises(NeedsConfirmation, match="in future"):
        assignments.add(rooms.house, rooms.caller, wish)
    made = assignments.add(rooms.house, rooms.caller, wish, Sure("Records"))
    retitle(rooms, garden, "bob")
    rooms.person(garden["contractors"], "mallory", title="Keeper")
    assert have(rooms) == ["ada", "bob"]
    with pytest.raises(InvalidInput, match="no confirmation"):
        rule_confirmations.confirm(rooms.house, rooms.caller, made["id"], None)
    # Another date is no other rule.
    assignments.change(rooms.house, rooms.caller, made["id"], None, "2099-01-01", None)
    assert have(rooms) == ["ada", "bob"]


@pytest.mark.parametrize("how", ["rank", "removed"])
def test_where_a_role_becomes_the_highest_its_users_keep_it_and_others_wait(rooms: Rooms, garden: dict[str, str], how: str) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", rule=RULE))
    assert have(rooms, "viewer") == ["ada"]
    if how == "rank":
        provisioning_roles.change_role(rooms.house, rooms.caller, "records", "viewer", None, 9)
    else:
        provisioning_roles.remove_role(rooms.house, rooms.caller, "records", "curator")
    retitle(rooms, garden, "bob")
    assert have(rooms, "viewer") == ["ada"]
    assert line(rooms)["waiting"] == 1


def test_the_page_of_a_user_who_waits_says_so(rooms: Rooms, garden: dict[str, str]) -> None:
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", rule=RULE))
    retitle(rooms, garden, "bob")
    work_through(rooms.house)
    told = access_explanation.why(rooms.house, "bob", "records")
    assert not told["has_access"]
    assert any("waits for a confirmation" in each for each in told["sentences"])


def test_many_rules_at_once_wait_too(rooms: Rooms, garden: dict[str, str]) -> None:
    role_mapping.bulk(rooms.house, rooms.caller, "records", "person.title, Keeper, curator", apply=True)
    retitle(rooms, garden, "bob")
    assert have(rooms) == ["ada"]
