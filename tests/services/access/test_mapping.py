"""Rules, patterns, exclusions and policies on real records; the mapping table and what it points at."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, StillInUse
from dravo.core.scim.patches import read_operations
from dravo.services import settings
from dravo.services.access import assignment_changes, assignments, rule_matches, undo
from dravo.services.access import explanation as access_explanation
from dravo.services.access import mapping as role_mapping
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.ingest.types import Manner
from dravo.services.provisioning import roles as provisioning_roles
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import Ask
from dravo.store.queries import groups as group_queries
from tests.service_fixture import Rooms

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def desk(rooms: Rooms) -> dict[str, str]:
    """A ticket desk whose roles are in the names of groups, and three people."""
    staff = rooms.source()
    rooms.application("desk", "cashier", "supervisor")
    people = {
        name: rooms.person(staff, name, displayName=name.title(), title=title, **{ENTERPRISE: {"department": department}})
        for name, title, department in (("ada", "Senior Guide", "Herbarium"), ("bob", "Guide", "Estates"), ("cyd", "Guide", "Herbarium"))
    }
    return {"staff": staff, **people}


def add(rooms: Rooms, **wish: Any) -> str:
    return str(assignments.add(rooms.house, rooms.caller, Wish("desk", wish.pop("role", None), **wish))["id"])


def roles(rooms: Rooms) -> dict[str, list[str]]:
    """Return the keys of the roles that people have, by user name; whoever is marked is worked out first."""
    recompute.work_through(rooms.house)
    key_of = {row.id: row.key for row in rooms.rows(t.role)}
    name_of = {row.id: row.user_name for row in rooms.rows(t.user)}
    found: dict[str, list[str]] = {}
    for row in rooms.rows(t.access):
        if row.until_at is None:
            found.setdefault(name_of[row.user_id], []).append(key_of[row.role_id])
    return {name: sorted(each) for name, each in sorted(found.items())}


def test_a_rule_follows_the_person(rooms: Rooms, desk: dict[str, str]) -> None:
    add(rooms, role="cashier", rule='department eq "Herbarium" and not (title sw "Senior")')
    assert roles(rooms) == {"cyd": ["cashier"]}
    rooms.patch_person(desk["staff"], desk["ada"], {"op": "replace", "path": "title", "value": "Guide"})
    rooms.patch_person(desk["staff"], desk["cyd"], {"op": "replace", "path": "active", "value": False})
    assert roles(rooms) == {"ada": ["cashier"]}
    rooms.person(desk["staff"], "dan", **{ENTERPRISE: {"department": "herbarium"}})
    assert roles(rooms) == {"ada": ["cashier"], "dan": ["cashier"]}
    line = access_explanation.person(rooms.house, "dan")["access"][0]["reasons"][0]
    assert (line["kind"], line["rule"]) == ("rule", 'department eq "Herbarium" and not (title sw "Senior")')
    assert "meets the rule 'department eq" in " ".join(access_explanation.why(rooms.house, "dan", "desk")["sentences"])
    assert "Meeting one of these rules would give it" in " ".join(access_explanation.why(rooms.house, "bob", "desk")["sentences"])


def test_who_a_rule_reaches_is_counted_and_named(rooms: Rooms, desk: dict[str, str]) -> None:
    group = rooms.group(desk["staff"], "Botanists", desk["ada"])
    rooms.group(desk["staff"], "Around", group)
    for rule, names in (
        ('department eq "Herbarium"', ["Ada", "Cyd"]), ('groups[display eq "around" and source eq "staff"]', ["Ada"]),
        (f'groups.value eq "{group}"', ["Ada"]), ('groups[display eq "around" and source eq "estates"]', []), ('source eq "staff"', ["Ada", "Bob", "Cyd"]),
    ):  # fmt: skip
        found = rule_matches.try_rule(rooms.house, rule)
        assert (found["reach"], [each["display_name"] for each in found["people"]]) == (len(names), names), rule
        identifier = add(rooms, role="cashier", rule=rule)
        assert len(roles(rooms)) == len(names), "who is reached is who gets it"
        assignments.remove(rooms.house, rooms.caller, identifier)


def test_a_rule_over_groups_follows_them(rooms: Rooms, desk: dict[str, str]) -> None:
    add(rooms, role="cashier", rule='groups[display eq "Tills" and source eq "staff"]')
    group = rooms.group(desk["staff"], "Guides", desk["bob"])
    assert roles(rooms) == {}
    rooms.patch_group(desk["staff"], group, {"op": "replace", "path": "displayName", "value": "Tills"})
    assert roles(rooms) == {"bob": ["cashier"]}
    rooms.add(desk["staff"], group, desk["cyd"])
    rooms.take_out(desk["staff"], group, desk["bob"])
    assert roles(rooms) == {"cyd": ["cashier"]}


def test_an_exclusion_comes_before_everything(rooms: Rooms, desk: dict[str, str]) -> None:
    group = rooms.group(desk["staff"], "Trainees", desk["bob"])
    add(rooms, role="cashier", everybody=True)
    add(rooms, role="supervisor", person="bob")
    excluding = add(rooms, group=group, excludes=True)
    assert roles(rooms) == {"ada": ["cashier"], "cyd": ["cashier"]}
    assert "kept out of Desk by the group 'Trainees'" in " ".join(access_explanation.why(rooms.house, "bob", "desk")["sentences"])
    with pytest.raises(AlreadyThere):
        add(rooms, group=group, excludes=True)
    assert assignment_changes.preview_removing(rooms.house, excluding)["gained"] == 1
    assignments.remove(rooms.house, rooms.caller, excluding)
    assert roles(rooms)["bob"] == ["cashier", "supervisor"]


def test_a_pattern_gives_what_names_say_and_never_the_highest_role_unasked(rooms: Rooms, desk: dict[str, str]) -> None:
    identifier = add(rooms, source="staff", pattern="^ticketdesk-(.+)$")
    rooms.group(desk["staff"], "ticketdesk-cashier", desk["ada"])
    boss = rooms.group(desk["staff"], "ticketdesk-supervisor", desk["bob"])
    odd = rooms.group(desk["staff"], "Ticketdesk-Owner", desk["cyd"])
    assert roles(rooms) == {"ada": ["cashier"]}
    row = role_mapping.table(rooms.house, "desk", Ask())["items"][0]
    assert [(each["group"]["name"], each["outcome"]) for each in row["groups"]] == [
        ("ticketdesk-cashier", "gives"), ("Ticketdesk-Owner", "no such role"), ("ticketdesk-supervisor", "to be confirmed")
    ]  # fmt: skip
    assert row["reach"] == 1
    assert "no role 'Owner'" in row["notes"][0]["what"] and "highest role" in row["notes"][1]["what"]
    assert assignment_changes.preview_changing(rooms.house, identifier, None, None, [boss])["gained"] == 1
    assignments.change(rooms.house, rooms.caller, identifier, None, None, None, [boss])
    assert roles(rooms) == {"ada": ["cashier"], "bob": ["supervisor"]}
    # Whoever may name groups at the source gets nothing more by another name.
    rooms.patch_group(desk["staff"], odd, {"op": "replace", "path": "displayName", "value": "ticketdesk-supervisor"})
    assert roles(rooms) == {"ada": ["cashier"], "bob": ["supervisor"]}
    rooms.patch_group(desk["staff"], odd, {"op": "replace", "path": "displayName", "value": "ticketdesk-cashier"})
    assert roles(rooms) == {"ada": ["cashier"], "bob": ["supervisor"], "cyd": ["cashier"]}
    provisioning_roles.add_role(rooms.house, rooms.caller, "desk", "owner", "Owner", 9)
    assert "by its name" in " ".join(access_explanation.why(rooms.house, "cyd", "desk")["sentences"])
    estates = rooms.source("estates")
    rooms.group(estates, "ticketdesk-cashier", rooms.person(estates, "eve"))
    assert "eve" not in roles(rooms), "a pattern is for the groups of one source"


def test_the_table_points_at_what_is_amiss(rooms: Rooms, desk: dict[str, str]) -> None:
    empty = rooms.group(desk["staff"], "Empty")
    numbered = rooms.group(desk["staff"], "6f1c2d34-9b1a-4c3d-8e2f-0a1b2c3d4e5f", desk["ada"])
    gone = rooms.group(desk["staff"], "Gone", desk["ada"])
    for group in (empty, numbered, gone):
        add(rooms, role="cashier", group=group)
    rooms.intake.remove_group(desk["staff"], gone)
    add(rooms, role="cashier", rule='title eq "Director"')
    add(rooms, source="staff", pattern="desk-(.+)")
    notes = [" ".join(note["what"] for note in row["notes"]) for row in role_mapping.table(rooms.house, "desk", Ask())["items"]]
    for note, words in zip(
        notes, ("reaches nobody", "looks like an id", "deleted this group", "Nobody meets", "No group of this source"), strict=True
    ):
        assert words in note
    assert "only contain it" in notes[-1]
    assert all(note["mend"] for row in role_mapping.table(rooms.house, "desk", Ask())["items"] for note in row["notes"])
    tried = role_mapping.try_pattern(rooms.house, "desk", "staff", "^(empty)$", [])
    assert (tried["reach"], tried["groups"][0]["outcome"]) == (0, "no such role")


def test_many_groups_are_mapped_at_once_or_none(rooms: Rooms, desk: dict[str, str]) -> None:
    rooms.group(desk["staff"], "Guides", desk["ada"], desk["bob"])
    tills = rooms.group(desk["staff"], "Tills, north", desk["cyd"])
    text = f'Source;Group;Role\nstaff;Guides;cashier\nstaff;{tills};supervisor\nstaff;guides;cashier\nstaff;Nobody;cashier\n;"Tills, north";boss\n'
    looked = role_mapping.bulk(rooms.house, rooms.caller, "desk", text, apply=False)
    assert [line["state"] for line in looked["lines"]] == ["new", "new", "there already", "wrong", "wrong"]
    assert "no group" in looked["lines"][3]["message"] and "no role 'boss'" in looked["lines"][4]["message"]
    assert (looked["preview"]["gained"], looked["done"]) == (3, 0)
    with pytest.raises(InvalidInput, match="Line 5"):
        role_mapping.bulk(rooms.house, rooms.caller, "desk", text, apply=True)
    assert roles(rooms) == {} and rooms.rows(t.assignment) == []
    good = "\n".join(text.splitlines()[:3]).replace(";", "\t")
    assert role_mapping.bulk(rooms.house, rooms.caller, "desk", good, apply=True)["done"] == 2
    assert roles(rooms) == {"ada": ["cashier"], "bob": ["cashier"], "cyd": ["supervisor"]}
    for text, words in (("", "nothing in it"), ("a,b", "three values"), ("source,group,role", "nothing in it")):
        with pytest.raises(InvalidInput, match=words):
            role_mapping.bulk(rooms.house, rooms.caller, "desk", text, apply=False)


def test_a_policy_is_previewed_and_then_holds(rooms: Rooms, desk: dict[str, str]) -> None:
    policy = {"open_to": "everybody", "if_nothing": "default role", "default_role": "cashier"}
    assert access_policies.preview(rooms.house, "desk", policy)["gained"] == 3
    assert roles(rooms) == {}
    access_policies.change(rooms.house, rooms.caller, "desk", policy)
    assert roles(rooms) == {name: ["cashier"] for name in ("ada", "bob", "cyd")}
    assert "this one is the default" in " ".join(access_explanation.why(rooms.house, "ada", "desk")["sentences"])
    add(rooms, role="supervisor", person="ada")
    assert roles(rooms)["ada"] == ["supervisor"]
    access_policies.change(rooms.house, rooms.caller, "desk", {"if_nothing": "no access"})
    assert roles(rooms) == {"ada": ["supervisor"]}
    with pytest.raises(InvalidInput, match="default role has to be said"):
        rooms.application("other")
        access_policies.change(rooms.house, rooms.caller, "other", {"if_nothing": "default role"})
    with pytest.raises(NotFound):
        access_policies.change(rooms.house, rooms.caller, "desk", {"default_role": "boss"})


def test_what_people_have_is_kept_where_that_is_the_policy(rooms: Rooms, desk: dict[str, str]) -> None:
    group = rooms.group(desk["staff"], "Guides", desk["ada"], desk["bob"])
    add(rooms, role="supervisor", group=group)
    access_policies.change(rooms.house, rooms.caller, "desk", {"open_to": "everybody", "if_nothing": "keep"})
    rooms.take_out(desk["staff"], group, desk["ada"])
    assert roles(rooms) == {"ada": ["supervisor"], "bob": ["supervisor"]}
    assert [row.until_at for row in rooms.rows(t.kept)] == [None]
    assert "is kept" in " ".join(access_explanation.why(rooms.house, "ada", "desk")["sentences"])
    rooms.patch_person(desk["staff"], desk["ada"], {"op": "replace", "path": "active", "value": False})
    assert roles(rooms) == {"bob": ["supervisor"]}
    rooms.patch_person(desk["staff"], desk["ada"], {"op": "replace", "path": "active", "value": True})
    assert roles(rooms) == {"ada": ["supervisor"], "bob": ["supervisor"]}, "who was only inactive keeps it"
    access_policies.change(rooms.house, rooms.caller, "desk", {"open_to": "assigned"})
    access_policies.change(rooms.house, rooms.caller, "desk", {"open_to": "everybody"})
    assert roles(rooms) == {"bob": ["supervisor"]}, "who was shut out once has nothing to keep"


def test_newcomers_only_leaves_those_alone_who_are_there(rooms: Rooms, desk: dict[str, str]) -> None:
    add(rooms, role="cashier", everybody=True, newcomers_only=True)
    rooms.person(desk["staff"], "dan")
    assert roles(rooms) == {"dan": ["cashier"]}


def test_days_are_the_organisation_s_and_move_with_its_time_zone(rooms: Rooms, desk: dict[str, str]) -> None:
    identifier = add(rooms, role="cashier", person="ada", until_at="2031-04-02")
    assert assignments.one(rooms.house, identifier)["until"] == "2031-04-03T00:00:00.000000Z"
    settings.change(rooms.house, rooms.caller, "time_zone", "Asia/Tokyo")
    line = assignments.one(rooms.house, identifier)
    assert (line["until"], line["until_day"]) == ("2031-04-02T15:00:00.000000Z", "2031-04-02")
    assert roles(rooms) == {"ada": ["cashier"]}
    user = next(row for row in rooms.rows(t.user) if row.user_name == "ada")
    assert user.next_change_at == "2031-04-02T15:00:00.000000Z"
    with pytest.raises(InvalidInput, match="no time zone"):
        settings.change(rooms.house, rooms.caller, "time_zone", "Fernhollow")


def test_a_rule_can_ask_for_a_source_s_own_schema_which_then_stays(rooms: Rooms, desk: dict[str, str]) -> None:
    urn = "urn:fernhollow:garden"
    document = {"id": urn, "name": "Garden", "attributes": [{"name": "bed", "type": "string", "multiValued": False}]}
    source_schemas.add(rooms.house, rooms.caller, "staff", "User", document)
    add(rooms, role="cashier", rule=f'{urn}:bed eq "7"')
    with rooms.house.database.reading() as connection:
        source = connection.execute(t.source.select()).one()
        shape = source_schemas.of_source(rooms.house, connection, source.id)
    operations = read_operations({"Operations": [{"op": "add", "path": f"{urn}:bed", "value": "7"}]}, shape.user)
    rooms.intake.patch_person(desk["staff"], desk["ada"], operations, Manner(shape))
    assert roles(rooms) == {"ada": ["cashier"]}
    with pytest.raises(StillInUse, match="asks for it"):
        source_schemas.remove(rooms.house, rooms.caller, "staff", urn)
    assignments.remove(rooms.house, rooms.caller, rooms.rows(t.assignment)[0].id)
    source_schemas.remove(rooms.house, rooms.caller, "staff", urn)
    assert roles(rooms) == {}


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        ({"role": "cashier", "everybody": True, "person": "ada"}, "for everybody"), ({"pattern": "^a-(.+)$"}, "one source"),
        ({"pattern": "^a-(.+)$", "source": "staff", "role": "cashier"}, "captured part"), ({"pattern": "a", "source": "staff"}, "captures 0"),
        ({"role": "cashier", "person": "ada", "excludes": True}, "no role"), ({"role": "cashier", "person": "ada", "newcomers_only": True}, "newcomers"),
        ({"role": "cashier", "rule": 'groups.display eq "x"'}, "source"), ({"everybody": True, "until_at": "2020-01-01"}, "ended already"),
    ],
)  # fmt: skip
def test_a_wish_that_makes_no_sense_is_refused_with_the_mend(rooms: Rooms, desk: dict[str, str], wish: dict[str, Any], words: str) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        add(rooms, **wish)
    assert told.value.mend
    assert rooms.rows(t.assignment) == []


def test_everything_that_is_previewed_happens(rooms: Rooms, desk: dict[str, str]) -> None:
    group = rooms.group(desk["staff"], "ticketdesk-cashier", desk["ada"])
    for wish in (
        Wish("desk", "cashier", everybody=True), Wish("desk", "supervisor", rule='title sw "Senior"'), Wish("desk", None, group=group, excludes=True),
        Wish("desk", None, source="staff", pattern="^ticketdesk-(.+)$"), Wish("desk", "cashier", person="bob", from_at=clock.now()),
        Wish("desk", "supervisor", rule='groups[display sw "ticket" and source eq "staff"]'),
    ):  # fmt: skip
        before = roles(rooms)
        preview = assignment_changes.preview_adding(rooms.house, wish)
        made = assignments.add(rooms.house, rooms.caller, wish)
        after = roles(rooms)
        names = {*before, *after}
        counted = {
            "gained": sum(name not in before for name in names), "lost": sum(name not in after for name in names),
            "changed": sum(name in before and name in after and before[name] != after[name] for name in names),
        }  # fmt: skip
        assert {name: preview[name] for name in counted} == counted, wish
        undone = assignment_changes.preview_removing(rooms.house, made["id"])
        assert (undone["gained"], undone["lost"], undone["changed"]) == (counted["lost"], counted["gained"], counted["changed"]), wish


def test_a_source_that_a_pattern_or_rule_needs_stays(rooms: Rooms, desk: dict[str, str]) -> None:
    rooms.source("estates")
    urn = "urn:fernhollow:garden"
    source_schemas.add(rooms.house, rooms.caller, "estates", "User", {"id": urn, "name": "Garden", "attributes": [{"name": "bed", "type": "string"}]})
    pattern = add(rooms, source="estates", pattern="^desk-(.+)$")
    with pytest.raises(StillInUse, match="by the pattern"):
        sources.remove(rooms.house, rooms.caller, "estates")
    assignments.remove(rooms.house, rooms.caller, pattern)
    entry = rooms.rows(t.audit)[-1].id
    rule = add(rooms, role="cashier", rule=f'{urn}:bed eq "7"')
    with pytest.raises(StillInUse, match="asks for it"):
        sources.remove(rooms.house, rooms.caller, "estates")
    assert [row.key for row in rooms.rows(t.source)] == ["staff", "estates"], "nothing of it is gone"
    assignments.remove(rooms.house, rooms.caller, rule)
    sources.remove(rooms.house, rooms.caller, "estates")
    assert [row.key for row in rooms.rows(t.source)] == ["staff"]
    with pytest.raises(NotFound, match="source of this pattern is gone"):
        undo.preview(rooms.house, entry)


def test_groups_that_map_to_nothing_are_told_apart(rooms: Rooms, desk: dict[str, str]) -> None:
    add(rooms, source="staff", pattern="^ticketdesk-(.+)$")
    named = rooms.group(desk["staff"], "Guides", desk["ada"])
    for name in ("ticketdesk-cashier", "ticketdesk-supervisor", "First aiders"):
        rooms.group(desk["staff"], name, desk["bob"])
    add(rooms, role="cashier", group=named)

    def listed(mapped: bool | None) -> dict[str, int]:
        with rooms.house.database.reading() as connection:
            given = {group: len(each) for group, each in rooms.house.catalogue.get(connection).by_group.items()}
            found = group_queries.groups(connection, Ask(), None, None, given, mapped=mapped)
        return {each["name"]: each["assignments"] for each in found["items"]}

    assert listed(True) == {"Guides": 1, "ticketdesk-cashier": 1}
    assert listed(False) == {"First aiders": 0, "ticketdesk-supervisor": 0}, "the highest role waits to be confirmed"
    assert len(listed(None)) == 4
