"""Rules, patterns, exclusions and policies on real records; the mapping table and what it points at."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.scim.patches import read_operations
from dravo.services import settings
from dravo.services.access import assignment_changes, assignments, rule_matches, undo, user_detail
from dravo.services.access import explanation as access_explanation
from dravo.services.access import mapping as role_mapping
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes import recompute
from dravo.services.ingest.types import IngestOptions
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries import groups as group_queries
from tests.service_fixture import ServiceFixture

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def desk(services: ServiceFixture) -> dict[str, str]:
    """A ticket desk whose roles are in the names of groups, and three users."""
    staff = services.source()
    services.application("desk", "cashier", "supervisor")
    users = {
        name: services.user(
            staff, name, displayName=name.title(), title=title, **{ENTERPRISE: {"department": department}}
        )
        for name, title, department in (
            ("ada", "Senior Guide", "Herbarium"),
            ("bob", "Guide", "Estates"),
            ("cyd", "Guide", "Herbarium"),
        )
    }
    return {"staff": staff, **users}


def add(services: ServiceFixture, **wish: Any) -> str:
    return str(
        assignments.add(
            services.ctx, services.caller, AssignmentRequest("desk", wish.pop("role", None), **wish)
        ).id
    )


def roles(services: ServiceFixture) -> dict[str, list[str]]:
    """Return the keys of the roles that users have, by user name; anyone who is marked is worked out
    first.
    """
    recompute.process_marks(services.ctx)
    key_of = {row.id: row.key for row in services.rows(t.role)}
    name_of = {row.id: row.user_name for row in services.rows(t.user)}
    found: dict[str, list[str]] = {}
    for row in services.rows(t.access):
        if row.until_at is None:
            found.setdefault(name_of[row.user_id], []).append(key_of[row.role_id])
    return {name: sorted(each) for name, each in sorted(found.items())}


def test_a_rule_follows_the_user(services: ServiceFixture, desk: dict[str, str]) -> None:
    add(services, role="cashier", rule='department eq "Herbarium" and not (title sw "Senior")')
    assert roles(services) == {"cyd": ["cashier"]}
    services.patch_user(desk["staff"], desk["ada"], {"op": "replace", "path": "title", "value": "Guide"})
    services.patch_user(desk["staff"], desk["cyd"], {"op": "replace", "path": "active", "value": False})
    assert roles(services) == {"ada": ["cashier"]}
    services.user(desk["staff"], "dan", **{ENTERPRISE: {"department": "herbarium"}})
    assert roles(services) == {"ada": ["cashier"], "dan": ["cashier"]}
    line = user_detail.user(services.ctx, "dan").access[0].reasons[0]
    assert (line.kind, line.rule) == ("rule", 'department eq "Herbarium" and not (title sw "Senior")')
    assert "matches the rule 'department eq" in " ".join(
        access_explanation.why(services.ctx, "dan", "desk").sentences
    )
    assert "One of these rules would give access:" in " ".join(
        access_explanation.why(services.ctx, "bob", "desk").sentences
    )


def test_who_a_rule_reaches_is_counted_and_named(services: ServiceFixture, desk: dict[str, str]) -> None:
    group = services.group(desk["staff"], "Botanists", desk["ada"])
    services.group(desk["staff"], "Around", group)
    for rule, names in (
        ('department eq "Herbarium"', ["Ada", "Cyd"]),
        ('groups[display eq "around" and source eq "staff"]', ["Ada"]),
        (f'groups.value eq "{group}"', ["Ada"]),
        ('groups[display eq "around" and source eq "estates"]', []),
        ('source eq "staff"', ["Ada", "Bob", "Cyd"]),
    ):
        found = rule_matches.try_rule(services.ctx, rule)
        assert (found.matching_users, [each.display_name for each in found.users]) == (len(names), names), (
            rule
        )
        identifier = add(services, role="cashier", rule=rule)
        assert len(roles(services)) == len(names), "who is reached is who gets it"
        assignments.remove(services.ctx, services.caller, identifier)


def test_a_rule_over_groups_follows_them(services: ServiceFixture, desk: dict[str, str]) -> None:
    add(services, role="cashier", rule='groups[display eq "Tills" and source eq "staff"]')
    group = services.group(desk["staff"], "Guides", desk["bob"])
    assert roles(services) == {}
    services.patch_group(desk["staff"], group, {"op": "replace", "path": "displayName", "value": "Tills"})
    assert roles(services) == {"bob": ["cashier"]}
    services.add(desk["staff"], group, desk["cyd"])
    services.take_out(desk["staff"], group, desk["bob"])
    assert roles(services) == {"cyd": ["cashier"]}


def test_an_exclusion_precedes_all_assignments(services: ServiceFixture, desk: dict[str, str]) -> None:
    group = services.group(desk["staff"], "Trainees", desk["bob"])
    add(services, role="cashier", everyone=True)
    add(services, role="supervisor", user="bob")
    excluding = add(services, group=group, excludes=True)
    assert roles(services) == {"ada": ["cashier"], "cyd": ["cashier"]}
    assert "excluded from Desk by the group 'Trainees'" in " ".join(
        access_explanation.why(services.ctx, "bob", "desk").sentences
    )
    with pytest.raises(AlreadyExists):
        add(services, group=group, excludes=True)
    assert assignment_changes.preview_removing(services.ctx, excluding).gained == 1
    assignments.remove(services.ctx, services.caller, excluding)
    assert roles(services)["bob"] == ["cashier", "supervisor"]


def test_a_pattern_gives_what_names_say_and_never_the_highest_role_unasked(
    services: ServiceFixture, desk: dict[str, str]
) -> None:
    identifier = add(services, source="staff", pattern="^ticketdesk-(.+)$")
    services.group(desk["staff"], "ticketdesk-cashier", desk["ada"])
    boss = services.group(desk["staff"], "ticketdesk-supervisor", desk["bob"])
    odd = services.group(desk["staff"], "Ticketdesk-Owner", desk["cyd"])
    assert roles(services) == {"ada": ["cashier"]}
    row = role_mapping.table(services.ctx, "desk", PageRequest()).items[0]
    assert [(each.group.name, each.outcome) for each in row.groups] == [
        ("ticketdesk-cashier", "gives"),
        ("Ticketdesk-Owner", "unknown_role"),
        ("ticketdesk-supervisor", "needs_confirmation"),
    ]
    assert row.matching_users == 1
    assert "no role 'Owner'" in row.notes[0].what and "highest role" in row.notes[1].what
    assert (
        assignment_changes.preview_changing(services.ctx, identifier, AssignmentEdit(confirmed=[boss])).gained
        == 1
    )
    assignments.change(services.ctx, services.caller, identifier, AssignmentEdit(confirmed=[boss]))
    assert roles(services) == {"ada": ["cashier"], "bob": ["supervisor"]}
    # Anyone who may name groups at the source gets nothing more by another name.
    services.patch_group(
        desk["staff"], odd, {"op": "replace", "path": "displayName", "value": "ticketdesk-supervisor"}
    )
    assert roles(services) == {"ada": ["cashier"], "bob": ["supervisor"]}
    services.patch_group(
        desk["staff"], odd, {"op": "replace", "path": "displayName", "value": "ticketdesk-cashier"}
    )
    assert roles(services) == {"ada": ["cashier"], "bob": ["supervisor"], "cyd": ["cashier"]}
    provisioning_roles.add_role(services.ctx, services.caller, "desk", "owner", RoleEdit("Owner", 9))
    assert "by its name" in " ".join(access_explanation.why(services.ctx, "cyd", "desk").sentences)
    estates = services.source("estates")
    services.group(estates, "ticketdesk-cashier", services.user(estates, "eve"))
    assert "eve" not in roles(services), "a pattern is for the groups of one source"


def test_the_table_points_at_what_is_warning(services: ServiceFixture, desk: dict[str, str]) -> None:
    empty = services.group(desk["staff"], "Empty")
    numbered = services.group(desk["staff"], "6f1c2d34-9b1a-4c3d-8e2f-0a1b2c3d4e5f", desk["ada"])
    gone = services.group(desk["staff"], "Gone", desk["ada"])
    for group in (empty, numbered, gone):
        add(services, role="cashier", group=group)
    services.intake.remove_group(desk["staff"], gone)
    add(services, role="cashier", rule='title eq "Director"')
    add(services, source="staff", pattern="desk-(.+)")
    notes = [
        " ".join(note.what for note in row.notes)
        for row in role_mapping.table(services.ctx, "desk", PageRequest()).items
    ]
    for note, words in zip(
        notes,
        (
            "The assignment matches no users. ",
            "looks like an ID",
            "deleted this group",
            "No user matches the rule.",
            "No group name of this source matches.",
        ),
        strict=True,
    ):
        assert words in note
    assert "only contain it" in notes[-1]
    assert all(
        note.hint
        for row in role_mapping.table(services.ctx, "desk", PageRequest()).items
        for note in row.notes
    )
    tried = role_mapping.try_pattern(services.ctx, "desk", "staff", "^(empty)$", [])
    assert (tried.matching_users, tried.groups[0].outcome) == (0, "unknown_role")


def test_many_groups_are_mapped_at_once_or_none(services: ServiceFixture, desk: dict[str, str]) -> None:
    services.group(desk["staff"], "Guides", desk["ada"], desk["bob"])
    tills = services.group(desk["staff"], "Tills, north", desk["cyd"])
    text = (
        f"Source;Group;Role\nstaff;Guides;cashier\nstaff;{tills};supervisor\nstaff;guides;cashier\n"
        'staff;Nobody;cashier\n;"Tills, north";boss\n'
    )
    looked = role_mapping.bulk(services.ctx, services.caller, "desk", text, apply=False)
    assert [line.status for line in looked.lines] == ["new", "new", "exists", "invalid", "invalid"]
    assert "no group" in looked.lines[3].message and "no role 'boss'" in looked.lines[4].message
    assert (looked.preview.gained, looked.done) == (3, 0)
    with pytest.raises(InvalidInput, match="Line 5"):
        role_mapping.bulk(services.ctx, services.caller, "desk", text, apply=True)
    assert roles(services) == {} and services.rows(t.assignment) == []
    good = "\n".join(text.splitlines()[:3]).replace(";", "\t")
    assert role_mapping.bulk(services.ctx, services.caller, "desk", good, apply=True).done == 2
    assert roles(services) == {"ada": ["cashier"], "bob": ["cashier"], "cyd": ["supervisor"]}
    for text, words in (
        ("", "The input is empty."),
        ("a,b", "three values"),
        ("source,group,role", "The input is empty."),
    ):
        with pytest.raises(InvalidInput, match=words):
            role_mapping.bulk(services.ctx, services.caller, "desk", text, apply=False)


def test_a_policy_is_previewed_and_then_holds(services: ServiceFixture, desk: dict[str, str]) -> None:
    policy = {"eligibility": "everyone", "fallback": "fallback_role", "fallback_role": "cashier"}
    assert access_policies.preview(services.ctx, "desk", policy).gained == 3
    assert roles(services) == {}
    access_policies.change(services.ctx, services.caller, "desk", policy)
    assert roles(services) == {name: ["cashier"] for name in ("ada", "bob", "cyd")}
    assert "no assignment gives a role, so the fallback role applies" in " ".join(
        access_explanation.why(services.ctx, "ada", "desk").sentences
    )
    add(services, role="supervisor", user="ada")
    assert roles(services)["ada"] == ["supervisor"]
    access_policies.change(services.ctx, services.caller, "desk", {"fallback": "no_access"})
    assert roles(services) == {"ada": ["supervisor"]}
    with pytest.raises(InvalidInput, match="The fallback role is missing"):
        services.application("other")
        access_policies.change(services.ctx, services.caller, "other", {"fallback": "fallback_role"})
    with pytest.raises(NotFound):
        access_policies.change(services.ctx, services.caller, "desk", {"fallback_role": "boss"})


def test_roles_are_retained_where_the_policy_says_so(services: ServiceFixture, desk: dict[str, str]) -> None:
    group = services.group(desk["staff"], "Guides", desk["ada"], desk["bob"])
    add(services, role="supervisor", group=group)
    access_policies.change(
        services.ctx, services.caller, "desk", {"eligibility": "everyone", "fallback": "retain"}
    )
    services.take_out(desk["staff"], group, desk["ada"])
    assert roles(services) == {"ada": ["supervisor"], "bob": ["supervisor"]}
    assert [row.until_at for row in services.rows(t.retained_role)] == [None]
    assert "retains the last roles" in " ".join(access_explanation.why(services.ctx, "ada", "desk").sentences)
    services.patch_user(desk["staff"], desk["ada"], {"op": "replace", "path": "active", "value": False})
    assert roles(services) == {"bob": ["supervisor"]}
    services.patch_user(desk["staff"], desk["ada"], {"op": "replace", "path": "active", "value": True})
    assert roles(services) == {"ada": ["supervisor"], "bob": ["supervisor"]}, "who was only inactive keeps it"
    access_policies.change(services.ctx, services.caller, "desk", {"eligibility": "assigned"})
    access_policies.change(services.ctx, services.caller, "desk", {"eligibility": "everyone"})
    assert roles(services) == {"bob": ["supervisor"]}, "who was shut out once has nothing to keep"


def test_newcomers_only_leaves_those_alone_who_are_there(
    services: ServiceFixture, desk: dict[str, str]
) -> None:
    add(services, role="cashier", everyone=True, new_users_only=True)
    services.user(desk["staff"], "dan")
    assert roles(services) == {"dan": ["cashier"]}


def test_days_are_the_organization_s_and_move_with_its_time_zone(
    services: ServiceFixture, desk: dict[str, str]
) -> None:
    identifier = add(services, role="cashier", user="ada", until_at="2031-04-02")
    assert assignments.one(services.ctx, identifier).until == "2031-04-03T00:00:00.000000Z"
    settings.change(services.ctx, services.caller, "time_zone", "Asia/Tokyo")
    line = assignments.one(services.ctx, identifier)
    assert (line.until, line.until_day) == ("2031-04-02T15:00:00.000000Z", "2031-04-02")
    assert roles(services) == {"ada": ["cashier"]}
    user = next(row for row in services.rows(t.user) if row.user_name == "ada")
    assert user.next_change_at == "2031-04-02T15:00:00.000000Z"
    with pytest.raises(InvalidInput, match="'Fernhollow' is not a time zone"):
        settings.change(services.ctx, services.caller, "time_zone", "Fernhollow")


def test_a_rule_can_ask_for_a_source_s_own_schema_which_then_stays(
    services: ServiceFixture, desk: dict[str, str]
) -> None:
    urn = "urn:fernhollow:garden"
    document = {
        "id": urn,
        "name": "Garden",
        "attributes": [{"name": "bed", "type": "string", "multiValued": False}],
    }
    source_schemas.add(services.ctx, services.caller, "staff", "User", document)
    add(services, role="cashier", rule=f'{urn}:bed eq "7"')
    with services.ctx.database.reading() as connection:
        source = connection.execute(t.source.select()).one()
        shape = source_schemas.of_source(services.ctx, connection, source.id)
    operations = read_operations(
        {"Operations": [{"op": "add", "path": f"{urn}:bed", "value": "7"}]}, shape.user
    )
    services.intake.patch_user(desk["staff"], desk["ada"], operations, IngestOptions(shape))
    assert roles(services) == {"ada": ["cashier"]}
    with pytest.raises(StillInUse, match="' uses the schema: "):
        source_schemas.remove(services.ctx, services.caller, "staff", urn)
    assignments.remove(services.ctx, services.caller, services.rows(t.assignment)[0].id)
    source_schemas.remove(services.ctx, services.caller, "staff", urn)
    assert roles(services) == {}


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        ({"role": "cashier", "everyone": True, "user": "ada"}, "The assignment needs exactly one target"),
        ({"pattern": "^a-(.+)$"}, "A group name pattern needs a source"),
        ({"pattern": "^a-(.+)$", "source": "staff", "role": "cashier"}, "captured part"),
        ({"pattern": "a", "source": "staff"}, "captures 0"),
        ({"role": "cashier", "user": "ada", "excludes": True}, "An exclusion cannot have a role"),
        ({"role": "cashier", "user": "ada", "new_users_only": True}, "new users"),
        ({"role": "cashier", "rule": 'groups.display eq "x"'}, "source"),
        ({"everyone": True, "until_at": "2020-01-01"}, "The end date is in the past."),
    ],
)
def test_a_wish_that_makes_no_sense_is_refused_with_the_hint(
    services: ServiceFixture, desk: dict[str, str], wish: dict[str, Any], words: str
) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        add(services, **wish)
    assert told.value.hint
    assert services.rows(t.assignment) == []


def test_everything_that_is_previewed_happens(services: ServiceFixture, desk: dict[str, str]) -> None:
    group = services.group(desk["staff"], "ticketdesk-cashier", desk["ada"])
    for wish in (
        AssignmentRequest("desk", "cashier", everyone=True),
        AssignmentRequest("desk", "supervisor", rule='title sw "Senior"'),
        AssignmentRequest("desk", None, group=group, excludes=True),
        AssignmentRequest("desk", None, source="staff", pattern="^ticketdesk-(.+)$"),
        AssignmentRequest("desk", "cashier", user="bob", from_at=clock.now()),
        AssignmentRequest("desk", "supervisor", rule='groups[display sw "ticket" and source eq "staff"]'),
    ):
        before = roles(services)
        preview = assignment_changes.preview_adding(services.ctx, wish)
        made = assignments.add(services.ctx, services.caller, wish)
        after = roles(services)
        names = {*before, *after}
        counted = {
            "gained": sum(name not in before for name in names),
            "lost": sum(name not in after for name in names),
            "changed": sum(
                name in before and name in after and before[name] != after[name] for name in names
            ),
        }
        assert {name: getattr(preview, name) for name in counted} == counted, wish
        undone = assignment_changes.preview_removing(services.ctx, made.id)
        assert (undone.gained, undone.lost, undone.changed) == (
            counted["lost"],
            counted["gained"],
            counted["changed"],
        ), wish


def test_a_source_that_a_pattern_or_rule_needs_stays(services: ServiceFixture, desk: dict[str, str]) -> None:
    services.source("estates")
    urn = "urn:fernhollow:garden"
    source_schemas.add(
        services.ctx,
        services.caller,
        "estates",
        "User",
        {"id": urn, "name": "Garden", "attributes": [{"name": "bed", "type": "string"}]},
    )
    pattern = add(services, source="estates", pattern="^desk-(.+)$")
    with pytest.raises(StillInUse, match="' maps groups of this source with the pattern"):
        sources.remove(services.ctx, services.caller, "estates")
    assignments.remove(services.ctx, services.caller, pattern)
    entry = services.rows(t.audit)[-1].id
    rule = add(services, role="cashier", rule=f'{urn}:bed eq "7"')
    with pytest.raises(StillInUse, match="' uses the schema: "):
        sources.remove(services.ctx, services.caller, "estates")
    assert [row.key for row in services.rows(t.source)] == ["staff", "estates"], "nothing of it is gone"
    assignments.remove(services.ctx, services.caller, rule)
    sources.remove(services.ctx, services.caller, "estates")
    assert [row.key for row in services.rows(t.source)] == ["staff"]
    with pytest.raises(NotFound, match="The source of this pattern was deleted"):
        undo.preview(services.ctx, entry)


def test_groups_without_a_mapping_are_distinguished(services: ServiceFixture, desk: dict[str, str]) -> None:
    add(services, source="staff", pattern="^ticketdesk-(.+)$")
    named = services.group(desk["staff"], "Guides", desk["ada"])
    for name in ("ticketdesk-cashier", "ticketdesk-supervisor", "First aiders"):
        services.group(desk["staff"], name, desk["bob"])
    add(services, role="cashier", group=named)

    def listed(mapped: bool | None) -> dict[str, int]:
        with services.ctx.database.reading() as connection:
            given = {
                group: len(each) for group, each in services.ctx.catalogue.get(connection).by_group.items()
            }
            found = group_queries.groups(connection, PageRequest(), None, None, given, mapped=mapped)
        return {each.name: each.assignments for each in found.items}

    assert listed(True) == {"Guides": 1, "ticketdesk-cashier": 1}
    assert listed(False) == {"First aiders": 0, "ticketdesk-supervisor": 0}, (
        "the highest role waits to be confirmed"
    )
    assert len(listed(None)) == 4
