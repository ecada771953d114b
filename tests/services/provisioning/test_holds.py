"""The guard: what takes away too much at once waits for a person; what is given never does."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.errors import InvalidInput, NotFound, WorldMoved
from dravo.core.provisioning.removal_limit import Limits, takes_away
from dravo.protocols.scim_client.account_sync import Reached
from dravo.protocols.scim_client.responses import MustPause, Refused, TryLater, Unknown
from dravo.services import settings
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.changes.preview import Sure
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.provisioning import applications, attempt, holds, tasks
from dravo.services.provisioning import queue as task_queue
from dravo.store import clock
from dravo.store import tables as t
from tests.service_fixture import Rooms

PEOPLE = 30


def settle(rooms: Rooms) -> None:
    """Have every account be agreed, as if all had been delivered."""
    with rooms.house.database.writing() as connection:
        account, delivery = t.account, t.delivery
        connection.execute(
            account.update().values(agreed=account.c.due, had=account.c.due, agreed_version=account.c.due_version, remote_id=account.c.id)
        )
        connection.execute(delivery.update().values(state="done", closed_at=clock.now()))


@pytest.fixture
def garden(rooms: Rooms) -> dict[str, Any]:
    """Thirty people in a group that gives a role, all of them with an account that is agreed; five removals go by themselves."""
    staff = rooms.source()
    rooms.application("records", "viewer", "curator")
    people = [rooms.person(staff, f"p{number:02}") for number in range(PEOPLE)]
    group = rooms.group(staff, "Guides", *people)
    made = assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group), Sure("Records"))
    recompute.work_through(rooms.house)
    settle(rooms)
    with rooms.house.database.writing() as connection:
        # As if it were connected and switched on: what may go is then what `ready` returns.
        connection.execute(t.application.update().values(switched_on=True, base_url="http://127.0.0.1:9", secret="x"))
    for name, value in (("guard_least", 5), ("guard_number", 100), ("guard_share", 10)):
        settings.change(rooms.house, rooms.caller, name, value)
    return {"staff": staff, "people": people, "group": group, "assignment": made["id"]}


def go(rooms: Rooms) -> list[str]:
    """Work out and judge, as the worker does; return the user names of those whose account may be delivered now."""
    recompute.work_through(rooms.house)
    holds.judge(rooms.house, clock.now())
    with rooms.house.database.writing() as connection:
        connection.execute(t.application.update().values(switched_on=True, base_url="http://127.0.0.1:9", secret="x"))
    chosen = {each.account_id for each in task_queue.ready(rooms.house, clock.now(), {}, set(), 500, 500)}
    user_of = {row.id: row.user_id for row in rooms.rows(t.account)}
    name_of = {row.id: row.user_name for row in rooms.rows(t.user)}
    return sorted(name_of[user_of[each]] for each in chosen)


def held(rooms: Rooms) -> int:
    return sum(item["number"] for item in holds.listing(rooms.house)["items"])


def take_out(rooms: Rooms, garden: dict[str, Any], count: int, start: int = 0) -> None:
    members = [{"value": each} for each in garden["people"][start : start + count]]
    rooms.patch_group(garden["staff"], garden["group"], {"op": "remove", "path": "members", "value": members})


def test_few_go_and_many_wait_and_those_behind_them_too(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 3)
    assert len(go(rooms)) == 3 and held(rooms) == 0
    take_out(rooms, garden, 8, 3)
    assert len(go(rooms)) == 3, "the three that were let through"
    assert held(rooms) == 8
    item = holds.listing(rooms.house)["items"][0]
    assert "11 removals" in item["message"] and "5 go by themselves" in item["message"]
    assert {each["aim"] for each in item["people"]} == {"inactive, no role"}
    take_out(rooms, garden, 1, 11)
    assert len(go(rooms)) == 3 and held(rooms) == 9
    # The records are true at once: what was answered to the source holds.
    assert sum(row.until_at is None for row in rooms.rows(t.access)) == PEOPLE - 12


def test_whoever_left_before_does_not_count_among_those_who_are_there(rooms: Rooms, garden: dict[str, Any]) -> None:
    settings.change(rooms.house, rooms.caller, "guard_least", 1)
    settings.change(rooms.house, rooms.caller, "guard_share", 20)
    # Twenty leave one after the other, each long after the one before; ten are left.
    for person in garden["people"][:20]:
        rooms.intake.remove_person(garden["staff"], person)
        go(rooms)
        holds.let_through(rooms.house, rooms.caller, "records", "Records") if held(rooms) else None
        with rooms.house.database.writing() as connection:
            connection.execute(t.delivery.update().where(t.delivery.c.removes.is_(True)).values(cleared_at="2020-01-01T00:00:00.000000Z"))
        settle(rooms)
    # Of ten two may go by themselves, three may not; of thirty six could.
    take_out(rooms, garden, 3, 20)
    assert go(rooms) == [] and held(rooms) == 3
    assert "which has 10 accounts" in holds.listing(rooms.house)["items"][0]["message"]


def test_the_people_of_a_source_who_left_before_do_not_count_either(rooms: Rooms, garden: dict[str, Any]) -> None:
    for name, value in (("guard_least", 1), ("guard_share", 20)):
        settings.change(rooms.house, rooms.caller, name, value)
    # Another source's people keep the application large.
    other = rooms.source("other")
    for number in range(PEOPLE):
        rooms.person(other, f"o{number:02}")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True), Sure("Records"))
    recompute.work_through(rooms.house)
    settle(rooms)
    for person in garden["people"][:20]:
        rooms.intake.remove_person(garden["staff"], person)
    recompute.work_through(rooms.house)
    settle(rooms)
    with rooms.house.database.writing() as connection:
        connection.execute(t.delivery.update().values(removes=False))
    for person in garden["people"][20:23]:
        rooms.intake.remove_person(garden["staff"], person)
    assert go(rooms) == [] and held(rooms) == 3
    assert "people of Staff, which has 10" in holds.listing(rooms.house)["items"][0]["message"]


def test_what_is_given_is_never_held(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", person="p29"))
    assert go(rooms) == ["p29"]
    assert held(rooms) == 20


@pytest.mark.parametrize(
    "went",
    [TryLater("busy (503)"), MustPause("not let in (401)"), Refused("not so (400)"), Unknown("perhaps made"), Reached("7")],
    ids=lambda went: type(went).__name__,
)
def test_what_is_held_stays_held_however_an_attempt_ends_that_began_before(rooms: Rooms, garden: dict[str, Any], went: Any) -> None:
    for person in garden["people"]:
        rooms.patch_person(garden["staff"], person, {"op": "replace", "path": "title", "value": "Guide"})
    assert len(go(rooms)) == PEOPLE
    begun = [attempt.begin(rooms.house, row.id) for row in rooms.rows(t.delivery, closed_at=None)]
    take_out(rooms, garden, PEOPLE)
    assert go(rooms) == [] and held(rooms) == PEOPLE
    for place, each in enumerate(begun):
        assert each is not None
        each.settlement(replace(went, remote_id=f"r{place}") if isinstance(went, Reached) else went).write()
    assert held(rooms) == PEOPLE
    # Other settings have what failed or was held by settings be tried again, and an application that was paused go on.
    applications.change(rooms.house, rooms.caller, "records", {}, {"adopt_by_user_name": True})
    with rooms.house.database.writing() as connection:
        connection.execute(t.application.update().values(paused_at=None, failures=0, retry_at=None))
    assert go(rooms) == [] and held(rooms) == PEOPLE
    # Trying again gets past it neither one by one nor all at once.
    one = rooms.rows(t.delivery, closed_at=None)[0].id
    with pytest.raises(InvalidInput, match="limits hold it"):
        tasks.again(rooms.house, rooms.caller, one)
    assert tasks.again_all(rooms.house, rooms.caller, "records", None) == {"number": 0}
    assert holds.let_through(rooms.house, rooms.caller, "records", "Records") == {"number": PEOPLE}
    assert len(go(rooms)) == PEOPLE and held(rooms) == 0


def test_a_trouble_with_what_was_due_before_delays_nothing_that_is_due_now(rooms: Rooms, garden: dict[str, Any]) -> None:
    rooms.patch_person(garden["staff"], garden["people"][0], {"op": "replace", "path": "title", "value": "Guide"})
    assert go(rooms) == ["p00"]
    (row,) = rooms.rows(t.delivery, closed_at=None)
    begun = attempt.begin(rooms.house, row.id)
    rooms.patch_person(garden["staff"], garden["people"][0], {"op": "replace", "path": "title", "value": "Curator"})
    assert begun is not None
    begun.settlement(TryLater("busy (503)", "", 200.0)).write()
    with rooms.house.database.writing() as connection:
        # That the application asked to be left alone is another matter.
        connection.execute(t.application.update().values(retry_at=None))
    assert go(rooms) == ["p00"]
    (row,) = rooms.rows(t.delivery, closed_at=None)
    assert (row.state, row.kind, row.message, row.attempts) == ("waiting", None, None, 1)


def test_it_is_let_through_by_the_typed_name_only(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    go(rooms)
    for confirmed in (None, "records", "Record"):
        with pytest.raises(NeedsConfirmation, match="grave"):
            holds.let_through(rooms.house, rooms.caller, "records", confirmed)
    assert go(rooms) == []
    assert holds.let_through(rooms.house, rooms.caller, "records", "Records") == {"number": 20}
    assert len(go(rooms)) == 20
    with pytest.raises(NotFound):
        holds.let_through(rooms.house, rooms.caller, "records", "Records")
    assert rooms.rows(t.audit)[-1].action == "let removals through"


def test_what_is_dropped_stays_there_until_something_changes(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    go(rooms)
    assert holds.drop(rooms.house, rooms.caller, "records", "Records") == {"number": 20}
    assert go(rooms) == [] and held(rooms) == 0
    rooms.add(garden["staff"], garden["group"], garden["people"][0])
    assert go(rooms) == ["p00"]


def test_who_comes_back_is_held_no_longer(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 8)
    go(rooms)
    for each in garden["people"][:8]:
        rooms.add(garden["staff"], garden["group"], each)
    assert len(go(rooms)) == 8 and held(rooms) == 0


def test_trying_again_or_other_settings_do_not_get_past_it(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    go(rooms)
    tasks.again_all(rooms.house, rooms.caller, "records", None)
    assert go(rooms) == [] and held(rooms) == 20
    applications.change(rooms.house, rooms.caller, "records", {}, {"on_losing_access": "delete"})
    assert go(rooms) == [] and held(rooms) == 20


def test_what_came_into_doubt_is_judged_by_what_was_last_agreed(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    go(rooms)
    # The worker is killed: of everything that waits it is no longer known what stands there.
    with rooms.house.database.writing() as connection:
        connection.execute(t.delivery.update().where(t.delivery.c.state == "held").values(state="waiting"))
    task_queue.begin_anew(rooms.house)
    assert {row.agreed for row in rooms.rows(t.account) if row.agreed is None} == {None}
    for each in garden["people"][:20]:
        rooms.patch_person(garden["staff"], each, {"op": "replace", "path": "title", "value": "Guide"})
    assert go(rooms) == [] and held(rooms) == 20


def test_what_was_dropped_is_not_got_past_the_guard_by_trying_again(rooms: Rooms, garden: dict[str, Any]) -> None:
    take_out(rooms, garden, 20)
    go(rooms)
    holds.drop(rooms.house, rooms.caller, "records", "Records")
    for row in rooms.rows(t.delivery, state="dropped"):
        tasks.again(rooms.house, rooms.caller, row.id)
    assert go(rooms) == [] and held(rooms) == 20


def test_what_became_due_during_an_attempt_is_judged_by_what_the_attempt_gave(rooms: Rooms, garden: dict[str, Any]) -> None:
    newcomers = [rooms.person(garden["staff"], f"new{number:02}") for number in range(20)]
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", rule='userName sw "new"'), Sure("Records"))
    recompute.work_through(rooms.house)
    opened = [row for row in rooms.rows(t.delivery) if row.closed_at is None]
    assert len(opened) == 20
    accounts = {row.id: row for row in rooms.rows(t.account)}
    # Each is being made there while they leave again; then the making ends well.
    for each in newcomers:
        rooms.patch_person(garden["staff"], each, {"op": "replace", "path": "active", "value": False})
    with rooms.house.database.writing() as connection:
        for row in opened:
            made = accounts[row.account_id]
            work = SimpleNamespace(
                account_id=made.id, application_id=made.application_id, due=made.due, due_version=made.due_version, agreed=None, origin=None,
                attempts=0, failures=0,
            )  # fmt: skip
            attempt._settle(connection, work, row.id, Reached(f"there-{made.id}", "made"), clock.now(), [])
    assert go(rooms) == [] and held(rooms) == 20


def test_the_window_rolls_on(rooms: Rooms, garden: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    take_out(rooms, garden, 5)
    assert len(go(rooms)) == 5
    with rooms.house.database.writing() as connection:
        connection.execute(t.delivery.update().where(t.delivery.c.removes.is_(True)).values(cleared_at="2020-01-01T00:00:00.000000Z"))
    take_out(rooms, garden, 5, 5)
    assert len(go(rooms)) == 10 and held(rooms) == 0


def test_people_of_one_source_are_counted_over_all_applications(rooms: Rooms, garden: dict[str, Any]) -> None:
    assignments.remove(rooms.house, rooms.caller, garden["assignment"], Sure("Records"))
    for number in range(PEOPLE):
        rooms.application(f"small{number}", "user")
        assignments.add(rooms.house, rooms.caller, Wish(f"small{number}", "user", person=f"p{number:02}"))
    recompute.work_through(rooms.house)
    settle(rooms)
    for each in garden["people"][:9]:
        rooms.patch_person(garden["staff"], each, {"op": "replace", "path": "active", "value": False})
    assert go(rooms) == [], "one in each application, and nine of one source"
    assert "people of Staff" in holds.listing(rooms.house)["items"][0]["message"]


def test_an_operator_s_own_change_asks_for_the_name_and_then_goes(rooms: Rooms, garden: dict[str, Any]) -> None:
    preview = assignment_changes.preview_removing(rooms.house, garden["assignment"])
    assert preview["lost"] == PEOPLE and "30 people" in preview["confirm"]
    with pytest.raises(NeedsConfirmation) as told:
        assignments.remove(rooms.house, rooms.caller, garden["assignment"])
    assert "'Records'" in told.value.mend
    assert len(rooms.rows(t.assignment, removed_at=None)) == 1
    assignments.remove(rooms.house, rooms.caller, garden["assignment"], Sure("Records", (0, PEOPLE, 0)))
    assert len(go(rooms)) == PEOPLE and held(rooms) == 0


def test_what_was_seen_is_what_is_done_or_nothing(rooms: Rooms, garden: dict[str, Any]) -> None:
    seen = assignment_changes.preview_removing(rooms.house, garden["assignment"])
    take_out(rooms, garden, 1)
    with pytest.raises(WorldMoved, match="29 lose"):
        assignments.remove(rooms.house, rooms.caller, garden["assignment"], Sure("Records", (seen["gained"], seen["lost"], seen["changed"])))
    assert len(rooms.rows(t.assignment, removed_at=None)) == 1


def test_the_highest_role_for_many_asks_for_the_name(rooms: Rooms, garden: dict[str, Any]) -> None:
    wish = Wish("records", "curator", group=garden["group"])
    assert "highest role to 30" in assignment_changes.preview_adding(rooms.house, wish)["confirm"]
    with pytest.raises(NeedsConfirmation):
        assignments.add(rooms.house, rooms.caller, wish)
    rooms.application("desk", "cashier", "supervisor")
    opened = {"open_to": "everybody", "if_nothing": "default role", "default_role": "supervisor"}
    with pytest.raises(NeedsConfirmation):
        access_policies.change(rooms.house, rooms.caller, "desk", opened)
    access_policies.change(rooms.house, rooms.caller, "desk", opened, Sure("Desk"))
    assert applications.one(rooms.house, "desk")["policy"]["open_to"] == "everybody"
    assert assignments.add(rooms.house, rooms.caller, wish, Sure("Records"))["reach"] == PEOPLE


@given(st.integers(0, 1_000), st.integers(0, 100), st.integers(0, 100), st.integers(0, 100_000))
def test_more_of_anything_never_allows_less(number: int, share: int, least: int, population: int) -> None:
    allowed = Limits(number, share, least).allowed(population)
    assert allowed >= least
    assert Limits(number + 1, share, least).allowed(population) >= allowed
    assert Limits(number, share, least).allowed(population + 100) >= allowed
    assert allowed <= max(least, number)


@pytest.mark.parametrize(
    ("agreed", "due", "expected"),
    [
        (None, {"want": "absent"}, False),
        ({"want": "present", "active": True, "roles": [{"value": "a"}]}, {"want": "absent"}, True),
        ({"want": "present", "active": True, "roles": [{"value": "a"}]}, {"want": "as it is"}, False),
        ({"want": "present", "active": True, "roles": [{"value": "a"}]}, {"want": "present", "active": True, "roles": [{"value": "b"}]}, True),
        ({"want": "present", "active": True, "roles": []}, {"want": "present", "active": True, "roles": [{"value": "b"}]}, False),
        ({"want": "present", "active": False, "roles": []}, {"want": "present", "active": False, "roles": []}, False),
        ({"want": "present", "active": False, "roles": []}, {"want": "absent"}, True),
        ({"want": "absent"}, {"want": "present", "active": False, "roles": []}, False),
    ],
)
def test_what_takes_something_away(agreed: Any, due: Any, expected: bool) -> None:
    assert takes_away(agreed, due) is expected
