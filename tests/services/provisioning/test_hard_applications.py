"""Applications as they are in the field: failing, losing replies, slow, limited, lacking this or that.

All end exactly right.

Each test pushes many users and groups, changes some, and compares what the application has with what it
should have.
"""

from __future__ import annotations

import collections
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning import health as application_health
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.worker.loop import Worker
from tests.harness import StandIn, eventually, stand_in_process
from tests.scale import sized
from tests.service_fixture import ServiceFixture

USERS, GROUPS = sized((80, 5), (1_000, 50))
ROLES = ("viewer", "recorder", "curator")


class Garden:
    """A organization with users in groups, a worker at work, and a stand-in for an application."""

    def __init__(self, services: ServiceFixture, app: StandIn) -> None:
        self.services, self.app = services, app
        self.staff = services.source()
        self.worker = Worker(services.ctx)
        self.thread = threading.Thread(target=self.worker.run, daemon=True)
        self.users: list[str] = []
        self.groups: list[str] = []

    def open(self, number: int = USERS, **settings: Any) -> None:
        """Push everyone, give each group a role, and begin to deliver."""
        self.users = [
            self.services.user(self.staff, f"p{place:04d}", displayName=f"User {place}", title="Guide")
            for place in range(number)
        ]
        each = number // GROUPS
        self.groups = [
            self.services.group(self.staff, f"Team {place}", *self.users[place * each : (place + 1) * each])
            for place in range(GROUPS)
        ]
        self.services.application(
            "records", *ROLES, max_concurrency=16, provisioned_groups={"which": "with_roles"}, **settings
        )
        for place, group in enumerate(self.groups):
            assignments.add(
                self.services.ctx,
                self.services.caller,
                AssignmentRequest("records", ROLES[place % 3], group=group),
            )
        connections.connect(
            self.services.ctx,
            self.services.caller,
            "records",
            ConnectionSettings(self.app.base_url, self.app.token),
        )
        applications.change(self.services.ctx, self.services.caller, "records", {}, {"enabled": True})
        self.thread.start()

    def change(self) -> None:
        """Rename some, deactivate some, remove some, move some to another group."""
        for place, user in enumerate(self.users):
            if place % 20 == 0:
                self.services.patch_user(
                    self.staff, user, {"op": "replace", "path": "userName", "value": f"q{place:04d}"}
                )
            elif place % 20 == 1:
                self.services.patch_user(
                    self.staff, user, {"op": "replace", "path": "active", "value": False}
                )
            elif place % 50 == 2:
                self.services.intake.remove_user(self.staff, user)
        each = len(self.users) // GROUPS
        for place in range(0, GROUPS, 5):
            mover = self.users[place * each + 3]
            self.services.take_out(self.staff, self.groups[place], mover)
            self.services.add(self.staff, self.groups[(place + 1) % GROUPS], mover)

    def settle(self, seconds: float = 150) -> None:
        """Wait until all is delivered."""
        eventually(self.open_ends, lambda left: not any(left), seconds=seconds)

    def open_ends(self) -> tuple[int, int, int]:
        """Count tasks, groups and marks that wait."""
        with self.services.ctx.database.reading() as connection:
            waiting = connection.exec_driver_sql(
                "SELECT count(*) FROM task WHERE closed_at IS NULL"
            ).scalar_one()
            groups = connection.exec_driver_sql(
                "SELECT count(*) FROM provisioned_group WHERE status <> 'done'"
            ).scalar_one()
            marks = connection.exec_driver_sql("SELECT count(*) FROM pending_recompute").scalar_one()
        return (waiting, groups, marks)

    def accounts(self) -> dict[str, dict[str, Any]]:
        return self.app.accounts()

    def check(self) -> None:
        """Compare what the application has with what is due."""
        there = {each["externalId"]: each for each in self.accounts().values() if each.get("externalId")}
        assert len(there) == len([each for each in self.accounts().values() if each.get("externalId")]), (
            "somebody is there twice"
        )
        due = {row.user_id: row for row in self.services.rows(t.account)}
        assert set(there) == set(due)
        for user_id, row in due.items():
            account = there[user_id]
            assert account["active"] == row.desired["active"], row.desired
            assert account["userName"] == row.desired["user"]["userName"]
            assert {
                role if isinstance(role, str) else role["value"] for role in account.get("roles", [])
            } == {role["value"] for role in row.desired["roles"]}

    def check_groups(self) -> None:
        """Compare the groups there with those here."""
        remote = {row.remote_id: row for row in self.services.rows(t.account)}
        found: dict[str, set[str]] = {}
        for group in self.app.groups():
            assert group["displayName"] not in found, "a group is there twice"
            found[group["displayName"]] = {remote[each["value"]].user_id for each in group.get("members", [])}
        wanted: dict[str, set[str]] = collections.defaultdict(set)
        names = {f"group:{row.id}": row.display_name for row in self.services.rows(t.group)}
        for row in self.services.rows(t.account):
            for key in row.desired.get("groups", ()):
                wanted[names[key]].add(row.user_id)
        assert {name: members for name, members in found.items() if members} == wanted


