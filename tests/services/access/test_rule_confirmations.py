"""A rule gives the highest role to nobody by an attribute alone: users who come to meet it wait for a
confirmation.
"""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput
from dravo.services.access import assignment_changes, assignments, rule_confirmations
from dravo.services.access import explanation as access_explanation
from dravo.services.access import mapping as role_mapping
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.assignments import AssignmentLine
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries.references import KeyAndLabel
from tests.service_fixture import ServiceFixture

RULE = 'title eq "Keeper"'


@pytest.fixture
def garden(services: ServiceFixture) -> dict[str, str]:
    """Two sources; one keeper whom the staff's source reports."""
    services.application("records", "viewer", "curator")
    made = {"staff": services.source("staff"), "contractors": services.source("contractors")}
    made["ada"] = services.user(made["staff"], "ada", title="Keeper")
    made["bob"] = services.user(made["staff"], "bob", title="Guide")
    return made


def have(services: ServiceFixture, role: str = "curator") -> list[str]:
    process_marks(services.ctx)
    roles = {row.id: row.key for row in services.rows(t.role)}
    users = {row.id: row.user_name for row in services.rows(t.user)}
    return sorted(
        users[row.user_id]
        for row in services.rows(t.access)
        if row.until_at is None and roles[row.role_id] == role
    )


def line(services: ServiceFixture) -> AssignmentLine:
    (found,) = role_mapping.table(services.ctx, "records", PageRequest()).items
    return found


def retitle(
    services: ServiceFixture, garden: dict[str, str], name: str, title: str = "Keeper", source: str = "staff"
) -> None:
    services.patch_user(garden[source], garden[name], {"op": "replace", "path": "title", "value": title})


def test_present_matches_are_confirmed_and_later_ones_wait(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    made = assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", rule=RULE))
    assert have(services) == ["ada"]
    assert (line(services).matching_users, line(services).waiting, line(services).confirmed_users) == (
        1,
        0,
        1,
    )
    retitle(services, garden, "bob")
    services.user(garden["contractors"], "mallory", title="Keeper")
    assert have(services) == ["ada"], "an attribute alone gives nobody the highest role"
    shown = line(services)
    assert (shown.matching_users, shown.waiting) == (1, 2)
    assert any("2 users match the rule" in each.what for each in shown.notes)
    waiting = rule_confirmations.waiting(services.ctx, made.id, PageRequest(count=1))
    assert (waiting.total, [each.user_name for each in waiting.items]) == (2, ["bob"])
    rest = rule_confirmations.waiting(services.ctx, made.id, PageRequest(after=waiting.next))
    assert [each.user_name for each in rest.items] == ["mallory"]
    bob = waiting.items[0].id
    preview = rule_confirmations.preview_confirming(services.ctx, made.id, [bob])
    assert [each.user.user_name for each in preview.users] == ["bob"] and have(services) == ["ada"]
    rule_confirmations.confirm(services.ctx, services.caller, made.id, [bob])
    assert have(services) == ["ada", "bob"]
    with pytest.raises(InvalidInput, match="does not match the rule"):
        rule_confirmations.confirm(services.ctx, services.caller, made.id, ["nobody"])
    rule_confirmations.confirm(services.ctx, services.caller, made.id, None)
    assert have(services) == ["ada", "bob", "mallory"]
    # Anyone who no longer meets it loses the role, confirmed or not.
    retitle(services, garden, "bob", "Guide")
    assert have(services) == ["ada", "mallory"]


def test_a_rule_that_names_a_source_counts_what_this_source_reports(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", rule=RULE, source="staff")
    )
    garden["mallory"] = services.user(garden["contractors"], "mallory", title="Keeper")
    assert have(services, "viewer") == ["ada"]
    shown = line(services)
    assert (shown.matching_users, shown.source, shown.confirmed_users, shown.notes) == (
        1,
        KeyAndLabel("staff", "Staff"),
        None,
        [],
    )
    # A role that is not the highest comes by itself.
    retitle(services, garden, "bob")
    assert have(services, "viewer") == ["ada", "bob"]


def test_a_rule_without_a_source_is_flagged(services: ServiceFixture, garden: dict[str, str]) -> None:
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", rule=RULE))
    assert [each.what for each in line(services).notes] == [
        "Every source can report the attributes of this rule."
    ]


def test_future_users_are_confirmed_with_the_name_typed_and_for_one_source_only(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    wish = AssignmentRequest("records", "curator", rule=RULE, source="staff", future_users=True)
    with pytest.raises(InvalidInput, match="A rule without a source cannot be confirmed for future users"):
        assignments.add(
            services.ctx,
            services.caller,
            AssignmentRequest("records", "curator", rule=RULE, future_users=True),
            Confirmation("Records"),
        )
    assert (
        "Every user who matches this rule later gets the role without confirmation."
        in assignment_changes.preview_adding(services.ctx, wish).confirm
    )
    with pytest.raises(
        NeedsConfirmation, match="Every user who matches this rule later gets the role without confirmation"
    ):
        assignments.add(services.ctx, services.caller, wish)
    made = assignments.add(services.ctx, services.caller, wish, Confirmation("Records"))
    retitle(services, garden, "bob")
    services.user(garden["contractors"], "mallory", title="Keeper")
    assert have(services) == ["ada", "bob"]
    with pytest.raises(InvalidInput, match="No users of this rule wait for confirmation"):
        rule_confirmations.confirm(services.ctx, services.caller, made.id, None)
    # Another date is no other rule.
    assignments.change(services.ctx, services.caller, made.id, AssignmentEdit(until="2099-01-01"))
    assert have(services) == ["ada", "bob"]


@pytest.mark.parametrize("how", ["rank", "removed"])
def test_where_a_role_becomes_the_highest_its_users_keep_it_and_others_wait(
    services: ServiceFixture, garden: dict[str, str], how: str
) -> None:
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", rule=RULE))
    assert have(services, "viewer") == ["ada"]
    if how == "rank":
        provisioning_roles.change_role(services.ctx, services.caller, "records", "viewer", RoleEdit(None, 9))
    else:
        provisioning_roles.remove_role(services.ctx, services.caller, "records", "curator")
    retitle(services, garden, "bob")
    assert have(services, "viewer") == ["ada"]
    assert line(services).waiting == 1


def test_the_page_of_a_user_who_waits_says_so(services: ServiceFixture, garden: dict[str, str]) -> None:
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", rule=RULE))
    retitle(services, garden, "bob")
    process_marks(services.ctx)
    told = access_explanation.why(services.ctx, "bob", "records")
    assert not told.has_access
    assert any("waits for a confirmation" in each for each in told.sentences)


def test_many_rules_at_once_wait_too(services: ServiceFixture, garden: dict[str, str]) -> None:
    role_mapping.bulk(services.ctx, services.caller, "records", "user.title, Keeper, curator", apply=True)
    retitle(services, garden, "bob")
    assert have(services) == ["ada"]
