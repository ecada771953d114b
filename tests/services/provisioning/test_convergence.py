"""No sequence of changes, faults and crashes makes two accounts for one user, or leaves one other than it
should be.

The whole path but for the network: real records, real planning, real conversations; the application's
stand-in is called in this process, and at each request chance (hypothesis) decides whether it fails before
the work, or its reply is lost after it, or the worker dies before it could write down how it went.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.instants import later
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.demo.application import Application
from dravo.demo.http_server import Call
from dravo.protocols.addresses import Unreachable
from dravo.protocols.http_client import Connection, Request, Response
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.provisioning import attempt, holds, managers
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning import health as application_health
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning.client import ApplicationClient
from dravo.store import clock
from dravo.store import tables as t
from tests.scale import sized
from tests.service_fixture import ServiceFixture

USERS, GROUPS = 3, ("viewer", "curator")


class Died(Exception):
    """The worker is killed here."""


class Wire:
    """Carries requests to the stand-in in this process, with the faults that are due."""

    def __init__(self, application: Application) -> None:
        self.application = application
        self.faults: list[str] = []
        self.count = 0

    def send(self, connection: Connection, request: Request) -> Response:
        # The faults are for what changes something, where they hurt; of the reading requests one in seven is
        # refused beside.
        self.count += 1
        if request.method == "GET":
            fault = "refused" if self.faults and self.count % 7 == 0 else "none"
        else:
            fault = self.faults.pop(0) if self.faults else "none"
        if fault == "down":
            return Response(503, {"detail": "Down."}, "Down.", "application/scim+json")
        if fault == "refused":
            raise Unreachable("no connection", sent=False)
        headers = {"Authorization": f"Bearer {connection.token}"}
        answer = self.application.scim(
            Call(request.method, "/scim/v2" + request.path, dict(request.params), headers, request.body)
        )
        if fault == "lost":
            raise Unreachable("the connection was closed before the response (", sent=True)
        if fault == "died":
            raise Died
        body = answer.body if isinstance(answer.body, dict) else None
        return Response(answer.status, body, str(answer.body), answer.kind)


def talking(services: ServiceFixture, wire: Any) -> ApplicationClient:
    """Return what talks with applications, over another wire."""
    talker = ApplicationClient(services.ctx)
    talker.close()
    talker.client = wire
    return talker


class Silent:
    """Reaches nobody."""

    def send(self, connection: Connection, request: Request) -> Response:
        raise Unreachable("no connection", sent=False)


class Convergence(RuleBasedStateMachine):
    """Users come, change, leave and come back, and the worker does what it can."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.services = ServiceFixture(Path(self.folder.name)).unguarded()
        self.application = Application("Records", "token", Path(self.folder.name) / "stand-in")
        self.wire: Any = Wire(self.application)
        self.talker = talking(self.services, self.wire)
        self.assignments: dict[str, str] = {}
        self.records: dict[str, str] = {}

    def teardown(self) -> None:
        # However a sequence ends, the worker gets to work in peace once more, and then all has to be right.
        self.work_until_all_is_agreed()
        self.services.ctx.close()
        self.application.kept.close()
        self.folder.cleanup()

    @initialize(
        on_losing_access=st.sampled_from(["deactivate", "delete"]),
        on_leaving=st.sampled_from(["deactivate", "delete"]),
    )
    def begin(self, on_losing_access: str, on_leaving: str) -> None:
        self.source = self.services.source()
        self.services.application(
            "records", *GROUPS, on_losing_access=on_losing_access, on_leaving=on_leaving
        )
        connections.connect(
            self.services.ctx,
            self.services.caller,
            "records",
            ConnectionSettings("http://127.0.0.1:9/scim/v2", "token"),
        )
        applications.change(
            self.services.ctx,
            self.services.caller,
            "records",
            {},
            {"enabled": True, "provisioned_groups": {"which": "with_roles"}},
        )
        self.groups = {name: self.services.group(self.source, name) for name in GROUPS}
        for name in GROUPS:
            self.map_group(name)
        for number in range(USERS):
            self.join(number, GROUPS[number % 2])

    @rule(name=st.sampled_from(GROUPS))
    def map_group(self, name: str) -> None:
        if name not in self.assignments:
            wish = AssignmentRequest("records", name, group=self.groups[name])
            self.assignments[name] = assignments.add(self.services.ctx, self.services.caller, wish).id

    @rule(name=st.sampled_from(GROUPS))
    def unmap_group(self, name: str) -> None:
        if name in self.assignments:
            assignments.remove(self.services.ctx, self.services.caller, self.assignments.pop(name))

    @rule(number=st.integers(0, USERS - 1), group=st.sampled_from(GROUPS))
    def join(self, number: int, group: str) -> None:
        name = f"p{number}"
        if name not in self.records:
            self.records[name] = self.services.user(self.source, name)
        self.services.add(self.source, self.groups[group], self.records[name])

    @rule(number=st.integers(0, USERS - 1), group=st.sampled_from(GROUPS))
    def part(self, number: int, group: str) -> None:
        if f"p{number}" in self.records:
            self.services.take_out(self.source, self.groups[group], self.records[f"p{number}"])

    @rule(number=st.integers(0, USERS - 1), active=st.booleans(), title=st.sampled_from(["Guide", "Keeper"]))
    def change(self, number: int, active: bool, title: str) -> None:
        if f"p{number}" in self.records:
            value = {"active": active, "title": title}
            self.services.patch_user(
                self.source, self.records[f"p{number}"], {"op": "replace", "value": value}
            )

    @rule(number=st.integers(0, USERS - 1))
    def rename(self, number: int) -> None:
        record = self.records.get(f"p{number}")
        if record:
            present = self.services.rows(t.record, id=record)[0].data["userName"]
            other = present.removesuffix(".x") if present.endswith(".x") else f"{present}.x"
            self.services.patch_user(
                self.source, record, {"op": "replace", "path": "userName", "value": other}
            )

    @rule(number=st.integers(0, USERS - 1), manager=st.integers(0, USERS), by_name=st.booleans())
    def report_to(self, number: int, manager: int, by_name: bool) -> None:
        """A user gets a manager, named by ID or user name: also oneself, or (the last number) none."""
        record, of_manager = self.records.get(f"p{number}"), self.records.get(f"p{manager}")
        path = f"{ENTERPRISE_URN}:manager"
        if record and manager == USERS:
            self.services.patch_user(self.source, record, {"op": "remove", "path": path})
        elif record and of_manager:
            value = {"value": f"p{manager}" if by_name else of_manager}
            self.services.patch_user(self.source, record, {"op": "replace", "path": path, "value": value})

    @rule(number=st.integers(0, USERS - 1))
    def somebody_deletes_an_account_there(self, number: int) -> None:
        account = self.application.by_name.get(f"p{number}")
        if account:
            self.application.handle(
                Call("DELETE", f"/scim/v2/Users/{account}", {}, {"Authorization": "Bearer token"})
            )

    @rule(
        faults=st.lists(st.sampled_from(["lost", "died", "none", "down", "refused"]), min_size=1, max_size=8)
    )
    def work(self, faults: list[str]) -> None:
        """Try each open task once, with faults on the way."""
        self.wire.faults = list(faults)
        for row in self.open_tasks():
            try:
                attempt.attempt(self.services.ctx, self.talker, row.id)
            except Died:
                task_queue.mark_in_flight_unknown(self.services.ctx)
        for row in self.waiting_groups():
            try:
                group_provisioning.attempt(self.services.ctx, self.talker, row.id)
            except Died:
                task_queue.mark_in_flight_unknown(self.services.ctx)
        self.wire.faults = []

    def waiting_groups(self) -> list[Any]:
        return [row for row in self.services.rows(t.provisioned_group) if row.status == "waiting"]

    def open_tasks(self) -> list[Any]:
        # The worker asks the removal limit before it looks for what to deliver.
        holds.hold_removals(self.services.ctx, clock.now())
        return [row for row in self.services.rows(t.task) if row.closed_at is None]

    @rule()
    def work_until_all_is_agreed(self) -> None:
        # Accounts that somebody deleted are found one after the other, each by its manager.
        for _ in range(4 + USERS):
            managers.follow(self.services.ctx, clock.now())
            for row in self.open_tasks():
                attempt.attempt(self.services.ctx, self.talker, row.id)
        managers.follow(self.services.ctx, clock.now())
        assert self.open_tasks() == []
        for _ in range(4):
            for row in self.waiting_groups():
                group_provisioning.attempt(self.services.ctx, self.talker, row.id)
        assert self.waiting_groups() == []
        self.check_groups()
        self.check_managers()
        wanted: dict[str, tuple[bool, set[str]]] = {}
        for row in self.services.rows(t.account):
            assert row.applied_version == row.desired_version
            if row.desired["want"] == "present" and (
                row.desired["active"] or row.remote_id in self.application.accounts
            ):
                wanted[row.user_id] = (
                    row.desired["active"],
                    {role["value"] for role in row.desired["roles"]},
                )
        there = {
            each["externalId"]: (each["active"], {role["value"] for role in each.get("roles", [])})
            for each in self.application.accounts.values()
        }
        deleted_there = {user for user in wanted if user not in there}
        assert {user: status for user, status in wanted.items() if user not in deleted_there} == there
        # What somebody deletes there is found out by reconciliation, not by task: it may be missing, never
        # be wrong.
        for user in deleted_there:
            account = next(row for row in self.services.rows(t.account) if row.user_id == user)
            assert account.remote_id not in self.application.accounts

    def check_managers(self) -> None:
        """Each account names the account of the manager, if the manager has one."""
        records = [row for row in self.services.rows(t.record) if row.deleted_at is None]
        accounts = {row.user_id: row for row in self.services.rows(t.account)}
        for row in accounts.values():
            there = self.application.accounts.get(row.remote_id)
            if there is None or row.desired["want"] != "present":
                continue
            value = row.desired.get("manager", {}).get("value")
            of = {each.user_id for each in records if value in (each.id, each.data["userName"])}
            named = of - {row.user_id}
            due = accounts[named.pop()].remote_id if named and named <= {*accounts} else None
            assert there.get(ENTERPRISE_URN, {}).get("manager", {}).get("value") == due

    def check_groups(self) -> None:
        """Each group that gives a role is there once, with those who are due in it and still there."""
        accounts = {row.id: row for row in self.services.rows(t.account)}
        names = [each["displayName"] for each in self.application.groups.values()]
        assert len(names) == len(set(names))
        for row in self.services.rows(t.provisioned_group):
            due = {
                account.remote_id
                for account in accounts.values()
                if row.key in account.desired.get("groups", ())
                and account.remote_id in self.application.accounts
            }
            if row.status == "failed":
                # Somebody deleted there, outside Dravo, an account that was to be put in.
                assert any(
                    row.key in each.desired.get("groups", ())
                    and each.remote_id not in self.application.accounts
                    for each in accounts.values()
                )
            elif row.remote_id is not None:
                there = {each["value"] for each in self.application.groups[row.remote_id].get("members", [])}
                assert there == due, row.key

    @invariant()
    def nobody_is_there_twice(self) -> None:
        ours = [each["externalId"] for each in self.application.accounts.values()]
        assert len(ours) == len(set(ours))

    @invariant()
    def one_open_task_for_one_account(self) -> None:
        accounts = [row.account_id for row in self.open_tasks()]
        assert len(accounts) == len(set(accounts))