@pytest.fixture
def garden(services: ServiceFixture, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Garden]:
    services.unguarded()
    # Pauses grow as they do, from a smaller first one to a smaller longest one: a thousand users have to be
    # through while somebody waits, also those few who have bad luck ten times over.
    for name, seconds in (
        ("FIRST_PAUSE", 0.1),
        ("LONGEST_PAUSE", sized(3.0, 20.0)),
        ("LONGEST_PROBE_PAUSE", sized(1.5, 10.0)),
    ):
        monkeypatch.setattr(application_health, name, seconds)
    with stand_in_process(tmp_path) as app:
        made = Garden(services, app)
        yield made
        made.worker.stop()
        if made.thread.is_alive():
            made.thread.join()


def run(garden: Garden, number: int = USERS, **settings: Any) -> None:
    garden.open(number, **settings)
    garden.settle()
    garden.check()
    garden.change()
    garden.settle()
    garden.check()


def writes(garden: Garden) -> int:
    return garden.app.counted()["writes"]


def test_one_in_ten_answers_503(garden: Garden) -> None:
    garden.app.faults(fail_every=10)
    run(garden)
    garden.check_groups()
    # No storm: hardly more than what had to be done and done again.
    assert garden.app.counted()["all"] < 4 * USERS


def test_one_in_ten_replies_is_cut_after_the_work(garden: Garden) -> None:
    garden.app.faults(lose_every=10)
    run(garden)
    garden.check_groups()
    assert garden.app.counted()["all"] < 4 * USERS


def test_twenty_requests_a_second_and_429(garden: Garden) -> None:
    garden.app.faults(limit=20)
    run(garden, rate_limit=18)
    garden.check_groups()
    refused = [each for each in garden.app.requests() if each["status"] == 429]
    assert len(refused) < USERS / 50, "the pace was not kept"


