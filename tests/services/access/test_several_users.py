"""The same assignment for several users at once: all or none."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.services import settings
from dravo.services.access import assignment_changes, assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.store import tables as t
from dravo.store.organization.settings import replace_value
from tests.service_fixture import ServiceFixture

NAMES = ("ada", "bob", "cai")
WISH = AssignmentRequest("records", "viewer", note="For the inventory", until_at="2999-12-31")


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    staff = services.source()
    services.application("records")
    for name in NAMES:
        services.user(staff, name, displayName=name.title())
    return services


def held(garden: ServiceFixture) -> set[tuple[str, str]]:
    process_marks(garden.ctx)
    names = {row.id: row.user_name for row in garden.rows(t.user)}
    keys = {row.id: row.key for row in garden.rows(t.role)}
    return {(names[row.user_id], keys[row.role_id]) for row in garden.rows(t.access, until_at=None)}


def add(garden: ServiceFixture, *users: str, wish: AssignmentRequest = WISH, **sure: Any) -> list[str]:
    made = assignments.add_users(garden.ctx, garden.caller, wish, users, Confirmation(**sure))
    return [each.user.user_name for each in made.items if each.user is not None]


def test_each_user_gets_an_assignment_of_their_own(garden: ServiceFixture) -> None:
    seen = assignment_changes.preview_adding_users(garden.ctx, WISH, ["ada", "bob"])
    assert (seen.gained, seen.lost, seen.changed) == (2, 0, 0) and held(garden) == set()
    assert {each.user.user_name: each.after for each in seen.users} == {"ada": ["Viewer"], "bob": ["Viewer"]}
    assert add(garden, "ada", "BOB", "ada") == ["ada", "bob"], "each user once"
    assert held(garden) == {("ada", "viewer"), ("bob", "viewer")}
    rows = garden.rows(t.assignment)
    assert [row.note for row in rows] == ["For the inventory"] * 2
    assert len({row.until_at for row in rows}) == 1
    assert [row.action for row in garden.rows(t.audit)].count("created assignment") == 2


@pytest.mark.parametrize(
    ("users", "error", "words"),
    [
        (["ada", "nobody"], NotFound, "nobody"),
        ([], InvalidInput, "No user is named"),
        (["bob", "cai"], AlreadyExists, "1 of 2 users have the same assignment already: Cai"),
    ],
)
def test_one_wrong_user_means_that_nobody_gets_it(
    garden: ServiceFixture, users: list[str], error: type[Exception], words: str
) -> None:
    add(garden, "cai")
    for attempt in (assignment_changes.preview_adding_users, None):
        with pytest.raises(error, match=words) as told:
            if attempt is not None:
                attempt(garden.ctx, WISH, users)
            else:
                add(garden, *users)
        assert getattr(told.value, "hint", "")
    assert held(garden) == {("cai", "viewer")}


def test_many_highest_roles_need_the_label(garden: ServiceFixture) -> None:
    settings.change(garden.ctx, garden.caller, "highest_role_confirmation", 2)
    wish = AssignmentRequest("records", "curator")
    with pytest.raises(NeedsConfirmation):
        add(garden, *NAMES, wish=wish)
    assert held(garden) == set()
    assert len(add(garden, *NAMES, wish=wish, confirm="Records")) == 3


def test_several_users_are_excluded(garden: ServiceFixture) -> None:
    add(garden, *NAMES)
    add(garden, "ada", "bob", wish=AssignmentRequest("records", None, excludes=True))
    assert held(garden) == {("cai", "viewer")}


def test_one_user_with_the_highest_role_needs_a_confirmation_unless_the_setting_says_more(
    garden: ServiceFixture,
) -> None:
    with garden.ctx.database.writing() as connection:
        replace_value(connection, "highest_role_confirmation", 1)
    wish = AssignmentRequest("records", "curator", user="ada")
    shown = assignment_changes.preview_adding(garden.ctx, wish)
    assert [(each.user.user_name, each.highest) for each in shown.users] == [("ada", True)]
    assert shown.confirm == "This change gives the highest role to 1 more user, which needs a confirmation."
    with pytest.raises(NeedsConfirmation):
        assignments.add(garden.ctx, garden.caller, wish)
    settings.change(garden.ctx, garden.caller, "highest_role_confirmation", 2)
    assignments.add(garden.ctx, garden.caller, wish)
