"""The removal limit: what takes away too much at once waits for a user; what is given never does."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.provisioning.removal_limit import Limits, takes_away
from dravo.protocols.scim_client.account_sync import AccountResult
from dravo.protocols.scim_client.responses import ConnectionPausedError, Refused, RetryableError, Unknown
from dravo.services import settings
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.provisioning import attempt, holds, tasks
from dravo.services.provisioning import queue as task_queue
from dravo.store import clock
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

USERS = 30


def settle(services: ServiceFixture) -> None:
    """Have every account be agreed, as if all had been delivered."""
    with services.ctx.database.writing() as connection:
        account, task = t.account, t.task
        connection.execute(
            account.update().values(
                applied=account.c.desired,
                last_applied=account.c.desired,
                applied_version=account.c.desired_version,
                remote_id=account.c.id,
            )
        )
        connection.execute(task.update().values(status="done", closed_at=clock.now()))


@pytest.fixture
def garden(services: ServiceFixture) -> dict[str, Any]:
    """Thirty users in a group that gives a role, all of them with an account that is agreed; five
    removals.
    """
    staff = services.source()
    services.application("records", "viewer", "curator")
    users = [services.user(staff, f"p{number:02}") for number in range(USERS)]
    group = services.group(staff, "Guides", *users)
    made = assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group=group),
        Confirmation("Records"),
    )
    recompute.process_marks(services.ctx)
    settle(services)
    with services.ctx.database.writing() as connection:
        # As if it were connected and switched on: what may go is then what `ready` returns.
        connection.execute(
            t.application.update().values(enabled=True, base_url="http://127.0.0.1:9", secret="x")
        )
    for name, value in (
        ("removal_limit_minimum", 5),
        ("removal_limit_number", 100),
        ("removal_limit_percent", 10),
    ):
        settings.change(services.ctx, services.caller, name, value)
    return {"staff": staff, "users": users, "group": group, "assignment": made.id}


def go(services: ServiceFixture) -> list[str]:
    """Work out and judge, as the worker does; return the user names of those whose account may be delivered
    now.
    """
    recompute.process_marks(services.ctx)
    holds.hold_removals(services.ctx, clock.now())
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.application.update().values(enabled=True, base_url="http://127.0.0.1:9", secret="x")
        )
    chosen = {each.account_id for each in task_queue.ready(services.ctx, clock.now(), {}, set(), 500, 500)}
    user_of = {row.id: row.user_id for row in services.rows(t.account)}
    name_of = {row.id: row.user_name for row in services.rows(t.user)}
    return sorted(name_of[user_of[each]] for each in chosen)


def held(services: ServiceFixture) -> int:
    return sum(item.number for item in holds.list_holds(services.ctx).items)


def take_out(services: ServiceFixture, garden: dict[str, Any], count: int, start: int = 0) -> None:
    members = [{"value": each} for each in garden["users"][start : start + count]]
    services.patch_group(
        garden["staff"], garden["group"], {"op": "remove", "path": "members", "value": members}
    )


def test_removals_within_the_limit_are_sent_and_more_are_held(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    take_out(services, garden, 3)
    assert len(go(services)) == 3 and held(services) == 0
    take_out(services, garden, 8, 3)
    assert len(go(services)) == 3, "the three that were approved"
    assert held(services) == 8
    item = holds.list_holds(services.ctx).items[0]
    assert "11 removals" in item.message and "removal limit of 5" in item.message
    assert {each.desired_state for each in item.users} == {"inactive, no role"}
    take_out(services, garden, 1, 11)
    assert len(go(services)) == 3 and held(services) == 9
    # The records are true at once: what was answered to the source holds.
    assert sum(row.until_at is None for row in services.rows(t.access)) == USERS - 12


def test_earlier_leavers_do_not_count_as_present(services: ServiceFixture, garden: dict[str, Any]) -> None:
    settings.change(services.ctx, services.caller, "removal_limit_minimum", 1)
    settings.change(services.ctx, services.caller, "removal_limit_percent", 20)
    # Twenty leave one after the other, each long after the one before; ten are left.
    for user in garden["users"][:20]:
        services.intake.remove_user(garden["staff"], user)
        go(services)
        holds.approve(services.ctx, services.caller, "records", "Records") if held(services) else None
        with services.ctx.database.writing() as connection:
            connection.execute(
                t.task.update()
                .where(t.task.c.removes.is_(True))
                .values(released_at="2020-01-01T00:00:00.000000Z")
            )
        settle(services)
    # Of ten two may go by themselves, three may not; of thirty six could.
    take_out(services, garden, 3, 20)
    assert go(services) == [] and held(services) == 3
    assert "which has 10 accounts" in holds.list_holds(services.ctx).items[0].message


def test_the_users_of_a_source_who_left_before_do_not_count_either(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    for name, value in (("removal_limit_minimum", 1), ("removal_limit_percent", 20)):
        settings.change(services.ctx, services.caller, name, value)
    # Another source's users keep the application large.
    other = services.source("other")
    for number in range(USERS):
        services.user(other, f"o{number:02}")
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", everyone=True),
        Confirmation("Records"),
    )
    recompute.process_marks(services.ctx)
    settle(services)
    for user in garden["users"][:20]:
        services.intake.remove_user(garden["staff"], user)
    recompute.process_marks(services.ctx)
    settle(services)
    with services.ctx.database.writing() as connection:
        connection.execute(t.task.update().values(removes=False))
    for user in garden["users"][20:23]:
        services.intake.remove_user(garden["staff"], user)
    assert go(services) == [] and held(services) == 3
    assert "users of Staff, which has 10" in holds.list_holds(services.ctx).items[0].message


def test_added_access_is_never_held(services: ServiceFixture, garden: dict[str, Any]) -> None:
    take_out(services, garden, 20)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", user="p29"))
    assert go(services) == ["p29"]
    assert held(services) == 20


@pytest.mark.parametrize(
    "went",
    [
        RetryableError("busy (503)"),
        ConnectionPausedError("not let in (401)"),
        Refused("not so (400)"),
        Unknown("perhaps made"),
        AccountResult("7"),
    ],
    ids=lambda went: type(went).__name__,
)
def test_a_hold_survives_the_end_of_an_earlier_attempt(
    services: ServiceFixture, garden: dict[str, Any], went: Any
) -> None:
    for user in garden["users"]:
        services.patch_user(garden["staff"], user, {"op": "replace", "path": "title", "value": "Guide"})
    assert len(go(services)) == USERS
    begun = [attempt.begin(services.ctx, row.id) for row in services.rows(t.task, closed_at=None)]
    take_out(services, garden, USERS)
    assert go(services) == [] and held(services) == USERS
    for place, each in enumerate(begun):
        assert each is not None
        each.settlement(
            replace(went, remote_id=f"r{place}") if isinstance(went, AccountResult) else went
        ).write()
    assert held(services) == USERS
    # Other settings have what failed or was held by settings be tried again, and an application that was
    # paused go on.
    applications.change(services.ctx, services.caller, "records", {}, {"adopt_by": ["userName"]})
    with services.ctx.database.writing() as connection:
        connection.execute(t.application.update().values(paused_at=None, failures=0, retry_at=None))
    assert go(services) == [] and held(services) == USERS
    # Trying again gets past it neither one by one nor all at once.
    one = services.rows(t.task, closed_at=None)[0].id
    with pytest.raises(InvalidInput, match="The removal limit holds this task"):
        tasks.retry(services.ctx, services.caller, one)
    assert tasks.retry_all(services.ctx, services.caller, "records", None).number == 0
    assert holds.approve(services.ctx, services.caller, "records", "Records").number == USERS
    assert len(go(services)) == USERS and held(services) == 0


def test_a_trouble_with_what_was_due_before_delays_nothing_that_is_due_now(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    services.patch_user(
        garden["staff"], garden["users"][0], {"op": "replace", "path": "title", "value": "Guide"}
    )
    assert go(services) == ["p00"]
    (row,) = services.rows(t.task, closed_at=None)
    begun = attempt.begin(services.ctx, row.id)
    services.patch_user(
        garden["staff"], garden["users"][0], {"op": "replace", "path": "title", "value": "Curator"}
    )
    assert begun is not None
    begun.settlement(RetryableError("busy (503)", "", 200.0)).write()
    with services.ctx.database.writing() as connection:
        # That the application asked to be left alone is another matter.
        connection.execute(t.application.update().values(retry_at=None))
    assert go(services) == ["p00"]
    (row,) = services.rows(t.task, closed_at=None)
    assert (row.status, row.kind, row.message, row.attempts) == ("waiting", None, None, 1)


def test_a_hold_is_approved_only_with_the_typed_name(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    take_out(services, garden, 20)
    go(services)
    for confirmed in (None, "records", "Record"):
        with pytest.raises(NeedsConfirmation, match="This change needs a confirmation"):
            holds.approve(services.ctx, services.caller, "records", confirmed)
    assert go(services) == []
    assert holds.approve(services.ctx, services.caller, "records", "Records").number == 20
    assert len(go(services)) == 20
    with pytest.raises(NotFound):
        holds.approve(services.ctx, services.caller, "records", "Records")
    assert services.rows(t.audit)[-1].action == "approved removals"


def test_a_discarded_removal_stays_until_a_change(services: ServiceFixture, garden: dict[str, Any]) -> None:
    take_out(services, garden, 20)
    go(services)
    assert holds.discard(services.ctx, services.caller, "records", "Records").number == 20
    assert go(services) == [] and held(services) == 0
    services.add(garden["staff"], garden["group"], garden["users"][0])
    assert go(services) == ["p00"]


def test_returned_access_ends_the_hold(services: ServiceFixture, garden: dict[str, Any]) -> None:
    take_out(services, garden, 8)
    go(services)
    for each in garden["users"][:8]:
        services.add(garden["staff"], garden["group"], each)
    assert len(go(services)) == 8 and held(services) == 0


def test_trying_again_or_other_settings_do_not_get_past_it(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    take_out(services, garden, 20)
    go(services)
    tasks.retry_all(services.ctx, services.caller, "records", None)
    assert go(services) == [] and held(services) == 20
    applications.change(services.ctx, services.caller, "records", {}, {"on_losing_access": "delete"})
    assert go(services) == [] and held(services) == 20


def test_an_unknown_outcome_is_judged_by_the_applied_state(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    take_out(services, garden, 20)
    go(services)
    # The worker is killed: of everything that waits it is no longer known what stands there.
    with services.ctx.database.writing() as connection:
        connection.execute(t.task.update().where(t.task.c.status == "held").values(status="waiting"))
    task_queue.mark_in_flight_unknown(services.ctx)
    assert {row.applied for row in services.rows(t.account) if row.applied is None} == {None}
    for each in garden["users"][:20]:
        services.patch_user(garden["staff"], each, {"op": "replace", "path": "title", "value": "Guide"})
    assert go(services) == [] and held(services) == 20


def test_a_retry_does_not_bypass_a_discarded_removal(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    take_out(services, garden, 20)
    go(services)
    holds.discard(services.ctx, services.caller, "records", "Records")
    for row in services.rows(t.task, status="discarded"):
        tasks.retry(services.ctx, services.caller, row.id)
    assert go(services) == [] and held(services) == 20


def test_changes_during_an_attempt_are_judged_by_its_result(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    newcomers = [services.user(garden["staff"], f"new{number:02}") for number in range(20)]
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", rule='userName sw "new"'),
        Confirmation("Records"),
    )
    recompute.process_marks(services.ctx)
    opened = [row for row in services.rows(t.task) if row.closed_at is None]
    assert len(opened) == 20
    accounts = {row.id: row for row in services.rows(t.account)}
    # Each is being made there while they leave again; then the making ends well.
    for each in newcomers:
        services.patch_user(garden["staff"], each, {"op": "replace", "path": "active", "value": False})
    with services.ctx.database.writing() as connection:
        for row in opened:
            made = accounts[row.account_id]
            work = SimpleNamespace(
                account_id=made.id,
                user_id=made.user_id,
                remote_id=None,
                application_id=made.application_id,
                desired=made.desired,
                desired_version=made.desired_version,
                applied=None,
                origin=None,
                attempts=0,
                failures=0,
            )
            attempt._settle(
                connection, work, row.id, AccountResult(f"there-{made.id}", "made"), clock.now(), []
            )
    assert go(services) == [] and held(services) == 20


def test_the_window_rolls_on(
    services: ServiceFixture, garden: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    take_out(services, garden, 5)
    assert len(go(services)) == 5
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.task.update()
            .where(t.task.c.removes.is_(True))
            .values(released_at="2020-01-01T00:00:00.000000Z")
        )
    take_out(services, garden, 5, 5)
    assert len(go(services)) == 10 and held(services) == 0


def test_users_of_one_source_are_counted_over_all_applications(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    assignments.remove(services.ctx, services.caller, garden["assignment"], Confirmation("Records"))
    for number in range(USERS):
        services.application(f"small{number}", "user")
        assignments.add(
            services.ctx, services.caller, AssignmentRequest(f"small{number}", "user", user=f"p{number:02}")
        )
    recompute.process_marks(services.ctx)
    settle(services)
    for each in garden["users"][:9]:
        services.patch_user(garden["staff"], each, {"op": "replace", "path": "active", "value": False})
    assert go(services) == [], "one in each application, and nine of one source"
    assert "users of Staff" in holds.list_holds(services.ctx).items[0].message


def test_an_operator_s_own_change_asks_for_the_name_and_then_goes(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    preview = assignment_changes.preview_removing(services.ctx, garden["assignment"])
    assert preview.lost == USERS and "30 users" in preview.confirm
    with pytest.raises(NeedsConfirmation) as told:
        assignments.remove(services.ctx, services.caller, garden["assignment"])
    assert "'Records'" in told.value.hint
    assert len(services.rows(t.assignment, removed_at=None)) == 1
    assignments.remove(
        services.ctx, services.caller, garden["assignment"], Confirmation("Records", (0, USERS, 0))
    )
    assert len(go(services)) == USERS and held(services) == 0


def test_an_approval_applies_to_the_shown_removals_or_fails(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    seen = assignment_changes.preview_removing(services.ctx, garden["assignment"])
    take_out(services, garden, 1)
    with pytest.raises(StalePreview, match="29 lose"):
        assignments.remove(
            services.ctx,
            services.caller,
            garden["assignment"],
            Confirmation("Records", (seen.gained, seen.lost, seen.changed)),
        )
    assert len(services.rows(t.assignment, removed_at=None)) == 1


def test_the_highest_role_for_many_asks_for_the_name(
    services: ServiceFixture, garden: dict[str, Any]
) -> None:
    wish = AssignmentRequest("records", "curator", group=garden["group"])
    assert "highest role to 30" in assignment_changes.preview_adding(services.ctx, wish).confirm
    with pytest.raises(NeedsConfirmation):
        assignments.add(services.ctx, services.caller, wish)
    services.application("desk", "cashier", "supervisor")
    opened = {"eligibility": "everyone", "fallback": "fallback_role", "fallback_role": "supervisor"}
    with pytest.raises(NeedsConfirmation):
        access_policies.change(services.ctx, services.caller, "desk", opened)
    access_policies.change(services.ctx, services.caller, "desk", opened, Confirmation("Desk"))
    assert applications.one(services.ctx, "desk").policy.eligibility == "everyone"
    assert (
        assignments.add(services.ctx, services.caller, wish, Confirmation("Records")).matching_users == USERS
    )


@given(st.integers(0, 1_000), st.integers(0, 100), st.integers(0, 100), st.integers(0, 100_000))
def test_more_of_anything_never_allows_less(number: int, share: int, least: int, population: int) -> None:
    allowed = Limits(number, share, least).allowed(population)
    assert allowed >= least
    assert Limits(number + 1, share, least).allowed(population) >= allowed
    assert Limits(number, share, least).allowed(population + 100) >= allowed
    assert allowed <= max(least, number)


@pytest.mark.parametrize(
    ("applied", "desired", "expected"),
    [
        (None, {"want": "absent"}, False),
        ({"want": "present", "active": True, "roles": [{"value": "a"}]}, {"want": "absent"}, True),
        ({"want": "present", "active": True, "roles": [{"value": "a"}]}, {"want": "as it is"}, False),
        (
            {"want": "present", "active": True, "roles": [{"value": "a"}]},
            {"want": "present", "active": True, "roles": [{"value": "b"}]},
            True,
        ),
        (
            {"want": "present", "active": True, "roles": []},
            {"want": "present", "active": True, "roles": [{"value": "b"}]},
            False,
        ),
        (
            {"want": "present", "active": False, "roles": []},
            {"want": "present", "active": False, "roles": []},
            False,
        ),
        ({"want": "present", "active": False, "roles": []}, {"want": "absent"}, True),
        ({"want": "absent"}, {"want": "present", "active": False, "roles": []}, False),
    ],
)
def test_which_changes_are_removals(applied: Any, desired: Any, expected: bool) -> None:
    assert takes_away(applied, desired) is expected
