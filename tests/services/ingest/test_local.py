"""People and groups that operators enter here: who may be made, what they give, and what a change is shown to do."""

from __future__ import annotations

import pytest

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, NotPermitted, WorldMoved
from dravo.core.scim.errors import ScimError
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes.preview import Sure
from dravo.services.changes.recompute import work_through
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.ingest.local.source import local_source
from dravo.services.sources import tokens as scim_tokens
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms


def held(rooms: Rooms, role: str = "viewer") -> set[str]:
    """Return the user names of everybody who has a role now."""
    work_through(rooms.house)
    names = {row.id: row.user_name for row in rooms.rows(t.user)}
    roles = {row.id: row.key for row in rooms.rows(t.role)}
    return {names[row.user_id] for row in rooms.rows(t.access, until_at=None) if roles[row.role_id] == role}


def test_somebody_whom_no_source_knows_is_entered_changed_and_goes(rooms: Rooms) -> None:
    rooms.application()
    user = local_users.add(
        rooms.house, rooms.caller, {"user_name": " ida ", "given_name": "Ida", "family_name": "Vosper", "email": "ida@fernhollow.example"}
    )
    row = rooms.rows(t.user, id=user)[0]
    assert (row.user_name, row.display_name, row.email, row.active) == ("ida", "Ida Vosper", "ida@fernhollow.example", True)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", person="ida"))
    assert held(rooms) == {"ida"}
    shown = local_users.preview(rooms.house, "ida", {"user_name": "ida", "active": False})
    assert (shown["lost"], shown["people"][0]["application"]["key"], held(rooms)) == (1, "records", {"ida"})
    local_users.change(rooms.house, rooms.caller, "ida", {"user_name": "ida.vosper", "active": False})
    assert (held(rooms), rooms.rows(t.user, id=user)[0].user_name) == (set(), "ida.vosper")
    local_users.change(rooms.house, rooms.caller, user, {"user_name": "ida.vosper"})
    assert held(rooms) == {"ida.vosper"}
    assert local_users.preview(rooms.house, user, None)["lost"] == 1
    local_users.remove(rooms.house, rooms.caller, user)
    assert held(rooms) == set() and rooms.rows(t.user, id=user)[0].gone_at is not None


def test_where_everybody_comes_through_a_source_nobody_is_entered(rooms: Rooms) -> None:
    settings.change(rooms.house, rooms.caller, "local_people", 0)
    with pytest.raises(NotPermitted, match="through sources only") as wrong:
        local_users.add(rooms.house, rooms.caller, {"user_name": "ida"})
    assert wrong.value.mend and rooms.rows(t.user) == []
    settings.change(rooms.house, rooms.caller, "local_people", 1)
    assert local_users.add(rooms.house, rooms.caller, {"user_name": "ida"})


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({}, "needs a user name"), ({"user_name": "  "}, "needs a user name"), ({"user_name": "x", "email": "nobody"}, "no e-mail address"),
        ({"user_name": "x", "email": "a@b@c"}, "no e-mail address"), ({"user_name": "x", "email": "a b@c"}, "no e-mail address"),
    ],
)  # fmt: skip
def test_what_cannot_be_somebody_is_refused_with_the_mend(rooms: Rooms, given: dict[str, str], said: str) -> None:
    with pytest.raises(InvalidInput, match=said) as wrong:
        local_users.add(rooms.house, rooms.caller, given)
    assert wrong.value.mend and rooms.rows(t.user) == []


@pytest.mark.parametrize("given", [{"user_name": "ADA"}, {"user_name": "other", "email": "Ada@fernhollow.example"}])
def test_nobody_is_made_a_second_time_by_name_or_e_mail(rooms: Rooms, given: dict[str, str]) -> None:
    rooms.person(rooms.source(), "ada", emails=[{"value": "ada@fernhollow.example"}])
    with pytest.raises(AlreadyThere) as wrong:
        local_users.add(rooms.house, rooms.caller, given)
    assert rooms.rows(t.user)[0].id in wrong.value.mend
    assert len(rooms.rows(t.user)) == len(rooms.rows(t.record)) == 1
    local_users.add(rooms.house, rooms.caller, {"user_name": "bob"})
    with pytest.raises(AlreadyThere):
        local_users.change(rooms.house, rooms.caller, "bob", {**given, "user_name": given["user_name"]})


