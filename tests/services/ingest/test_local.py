"""Users and groups that operators enter here: who may be made, what they give, and what a change is shown to
do.
"""

from __future__ import annotations

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, NotPermitted, StalePreview
from dravo.core.scim.errors import ScimError
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.ingest.local.source import local_source
from dravo.services.sources import tokens as scim_tokens
from dravo.store import tables as t
from dravo.store.access.assignments import AssignmentFilter
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture


def held(services: ServiceFixture, role: str = "viewer") -> set[str]:
    """Return the user names of everyone who has a role now."""
    process_marks(services.ctx)
    names = {row.id: row.user_name for row in services.rows(t.user)}
    roles = {row.id: row.key for row in services.rows(t.role)}
    return {
        names[row.user_id] for row in services.rows(t.access, until_at=None) if roles[row.role_id] == role
    }


def test_a_local_user_is_created_changed_and_deleted(services: ServiceFixture) -> None:
    services.application()
    user = local_users.add(
        services.ctx,
        services.caller,
        {
            "user_name": " ida ",
            "given_name": "Ida",
            "family_name": "Vosper",
            "email": "ida@fernhollow.example",
        },
    )
    row = services.rows(t.user, id=user)[0]
    assert (row.user_name, row.display_name, row.email, row.active) == (
        "ida",
        "Ida Vosper",
        "ida@fernhollow.example",
        True,
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ida"))
    assert held(services) == {"ida"}
    shown = local_users.preview(services.ctx, "ida", {"user_name": "ida", "active": False})
    assert (shown.lost, shown.users[0].application.key, held(services)) == (1, "records", {"ida"})
    local_users.change(services.ctx, services.caller, "ida", {"user_name": "ida.vosper", "active": False})
    assert (held(services), services.rows(t.user, id=user)[0].user_name) == (set(), "ida.vosper")
    local_users.change(services.ctx, services.caller, user, {"user_name": "ida.vosper"})
    assert held(services) == {"ida.vosper"}
    assert local_users.preview(services.ctx, user, None).lost == 1
    local_users.remove(services.ctx, services.caller, user)
    assert held(services) == set() and services.rows(t.user, id=user)[0].left_at is not None


def test_local_users_are_refused_where_users_come_only_from_sources(services: ServiceFixture) -> None:
    settings.change(services.ctx, services.caller, "local_users", False)
    with pytest.raises(NotPermitted, match="Local users are disabled") as wrong:
        local_users.add(services.ctx, services.caller, {"user_name": "ida"})
    assert wrong.value.hint and services.rows(t.user) == []
    settings.change(services.ctx, services.caller, "local_users", True)
    assert local_users.add(services.ctx, services.caller, {"user_name": "ida"})


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({}, "The user name is missing."),
        ({"user_name": "  "}, "The user name is missing."),
        ({"user_name": "x", "email": "nobody"}, "' is not an email address"),
        ({"user_name": "x", "email": "a@b@c"}, "' is not an email address"),
        ({"user_name": "x", "email": "a b@c"}, "' is not an email address"),
    ],
)
def test_an_invalid_user_is_refused_with_a_hint(
    services: ServiceFixture, given: dict[str, str], said: str
) -> None:
    with pytest.raises(InvalidInput, match=said) as wrong:
        local_users.add(services.ctx, services.caller, given)
    assert wrong.value.hint and services.rows(t.user) == []


@pytest.mark.parametrize(
    "given", [{"user_name": "ADA"}, {"user_name": "other", "email": "Ada@fernhollow.example"}]
)
def test_a_second_user_of_the_same_name_or_email_is_refused(
    services: ServiceFixture, given: dict[str, str]
) -> None:
    services.user(services.source(), "ada", emails=[{"value": "ada@fernhollow.example"}])
    with pytest.raises(AlreadyExists) as wrong:
        local_users.add(services.ctx, services.caller, given)
    assert services.rows(t.user)[0].id in wrong.value.hint
    assert len(services.rows(t.user)) == len(services.rows(t.record)) == 1
    local_users.add(services.ctx, services.caller, {"user_name": "bob"})
    with pytest.raises(AlreadyExists):
        local_users.change(services.ctx, services.caller, "bob", {**given, "user_name": given["user_name"]})


def test_attributes_of_a_source_cannot_be_edited(services: ServiceFixture) -> None:
    staff = services.source()
    services.user(staff, "ada")
    herbarium = services.group(staff, "Herbarium")
    with pytest.raises(InvalidInput, match="ada is reported by Staff and is not a local user"):
        local_users.change(services.ctx, services.caller, "ada", {"user_name": "ada"})
    with pytest.raises(InvalidInput, match="ada is reported by Staff and is not a local user"):
        local_users.remove(services.ctx, services.caller, "ada")
    for change in (
        local_groups.remove,
        lambda ctx, caller, group: local_groups.change(ctx, caller, group, "x", None),
    ):
        with pytest.raises(InvalidInput, match="'Herbarium' belongs to the source Staff"):
            change(services.ctx, services.caller, herbarium)
    with pytest.raises(InvalidInput, match="belongs to the source Staff"):
        local_groups.change_members(services.ctx, services.caller, herbarium, Members(add=("ada",)))


