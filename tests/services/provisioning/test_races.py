"""What operators do at the same moment, and what the world does meanwhile: nothing double, nothing lost,
nothing half.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound, StalePreview
from dravo.services import settings
from dravo.services.access import assignments, license_plans
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.access.matrix import View
from dravo.services.access.reviews import decisions as review_decisions
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.access.reviews.decisions import ReviewDecision
from dravo.services.access.reviews.reviews import Review
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.ingest.local.source import local_source
from dravo.services.lookups import find_users
from dravo.services.sources import sources
from dravo.store import clock, groups, memberships
from dravo.store import tables as t
from dravo.store.access.reviews import ReviewRowFilter
from dravo.store.pagination import PageRequest
from dravo.store.snapshots import users as user_snapshots
from tests.service_fixture import ServiceFixture
from tests.services.provisioning.test_holds import go, held, settle

AT_ONCE = 6


def together(work: Callable[[int], Any]) -> list[Any]:
    """Do some work several times at once; return what each gave, or the error that it was refused with."""

    def guarded(number: int) -> Any:
        try:
            return work(number)
        except DravoError as wrong:
            return wrong

    with ThreadPoolExecutor(AT_ONCE) as pool:
        return list(pool.map(guarded, range(AT_ONCE)))


def test_one_user_is_entered_once_however_many_enter_them(services: ServiceFixture) -> None:
    made = together(
        lambda number: local_users.add(
            services.ctx, services.caller, {"user_name": "ida" if number % 2 else "IDA"}
        )
    )
    assert sum(isinstance(each, str) for each in made) == 1
    assert all(isinstance(each, str | AlreadyExists) for each in made)
    assert len(services.rows(t.user)) == len(services.rows(t.record)) == 1
    # And the organization's own source was made once.
    assert [row.connection_type for row in services.rows(t.source)] == ["local"]


def test_one_group_of_a_name_is_made_once(services: ServiceFixture) -> None:
    made = together(lambda _: local_groups.add(services.ctx, services.caller, "Planting"))
    assert sum(not isinstance(each, Exception) for each in made) == 1
    assert [row.display_name for row in services.rows(t.group)] == ["Planting"]


def test_concurrent_creates_lose_and_duplicate_no_user(services: ServiceFixture) -> None:
    services.application()
    staff = services.source()
    for number in range(AT_ONCE):
        services.user(staff, f"p{number}")
    group = str(local_groups.add(services.ctx, services.caller, "Planting").id)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))

    def put(number: int) -> Any:
        # Anyone who is told that the world moved tries again, as a user would.
        for _ in range(AT_ONCE * 4):
            try:
                return local_groups.change_members(
                    services.ctx, services.caller, group, Members(add=(f"p{number}", "p0"))
                )
            except StalePreview:
                continue
        raise AssertionError("it never stood")

    assert all(not isinstance(each, Exception) for each in together(put))
    listed = [row.user_id for row in services.rows(t.membership, group_id=group, until_at=None)]
    assert len(listed) == len(set(listed)) == AT_ONCE
    recompute.process_marks(services.ctx)
    assert len(services.rows(t.access, until_at=None)) == AT_ONCE


def test_no_seat_is_given_twice_by_two_who_give(services: ServiceFixture) -> None:
    staff = services.source()
    services.application("desk", "clerk")
    license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("full", "Full", 1, 3))
    users = [services.user(staff, f"p{number}") for number in range(10)]
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("desk", "clerk", group=services.group(staff, "Clerks", *users), plan="full"),
    )
    recompute.process_marks(services.ctx)
    given = together(lambda _: license_plans.give_free_seats(services.ctx, clock.now()))
    assert sum(given) == 3
    assert sum(row.from_at is not None for row in services.rows(t.seat, until_at=None)) == 3
    found = license_plans.seats(services.ctx, "desk", PageRequest(), waiting=True).items
    assert [each.place for each in found] == list(range(1, 8))


def test_a_row_of_a_review_is_decided_once(services: ServiceFixture) -> None:
    staff = services.source()
    services.application()
    services.user(staff, "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    recompute.process_marks(services.ctx)
    review = access_reviews.start(services.ctx, services.caller, "All", "2999-12-31", View()).id
    row = access_reviews.rows(services.ctx, review, PageRequest(), ReviewRowFilter()).items[0].id
    told = together(
        lambda _: review_decisions.decide(
            services.ctx, services.caller, review, ReviewDecision("records", [row], "removed")
        )
    )
    assert any(not isinstance(each, Exception) for each in told) and all(
        isinstance(each, Review | InvalidInput | StalePreview) for each in told
    )
    assert services.rows(t.review_row)[0].decision == "removed"
    assert [each.removed_at is None for each in services.rows(t.assignment)] == [False]
    recompute.process_marks(services.ctx)
    assert services.rows(t.access, until_at=None) == []


def test_a_leaver_is_put_into_no_group_also_if_they_leave_in_that_moment(services: ServiceFixture) -> None:
    staff = services.source()
    record = services.user(staff, "ada", displayName="Ada")
    user = services.rows(t.user)[0].id
    group = str(local_groups.add(services.ctx, services.caller, "Planting").id)
    services.intake.remove_user(staff, record)
    with pytest.raises(InvalidInput, match="Ada has left"):
        local_groups.change_members(services.ctx, services.caller, group, Members(add=("ada",)))
    # As if they had still been there when it was looked at.
    with services.ctx.database.writing() as connection:
        memberships.add_users(connection, group, [user], clock.now())
    assert services.rows(t.membership) == []


def test_a_local_user_s_removal_that_was_confirmed_is_not_held(services: ServiceFixture) -> None:
    services.application()
    local_users.add(
        services.ctx, services.caller, {"user_name": "ida", "given_name": "Ida", "family_name": "Vosper"}
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ida"))
    recompute.process_marks(services.ctx)
    settle(services)
    for name in ("removal_limit_minimum", "removal_limit_number", "removal_limit_percent"):
        settings.change(services.ctx, services.caller, name, 0)
    with pytest.raises(NeedsConfirmation) as wrong:
        local_users.remove(services.ctx, services.caller, "ida")
    assert "'Ida Vosper'" in wrong.value.hint
    local_users.remove(services.ctx, services.caller, "ida", Confirmation("Ida Vosper"))
    assert go(services) == ["ida"] and held(services) == 0


def test_many_are_found_by_any_of_their_names_in_the_order_asked_for(services: ServiceFixture) -> None:
    staff, estates = services.source("staff"), services.source("estates")
    for number in range(450):
        services.user(
            staff,
            f"p{number:03}",
            externalId=f"x{number}",
            emails=[{"value": f"P{number}@fernhollow.example"}],
        )
    services.user(estates, "p000")
    services.create_users_of_conflicts("estates")
    ids = {row.user_name: row.id for row in services.rows(t.user) if row.user_name != "p000"}
    with services.ctx.database.reading() as connection:
        asked = [
            f"x{number}"
            if number % 3 == 0
            else f"p{number}@FERNHOLLOW.example"
            if number % 3 == 1
            else ids[f"p{number:03}"]
            for number in range(1, 450)
        ]
        assert [row.user_name for row in find_users(connection, asked)] == [
            f"p{number:03}" for number in range(1, 450)
        ]
        assert find_users(connection, []) == []
        with pytest.raises(InvalidInput, match="'p000' fits 2 users"):
            find_users(connection, ["p001", "p000"])
        with pytest.raises(NotFound, match="'nobody'"):
            find_users(connection, ["p001", "nobody"])
        # Anyone who is named twice is the same twice.
        assert len({row.id for row in find_users(connection, ["p001", "x1", "p001"])}) == 1


def test_users_read_for_planning_have_local_groups_and_those_of_records_once_each(
    services: ServiceFixture,
) -> None:
    staff = services.source()
    ada = services.user(staff, "ada")
    theirs = services.group(staff, "Herbarium", ada)
    ours = str(local_groups.add(services.ctx, services.caller, "Planting").id)
    local_groups.change_members(services.ctx, services.caller, ours, Members(add=("ada",)))
    user = services.rows(t.user)[0].id
    with services.ctx.database.reading() as connection:
        assert sorted(user_snapshots.users(connection, [user])[user].groups) == sorted((theirs, ours))
        assert groups.groups_of_user(connection, user) == [ours]
        assert memberships.how_many_within(connection, ours) == 1
    sources.add(services.ctx, services.caller, "estates", "Estates")
    assert local_source(services.ctx) == next(
        row.id for row in services.rows(t.source) if row.connection_type == "local"
    )


def test_seats_places_and_reviews_of_one_application_are_not_those_of_another(
    services: ServiceFixture,
) -> None:
    staff = services.source()
    for key in ("desk", "records"):
        services.application(key, "viewer")
        license_plans.add(services.ctx, services.caller, key, NewLicensePlan("full", "Full", 1, 1))
    users = [services.user(staff, f"p{number}") for number in range(3)]
    group = services.group(staff, "All", *users)
    for key in ("desk", "records"):
        assignments.add(
            services.ctx, services.caller, AssignmentRequest(key, "viewer", group=group, plan="full")
        )
    recompute.process_marks(services.ctx)
    # Who got a seat in one is worked out again before they get one in the other.
    assert license_plans.give_free_seats(services.ctx, clock.now()) in (1, 2)
    recompute.process_marks(services.ctx)
    license_plans.give_free_seats(services.ctx, clock.now())
    for key in ("desk", "records"):
        assert len(license_plans.seats(services.ctx, key, PageRequest()).items) == 1
        assert [
            each.place for each in license_plans.seats(services.ctx, key, PageRequest(), waiting=True).items
        ] == [1, 2]
    license_plans.change(services.ctx, services.caller, "desk", "full", {"seats": 3})
    recompute.process_marks(services.ctx)
    assert license_plans.give_free_seats(services.ctx, clock.now()) == 2
    assert license_plans.seats(services.ctx, "records", PageRequest(), waiting=True).total == 2