def test_what_a_source_says_is_not_changed_here(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.person(staff, "ada")
    herbarium = rooms.group(staff, "Herbarium")
    with pytest.raises(InvalidInput, match="known from Staff"):
        local_users.change(rooms.house, rooms.caller, "ada", {"user_name": "ada"})
    with pytest.raises(InvalidInput, match="known from Staff"):
        local_users.remove(rooms.house, rooms.caller, "ada")
    for change in (local_groups.remove, lambda house, caller, group: local_groups.rename(house, caller, group, "x")):
        with pytest.raises(InvalidInput, match="a group of Staff"):
            change(rooms.house, rooms.caller, herbarium)
    with pytest.raises(InvalidInput, match="a group of Staff"):
        local_groups.change_members(rooms.house, rooms.caller, herbarium, Members(add=("ada",)))


def test_a_source_cannot_reach_what_was_entered_here(rooms: Rooms) -> None:
    staff = rooms.source()
    local_users.add(rooms.house, rooms.caller, {"user_name": "ida"})
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    local_groups.change_members(rooms.house, rooms.caller, group, Members(add=("ida",)))
    record = rooms.rows(t.record)[0].id
    with pytest.raises(NotFound):
        rooms.intake.remove_person(staff, record)
    with pytest.raises(NotFound):
        rooms.intake.remove_group(staff, group)
    with pytest.raises(ScimError, match="No person or group of this source"):
        rooms.group(staff, "Theirs", record)
    # Nor can anybody get a token for it.
    key = next(row.key for row in rooms.rows(t.source) if row.channel == "local")
    with pytest.raises(InvalidInput, match="nobody else is connected"):
        scim_tokens.add_token(rooms.house, rooms.caller, key, "Provider", None)


def test_a_local_group_gives_to_people_and_groups_of_any_source(rooms: Rooms) -> None:
    rooms.application()
    staff, estates = rooms.source("staff"), rooms.source("estates")
    rooms.person(staff, "ada")
    gardeners = rooms.group(estates, "Gardeners", rooms.person(estates, "bob"))
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", source="local", group="planting"))
    wanted = Members(add=("ada",), add_groups=(gardeners,))
    shown = local_groups.preview_members(rooms.house, group, wanted)
    assert (shown["gained"], shown["type_to_confirm"], held(rooms)) == (2, "Planting", set())
    local_groups.change_members(rooms.house, rooms.caller, group, wanted, Sure(expect=(2, 0, 0)))
    assert held(rooms) == {"ada", "bob"}
    reasons = {row.user_id: row.reasons[0] for row in rooms.rows(t.access)}
    assert sorted((each["source"], tuple(each["through_names"])) for each in reasons.values()) == [("local", ()), ("local", ("Gardeners",))]
    assert assignments.listing(rooms.house, Ask())["items"][0]["reach"] == 2
    with pytest.raises(WorldMoved, match="0 gain"):
        local_groups.change_members(rooms.house, rooms.caller, group, wanted, Sure(expect=(2, 0, 0)))
    local_groups.change_members(rooms.house, rooms.caller, group, Members(remove_groups=(gardeners,)))
    assert held(rooms) == {"ada"}
    local_groups.remove(rooms.house, rooms.caller, group)
    assert held(rooms) == set()


def test_a_leaver_is_in_no_local_group_and_whoever_comes_by_that_name_is_not_either(rooms: Rooms) -> None:
    rooms.application()
    staff = rooms.source()
    record = rooms.person(staff, "ada")
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group))
    local_groups.change_members(rooms.house, rooms.caller, group, Members(add=("ada",)))
    rooms.intake.remove_person(staff, record)
    rooms.person(staff, "ada")
    assert held(rooms) == set() and local_groups.one(rooms.house, group)["members"] == 0


def test_a_group_cannot_come_to_be_within_itself(rooms: Rooms) -> None:
    one, two = (local_groups.add(rooms.house, rooms.caller, name)["id"] for name in ("One", "Two"))
    local_groups.change_members(rooms.house, rooms.caller, one, Members(add_groups=(two,)))
    for outer, inner in ((two, one), (one, one)):
        with pytest.raises(InvalidInput, match="in that group itself"):
            local_groups.change_members(rooms.house, rooms.caller, outer, Members(add_groups=(inner,)))


def test_bad_members_are_refused_and_nothing_of_them_is_done(rooms: Rooms) -> None:
    rooms.person(rooms.source(), "ada")
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    for members, said in (
        (Members(add=("ada", "nobody")), "Nobody has the id"),
        (Members(add=("ada",), remove=("ada",)), "put in and taken out at once"),
        (Members(add=("ada",), add_groups=("nothing",)), "no group"),
    ):
        with pytest.raises((InvalidInput, NotFound), match=said):
            local_groups.change_members(rooms.house, rooms.caller, group, members)
    assert rooms.rows(t.membership) == []
    with pytest.raises(AlreadyThere, match="already"):
        local_groups.add(rooms.house, rooms.caller, " planting ")
    with pytest.raises(InvalidInput, match="between 1 and 200"):
        local_groups.rename(rooms.house, rooms.caller, group, " ")


def test_taking_from_many_by_a_local_group_asks_for_its_name(rooms: Rooms) -> None:
    rooms.application()
    staff = rooms.source()
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group))
    names = [f"p{number:02}" for number in range(15)]
    for name in names:
        rooms.person(staff, name)
    local_groups.change_members(rooms.house, rooms.caller, group, Members(add=tuple(names)))
    assert len(held(rooms)) == 15
    with pytest.raises(NeedsConfirmation, match="takes something from 15 people") as wrong:
        local_groups.remove(rooms.house, rooms.caller, group)
    assert "'Planting'" in wrong.value.mend and len(held(rooms)) == 15
    local_groups.remove(rooms.house, rooms.caller, group, Sure("Planting"))
    assert held(rooms) == set()


def test_the_house_s_own_source_is_made_once_and_steps_aside_for_a_key_that_is_taken(rooms: Rooms) -> None:
    rooms.source("local")
    assert local_source(rooms.house) == local_source(rooms.house)
    assert sorted((row.key, row.channel) for row in rooms.rows(t.source)) == [("local", "push"), ("local-1", "local")]