def test_a_source_cannot_reach_what_was_entered_here(services: ServiceFixture) -> None:
    staff = services.source()
    local_users.add(services.ctx, services.caller, {"user_name": "ida"})
    group = local_groups.add(services.ctx, services.caller, "Planting").id
    local_groups.change_members(services.ctx, services.caller, group, Members(add=("ida",)))
    record = services.rows(t.record)[0].id
    with pytest.raises(NotFound):
        services.intake.remove_user(staff, record)
    with pytest.raises(NotFound):
        services.intake.remove_group(staff, group)
    with pytest.raises(ScimError, match="No user or group of this source has the ID"):
        services.group(staff, "Theirs", record)
    # Nor can anybody get a token for it.
    key = next(row.key for row in services.rows(t.source) if row.connection_type == "local")
    with pytest.raises(InvalidInput, match="' holds local users and groups"):
        scim_tokens.add_token(services.ctx, services.caller, key, "Provider", None)


def test_a_local_group_gives_to_users_and_groups_of_any_source(services: ServiceFixture) -> None:
    services.application()
    staff, estates = services.source("staff"), services.source("estates")
    services.user(staff, "ada")
    gardeners = services.group(estates, "Gardeners", services.user(estates, "bob"))
    group = local_groups.add(services.ctx, services.caller, "Planting").id
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", source="local", group="planting"),
    )
    wanted = Members(add=("ada",), add_groups=(gardeners,))
    shown = local_groups.preview_members(services.ctx, group, wanted)
    assert (shown.gained, shown.type_to_confirm, held(services)) == (2, "Planting", set())
    local_groups.change_members(services.ctx, services.caller, group, wanted, Confirmation(expect=(2, 0, 0)))
    assert held(services) == {"ada", "bob"}
    reasons = {row.user_id: row.reasons[0] for row in services.rows(t.access)}
    assert sorted((each["source"], tuple(each["through_names"])) for each in reasons.values()) == [
        ("local", ()),
        ("local", ("Gardeners",)),
    ]
    assert (
        assignments.list_assignments(services.ctx, PageRequest(), AssignmentFilter()).items[0].matching_users
        == 2
    )
    with pytest.raises(StalePreview, match="The preview is out of date"):
        local_groups.change_members(
            services.ctx, services.caller, group, wanted, Confirmation(expect=(2, 0, 0))
        )
    local_groups.change_members(services.ctx, services.caller, group, Members(remove_groups=(gardeners,)))
    assert held(services) == {"ada"}
    local_groups.remove(services.ctx, services.caller, group)
    assert held(services) == set()


def test_a_leaver_and_a_later_namesake_are_in_no_local_group(
    services: ServiceFixture,
) -> None:
    services.application()
    staff = services.source()
    record = services.user(staff, "ada")
    group = local_groups.add(services.ctx, services.caller, "Planting").id
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    local_groups.change_members(services.ctx, services.caller, group, Members(add=("ada",)))
    services.intake.remove_user(staff, record)
    services.user(staff, "ada")
    assert held(services) == set() and local_groups.one(services.ctx, group).members == 0


def test_a_group_cannot_contain_itself(services: ServiceFixture) -> None:
    one, two = (local_groups.add(services.ctx, services.caller, name).id for name in ("One", "Two"))
    local_groups.change_members(services.ctx, services.caller, one, Members(add_groups=(two,)))
    for outer, inner in ((two, one), (one, one)):
        with pytest.raises(InvalidInput, match="' is already a member of that group"):
            local_groups.change_members(services.ctx, services.caller, outer, Members(add_groups=(inner,)))


def test_bad_members_are_refused_and_nothing_of_them_is_done(services: ServiceFixture) -> None:
    services.user(services.source(), "ada")
    group = local_groups.add(services.ctx, services.caller, "Planting").id
    for members, said in (
        (Members(add=("ada", "nobody")), "There is no user with the ID"),
        (Members(add=("ada",), remove=("ada",)), " cannot be added and removed in one request."),
        (Members(add=("ada",), add_groups=("nothing",)), "no group"),
    ):
        with pytest.raises((InvalidInput, NotFound), match=said):
            local_groups.change_members(services.ctx, services.caller, group, members)
    assert services.rows(t.membership) == []
    with pytest.raises(AlreadyExists, match="already"):
        local_groups.add(services.ctx, services.caller, " planting ")
    with pytest.raises(InvalidInput, match="A group name must have 1 to 200 characters"):
        local_groups.change(services.ctx, services.caller, group, " ", None)


def test_taking_from_many_by_a_local_group_asks_for_its_name(services: ServiceFixture) -> None:
    services.application()
    staff = services.source()
    group = local_groups.add(services.ctx, services.caller, "Planting").id
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    names = [f"p{number:02}" for number in range(15)]
    for name in names:
        services.user(staff, name)
    local_groups.change_members(services.ctx, services.caller, group, Members(add=tuple(names)))
    assert len(held(services)) == 15
    with pytest.raises(NeedsConfirmation, match="Records: This change removes access from 15 users") as wrong:
        local_groups.remove(services.ctx, services.caller, group)
    assert "'Planting'" in wrong.value.hint and len(held(services)) == 15
    local_groups.remove(services.ctx, services.caller, group, Confirmation("Planting"))
    assert held(services) == set()


def test_the_organization_s_own_source_is_made_once_and_steps_aside_for_a_key_that_is_taken(
    services: ServiceFixture,
) -> None:
    services.source("local")
    assert local_source(services.ctx) == local_source(services.ctx)
    assert sorted((row.key, row.connection_type) for row in services.rows(t.source)) == [
        ("local", "inbound_scim"),
        ("local-1", "local"),
    ]