TestConvergence = Convergence.TestCase
TestConvergence.settings = settings(max_examples=sized(12, 600), stateful_step_count=20)


@pytest.fixture
def records(services: ServiceFixture, tmp_path: Path) -> Application:
    application = Application("Records", "token", tmp_path / "stand-in")
    services.application()
    connections.connect(
        services.ctx, services.caller, "records", ConnectionSettings("http://127.0.0.1:9/scim/v2", "token")
    )
    applications.change(services.ctx, services.caller, "records", {}, {"enabled": True})
    return application


def ready(
    services: ServiceFixture,
    busy: dict[str, int] | None = None,
    in_hand: set[str] | None = None,
    ahead: float = 0,
) -> list[Any]:
    return task_queue.ready(services.ctx, later(clock.now(), ahead), busy or {}, in_hand or set(), 100)


def test_tasks_are_handed_out_within_the_pace_and_never_twice(
    services: ServiceFixture, records: Application
) -> None:
    staff = services.source()
    group = services.group(staff, "Everyone", *(services.user(staff, f"p{number}") for number in range(9)))
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    first = ready(services)
    assert len(first) == 4
    application = first[0].application_id
    in_hand = {each.account_id for each in first}
    assert ready(services, {application: 4}, in_hand) == []
    second = ready(services, {application: 2}, in_hand)
    assert len(second) == 2
    assert not {each.account_id for each in second} & in_hand
    connections.pause(services.ctx, services.caller, "records", paused=True)
    assert ready(services) == []
    connections.pause(services.ctx, services.caller, "records", paused=False)
    assert len(ready(services)) == 4


