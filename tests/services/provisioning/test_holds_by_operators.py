"""What operators take away by local groups, local users and reviews: confirmed once, it goes; what sources
take away behind it does not.
"""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput
from dravo.services import settings
from dravo.services.access import assignments, license_plans
from dravo.services.access import mapping as role_mapping
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.access.matrix import View
from dravo.services.access.reviews import decisions as review_decisions
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.access.reviews.decisions import ReviewDecision
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.ingest.local.source import LAST, local_source
from dravo.services.reporting import overview
from dravo.services.sources import scim_checklist
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.access.reviews import ReviewRowFilter
from dravo.store.pagination import PageRequest
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from tests.service_fixture import ServiceFixture
from tests.services.provisioning.test_holds import go, held, settle

USERS = 20


@pytest.fixture
def team(services: ServiceFixture) -> str:
    """Twenty users of a source in a local group that gives a role in two applications; accounts are agreed,
    five removals.
    """
    staff = services.source()
    for key in ("records", "desk"):
        services.application(key, "viewer", "curator")
    names = [f"p{number:02}" for number in range(USERS)]
    for name in names:
        services.user(staff, name)
    group = str(local_groups.add(services.ctx, services.caller, "Team").id)
    for key in ("records", "desk"):
        assignments.add(services.ctx, services.caller, AssignmentRequest(key, "viewer", group=group))
    local_groups.change_members(services.ctx, services.caller, group, Members(add=tuple(names)))
    recompute.process_marks(services.ctx)
    settle(services)
    for name, value in (
        ("removal_limit_minimum", 5),
        ("removal_limit_number", 100),
        ("removal_limit_percent", 10),
    ):
        settings.change(services.ctx, services.caller, name, value)
    return group


def test_a_confirmed_removal_is_sent_to_every_application(services: ServiceFixture, team: str) -> None:
    shown = local_groups.preview_removing(services.ctx, team)
    assert (shown.lost, shown.taken, shown.application, shown.type_to_confirm) == (
        40,
        40,
        None,
        "Team",
    )
    assert (
        shown.confirm.startswith("Desk: This change removes access from 20 users")
        and "Records: This change removes" in shown.confirm
    )
    with pytest.raises(NeedsConfirmation, match="Desk: This change removes access from 20 users"):
        local_groups.remove(services.ctx, services.caller, team, Confirmation("Desk"))
    local_groups.remove(services.ctx, services.caller, team, Confirmation("Team"))
    assert len(go(services)) == 40 and held(services) == 0
    assert {row.released_by for row in services.rows(t.task, removes=True, closed_at=None)} == {
        services.caller.name
    }


def test_few_removals_need_no_confirmation(services: ServiceFixture, team: str) -> None:
    local_groups.change_members(services.ctx, services.caller, team, Members(remove=("p00", "p01")))
    assert sorted(set(go(services))) == ["p00", "p01"] and held(services) == 0
    assert {row.released_by for row in services.rows(t.task, removes=True, closed_at=None)} == {None}


def test_removals_through_a_local_group_are_held_too(services: ServiceFixture, team: str) -> None:
    staff = next(row.id for row in services.rows(t.source) if row.key == "staff")
    outer = str(local_groups.add(services.ctx, services.caller, "Outer").id)
    records = [row.id for row in services.rows(t.record) if row.source_id == staff]
    inner = services.group(staff, "Inner", *records)
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "curator", group=outer),
        Confirmation("Records"),
    )
    local_groups.change_members(
        services.ctx, services.caller, outer, Members(add_groups=(inner,)), Confirmation("Outer")
    )
    recompute.process_marks(services.ctx)
    settle(services)
    services.intake.remove_group(staff, inner)
    assert go(services) == [] and held(services) == USERS


def test_removals_of_a_review_are_confirmed_by_the_application_label(
    services: ServiceFixture, team: str
) -> None:
    review = access_reviews.start(
        services.ctx, services.caller, "All", "2999-12-31", View(application="records")
    ).id
    ids = [
        each.id
        for each in access_reviews.rows(services.ctx, review, PageRequest(count=100), ReviewRowFilter()).items
    ]
    with pytest.raises(NeedsConfirmation):
        review_decisions.decide(
            services.ctx,
            services.caller,
            review,
            ReviewDecision("records", ids, "removed"),
            Confirmation("Team"),
        )
    assert access_reviews.one(services.ctx, services.caller, review).open == USERS
    review_decisions.decide(
        services.ctx,
        services.caller,
        review,
        ReviewDecision("records", ids, "removed"),
        Confirmation("Records"),
    )
    assert len(go(services)) == USERS and held(services) == 0
    # Each of them is kept out by name now, and the mapping says nothing of it: the group still gives the
    # role to others.
    assert sum(row.excludes for row in services.rows(t.assignment, removed_at=None)) == USERS
    assert role_mapping.table(services.ctx, "records", PageRequest()).items[0].matching_users == USERS


def test_a_user_who_waits_for_a_seat_loses_nothing_that_the_removal_limit_would_count(
    services: ServiceFixture,
) -> None:
    staff = services.source()
    services.application("desk", "viewer")
    license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("one", "One", 1, 1))
    users = [services.user(staff, f"p{number}") for number in range(12)]
    group = services.group(staff, "Clerks", *users)
    made = assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("desk", "viewer", group=group, plan="one"),
        Confirmation("Desk"),
    ).id
    for _ in range(3):
        recompute.process_marks(services.ctx)
        license_plans.give_free_seats(services.ctx, clock.now())
    recompute.process_marks(services.ctx)
    settle(services)
    assert len(services.rows(t.account)) == 1
    assignments.remove(services.ctx, services.caller, made, Confirmation("Desk"))
    assert len(go(services)) == 1 and held(services) == 0


def test_a_source_speaks_before_what_was_entered_by_hand(services: ServiceFixture) -> None:
    own = local_source(services.ctx)
    assert next(row.priority for row in services.rows(t.source) if row.id == own) == LAST
    user = local_users.add(services.ctx, services.caller, {"user_name": "ida", "title": "Guide"})
    with services.ctx.database.reading() as connection:
        assert user_queries.users_named(connection, ["ida"])["ida"][0].id == user
    # It has neither tokens nor a checklist, and is not taken away with somebody in it.
    key = next(row.key for row in services.rows(t.source) if row.connection_type == "local")
    for refused in (
        lambda: scim_checklist.checklist(services.ctx, key, "http://x"),
        lambda: scim_tokens.add_token(services.ctx, services.caller, key, "x", None),
    ):
        with pytest.raises(InvalidInput, match="' holds local users and groups"):
            refused()
    assert {each.name: each.count for each in overview.band(services.ctx).stages}["users"] == 1


def test_a_group_tells_of_the_groups_in_and_around_it(services: ServiceFixture) -> None:
    staff = services.source()
    inner = services.group(staff, "Inner", services.user(staff, "ada"))
    outer = str(local_groups.add(services.ctx, services.caller, "Outer").id)
    local_groups.change_members(services.ctx, services.caller, outer, Members(add_groups=(inner,)))
    with services.ctx.database.reading() as connection:
        around, within, nothing = (
            group_queries.group_detail(connection, each) for each in (inner, outer, "none")
        )
    assert around is not None and within is not None and nothing is None
    assert (
        [each.name for each in around.around],
        around.inner,
        around.local,
        around.users_with_nested_groups,
    ) == (["Outer"], [], False, 1)
    assert (
        [each.name for each in within.inner],
        within.local,
        within.members,
        within.users_with_nested_groups,
    ) == (["Inner"], True, 0, 1)
