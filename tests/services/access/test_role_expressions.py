"""Assignments by an expression whose values are roles."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, DravoError, InvalidInput
from dravo.services.access import assignment_changes, assignments, explanation, mapping, rule_confirmations
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes.recompute import process_marks
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture

WISH = AssignmentRequest("records", None, expression="userType", source="staff")


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    staff = services.source("staff")
    services.application("records", "viewer", "recorder", "curator")
    roles.change_role(
        services.ctx, services.caller, "records", "recorder", RoleEdit(sent_value="urn:recorder")
    )
    for name, kind in (("ada", "VIEWER"), ("bob", "urn:recorder"), ("cai", "curator"), ("dan", "gardener")):
        services.user(staff, name, userType=kind, displayName=name.title())
    services.user(services.source("other"), "eve", userType="viewer", displayName="Eve")
    return services


def held(garden: ServiceFixture) -> dict[str, str]:
    process_marks(garden.ctx)
    names = {row.id: row.user_name for row in garden.rows(t.user)}
    keys = {row.id: row.key for row in garden.rows(t.role)}
    return {names[row.user_id]: keys[row.role_id] for row in garden.rows(t.access, until_at=None)}


def test_values_name_roles_by_key_label_and_value_and_follow_the_attribute(garden: ServiceFixture) -> None:
    seen = assignment_changes.preview_adding(garden.ctx, WISH)
    assert {each.user.user_name: each.after for each in seen.users} == {
        "ada": ["Viewer"],
        "bob": ["Recorder"],
        "cai": ["Curator"],
    }
    made = assignments.add(garden.ctx, garden.caller, WISH)
    assert (made.kind, made.expression, made.confirmed_users) == ("expression", "userType", 1)
    assert held(garden) == {"ada": "viewer", "bob": "recorder", "cai": "curator"}
    record = next(row for row in garden.rows(t.record) if row.data["userName"] == "ada")
    operation = {"op": "replace", "path": "userType", "value": "Recorder"}
    garden.patch_user(record.source_id, record.id, operation)
    assert held(garden)["ada"] == "recorder"
    why = " ".join(explanation.why(garden.ctx, "ada", "records").sentences)
    assert "the expression 'userType' has the role as its value" in why


def test_a_later_user_gets_the_highest_role_only_after_a_confirmation(garden: ServiceFixture) -> None:
    made = assignments.add(garden.ctx, garden.caller, WISH)
    with garden.ctx.database.reading() as connection:
        staff = connection.execute(t.source.select().where(t.source.c.key == "staff")).one().id
    garden.user(staff, "zoe", userType="curator", displayName="Zoe")
    assert "zoe" not in held(garden)
    (line,) = mapping.table(garden.ctx, "records", PageRequest()).items
    assert (line.matching_users, line.waiting) == (3, 1)
    assert "waits for confirmation" in line.notes[0].what
    assert "by the expression 'userType' waits for a confirmation" in " ".join(
        explanation.why(garden.ctx, "zoe", "records").sentences
    )
    (waiting,) = rule_confirmations.waiting(garden.ctx, made.id, PageRequest()).items
    assert waiting.user_name == "zoe"
    rule_confirmations.confirm(garden.ctx, garden.caller, made.id, None)
    assert held(garden)["zoe"] == "curator"


def test_a_new_highest_role_goes_to_its_present_users_only(garden: ServiceFixture) -> None:
    assignments.add(garden.ctx, garden.caller, WISH)
    edit = RoleEdit(rank=900)
    shown = roles.preview_change(garden.ctx, "records", "recorder", edit)
    assert shown.access is not None and (shown.access.lost, shown.access.changed) == (0, 0)
    roles.change_role(garden.ctx, garden.caller, "records", "recorder", edit)
    assert held(garden) == {"ada": "viewer", "bob": "recorder", "cai": "curator"}
    with garden.ctx.database.reading() as connection:
        staff = connection.execute(t.source.select().where(t.source.c.key == "staff")).one().id
    garden.user(staff, "zoe", userType="recorder")
    garden.user(staff, "yan", userType="curator")
    assert held(garden).get("zoe") is None and held(garden)["yan"] == "curator"
    # Another label is another text that values can name.
    roles.change_role(garden.ctx, garden.caller, "records", "viewer", RoleEdit(label="Gardener"))
    assert held(garden)["dan"] == "viewer"


@pytest.mark.parametrize(
    ("more", "error", "words"),
    [
        ({"expression": " "}, InvalidInput, "empty"),
        ({"expression": "userType then"}, DravoError, ""),
        ({"role": "viewer"}, InvalidInput, "are the roles"),
        ({"excludes": True}, InvalidInput, "are the roles"),
        ({"everyone": True}, InvalidInput, "exactly one target"),
        ({"source": "nowhere"}, DravoError, "nowhere"),
        ({}, AlreadyExists, "exists already"),
    ],
)
def test_an_expression_that_cannot_be_is_refused(
    garden: ServiceFixture, more: dict[str, Any], error: type[Exception], words: str
) -> None:
    assignments.add(garden.ctx, garden.caller, WISH)
    wish = AssignmentRequest(**{**vars(WISH), **more})
    with pytest.raises(error, match=words):
        assignments.add(garden.ctx, garden.caller, wish)
    assert len(garden.rows(t.assignment)) == 1


def test_removing_it_ends_the_roles(garden: ServiceFixture) -> None:
    made = assignments.add(garden.ctx, garden.caller, WISH)
    assert len(held(garden)) == 3
    assignments.remove(garden.ctx, garden.caller, made.id)
    assert held(garden) == {}