def test_who_is_marked_is_not_provisioned_before_being_recomputed(
    services: ServiceFixture, records: Application
) -> None:
    staff = services.source()
    services.user(staff, "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    task = ready(services)[0]
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.pending_recompute.insert().values(user_id=services.rows(t.user)[0].id, since=clock.now())
        )
    assert ready(services) == []
    assert attempt.attempt(services.ctx, talking(services, Wire(records)), task.id) is None
    assert records.accounts == {}


def test_an_application_that_fails_again_and_again_is_probed_by_one(
    services: ServiceFixture, records: Application
) -> None:
    staff = services.source()
    group = services.group(staff, "Everyone", *(services.user(staff, f"p{number}") for number in range(9)))
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    wire: Any = Wire(records)
    for task in ready(services):
        assert attempt.attempt(services.ctx, talking(services, Silent()), task.id) == "waiting"
    application = services.rows(t.application)[0]
    assert application.failures == 4
    assert application.retry_at > clock.now()
    assert ready(services) == []
    probe = ready(services, ahead=100)
    assert len(probe) == 1
    assert attempt.attempt(services.ctx, talking(services, wire), probe[0].id) == "done"
    assert services.rows(t.application)[0].failures == 0
    assert len(ready(services)) == 4, "those that waited for the application need not wait longer"