def test_an_unknown_rate_limit_respects_retry_after(garden: Garden) -> None:
    garden.app.faults(limit=sized(10, 50))
    run(garden, USERS // 4)
    log = garden.app.requests()
    refused = sum(1 for each in log if each["status"] == 429)
    assert refused < len(log) / 3


def test_every_answer_takes_400_milliseconds(garden: Garden) -> None:
    garden.app.faults(slow=400)
    run(garden)
    garden.check_groups()


def test_no_patch(garden: Garden) -> None:
    garden.app.faults(no_patch=True)
    run(garden)
    garden.check_groups()
    assert "PATCH" not in {each["method"] for each in garden.app.requests()}


def test_no_filter_and_small_pages(garden: Garden) -> None:
    garden.app.faults(no_filter=True, page=50)
    run(garden)
    garden.check_groups()
    assert garden.app.counted()["all"] < 4 * USERS


def test_no_filter_and_lost_replies(garden: Garden) -> None:
    garden.app.faults(no_filter=True, lose_every=10)
    run(garden, USERS // 2)
    garden.check_groups()


def test_many_changes_are_sent_in_one_request(garden: Garden) -> None:
    garden.app.faults(bulk=80)
    number = sized(8 * USERS, USERS)
    garden.open(number)
    garden.settle()
    assert garden.app.counted()["all"] < number / 10 + 2 * GROUPS, "hardly anything went together"
    garden.change()
    garden.settle()
    garden.check()
    garden.check_groups()


def test_replies_to_many_changes_are_lost_and_the_application_fails_in_passing(garden: Garden) -> None:
    garden.app.faults(bulk=50, lose_every=3, fail_every=7)
    run(garden)
    garden.check_groups()


def test_bulk_is_offered_and_refused(garden: Garden) -> None:
    garden.app.faults(bulk=50, no_bulk_after_all=True)
    run(garden, USERS // 4)
    told = applications.one(garden.services.ctx, "records").connection.capabilities
    assert not told["bulk"] and any("refused" in note for note in told["notes"])
    assert sum(1 for each in garden.app.requests() if each["path"].endswith("/Bulk")) < 4


def test_fewer_operations_than_are_offered_are_taken(garden: Garden) -> None:
    garden.app.faults(bulk=80)
    garden.open(USERS // 2)
    eventually(lambda: applications.one(garden.services.ctx, "records").connection.capabilities)
    garden.app.faults(bulk=5)
    garden.settle()
    garden.check()


def test_some_are_there_already(garden: Garden) -> None:
    for place in range(0, USERS // 5, 2):
        garden.app.create(userName=f"P{place:04d}", active=True, displayName="theirs", nickName="kept")
    run(garden, adopt_by=["userName"])
    garden.check_groups()
    kept = [each for each in garden.accounts().values() if each.get("nickName") == "kept"]
    assert len(kept) == USERS // 10
    origins = collections.Counter(row.origin for row in garden.services.rows(t.account))
    assert origins["adopted"] == USERS // 10


def test_the_token_changes_half_way(garden: Garden) -> None:
    garden.open()
    eventually(lambda: len(garden.accounts()) > USERS // 5)
    garden.app.faults(token="another")
    garden.app.token = "another"
    eventually(lambda: applications.one(garden.services.ctx, "records").status == "paused")
    before, looked = garden.app.counted()["all"], garden.worker._looked
    for _ in range(3):
        looked = eventually(lambda: garden.worker._looked, lambda now: now > looked)  # noqa: B023
    assert garden.app.counted()["all"] == before, "a paused application is left alone"
    connections.connect(
        garden.services.ctx,
        garden.services.caller,
        "records",
        ConnectionSettings(garden.app.base_url, "another"),
    )
    garden.settle()
    garden.check()
    garden.check_groups()


def test_no_groups_no_schemas_and_roles_as_texts(garden: Garden) -> None:
    garden.app.faults(role_texts=True)
    run(garden, USERS // 4)
    assert all(isinstance(role, str) for each in garden.accounts().values() for role in each.get("roles", []))


def test_an_application_without_groups_says_so(garden: Garden) -> None:
    garden.app.faults(no_groups=True)
    garden.open(100)
    eventually(
        lambda: {row.status for row in garden.services.rows(t.provisioned_group)} == {"failed"}, seconds=20
    )
    shown = group_provisioning.list_groups(garden.services.ctx, "records", PageRequest()).items[0]
    assert "The application does not support groups." in shown.message and shown.hint
    garden.check()


def test_an_application_whose_accounts_cannot_be_inactive(garden: Garden) -> None:
    garden.app.faults(no_active=True)
    garden.open(50)
    garden.settle()
    assert all("active" not in each for each in garden.accounts().values())
    garden.services.patch_user(
        garden.staff, garden.users[0], {"op": "replace", "path": "active", "value": False}
    )
    held = eventually(lambda: [row for row in garden.services.rows(t.task) if row.status == "held"])
    assert "The application does not support inactive accounts." in held[0].message
    applications.change(garden.services.ctx, garden.services.caller, "records", {}, {"on_inactive": "delete"})
    eventually(lambda: len(garden.accounts()) == 49)