def test_pauses_grow_and_never_pass_the_longest() -> None:
    pauses = [[application_health.pause(attempts, 60) for _ in range(50)] for attempts in range(12)]
    assert all(0.75 <= each <= 1.25 for each in pauses[0])
    assert max(pauses[2]) < min(pauses[4])
    assert all(each <= 75 for row in pauses for each in row)
    assert len(set(pauses[3])) > 10, "without jitter, all come back at once"


def test_a_change_during_an_attempt_stays_due(services: ServiceFixture, records: Application) -> None:
    staff = services.source()
    ada = services.user(staff, "ada", title="Guide")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    wire: Any = Wire(records)
    original = wire.send

    def send(connection: Connection, request: Request) -> Response:
        if request.method == "POST":
            services.patch_user(staff, ada, {"op": "replace", "path": "title", "value": "Keeper"})
        return original(connection, request)  # type: ignore[no-any-return]

    wire.send = send
    task = ready(services)[0]
    attempt.attempt(services.ctx, talking(services, wire), task.id)
    account = services.rows(t.account)[0]
    assert (account.applied_version, account.desired_version) == (1, 2)
    assert [each.id for each in ready(services)] == [task.id]
    wire.send = original
    attempt.attempt(services.ctx, talking(services, wire), task.id)
    assert next(iter(records.accounts.values()))["title"] == "Keeper"
    assert services.rows(t.task)[0].closed_at is not None


def test_an_ignored_difference_is_not_retried(services: ServiceFixture, records: Application) -> None:
    staff = services.source()
    ada = services.user(staff, "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    applications.change(services.ctx, services.caller, "records", {}, {"on_inactive": "do_nothing"})
    wire: Any = Wire(records)
    original = wire.send

    def send(connection: Connection, request: Request) -> Response:
        if request.method == "POST":
            services.patch_user(staff, ada, {"op": "replace", "path": "active", "value": False})
        return original(connection, request)  # type: ignore[no-any-return]

    wire.send = send
    attempt.attempt(services.ctx, talking(services, wire), ready(services)[0].id)
    account = services.rows(t.account)[0]
    assert account.applied_version == account.desired_version
    assert ready(services) == []


@pytest.mark.parametrize(("setting", "value"), [("create_accounts", False)])
def test_changes_wait_until_settings_permit_them(
    services: ServiceFixture, records: Application, setting: str, value: bool
) -> None:
    staff = services.source()
    services.user(staff, "ada")
    applications.change(services.ctx, services.caller, "records", {}, {setting: value})
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    wire: Any = Wire(records)
    assert attempt.attempt(services.ctx, talking(services, wire), ready(services)[0].id) == "held"
    assert ready(services) == []
    applications.change(services.ctx, services.caller, "records", {}, {setting: not value})
    assert attempt.attempt(services.ctx, talking(services, wire), ready(services)[0].id) == "done"
    assert len(records.accounts) == 1
