"""The worker's loop: anyone who waits for a thread gets one, and it looks only when there is something to be
found.
"""

from __future__ import annotations

import contextlib
import itertools
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from pathlib import Path
from typing import Any

import httpx
import pytest
import structlog
from sqlalchemy import delete, update

from dravo.core.errors import StorageFailing
from dravo.protocols.scim_client.account_sync import FullListQuery
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import RetryableError
from dravo.services import settings
from dravo.services.access import assignments, license_plans
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.changes import recompute
from dravo.services.heartbeats import JOB, LATE_SECONDS, SETTLEMENT, USER, Heartbeats
from dravo.services.imports import runs as import_runs
from dravo.services.ingest import run_log
from dravo.services.notifications import events, messages
from dravo.services.provisioning import attempt, holds, tasks
from dravo.services.provisioning import queue as task_queue
from dravo.services.provisioning.drift import reconciliation
from dravo.services.reporting import access_flow, conditions
from dravo.services.scim_server import request_log
from dravo.services.sign_in import maintenance
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.settings import rollout
from dravo.store import clock, provisioned_groups, recompute_marks
from dravo.store import tables as t
from dravo.store.database import FILE_NAME
from dravo.store.provisioning import tasks as task_rows
from dravo.worker import loop
from dravo.worker.jobs import Jobs, pause
from dravo.worker.loop import Worker
from tests.harness import StandIn, eventually, stand_in
from tests.service_fixture import ServiceFixture


@contextlib.contextmanager
def at_work(services: ServiceFixture) -> Iterator[Worker]:
    worker = Worker(services.ctx)
    thread = threading.Thread(target=worker.run, daemon=True)
    thread.start()
    try:
        yield worker
    finally:
        worker.stop()
        thread.join()


def connected(services: ServiceFixture, key: str, app: StandIn, **settings: Any) -> None:
    services.application(key, **settings)
    connections.connect(services.ctx, services.caller, key, ConnectionSettings(app.base_url, app.token))
    # What it can do is known then, so that all that is due is queued at once.
    connections.check(services.ctx, services.caller, key)
    applications.change(services.ctx, services.caller, key, {}, {"enabled": True})


def test_an_application_waiting_for_a_thread_is_resumed(
    services: ServiceFixture, app: StandIn, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # One thread, that the first application takes for a while; all that is due for the other one is queued
    # meanwhile.
    monkeypatch.setattr(loop, "THREADS", 1)
    staff = services.source()
    users = [services.user(staff, f"p{number}") for number in range(8)]
    group = services.group(staff, "Everyone", *users)
    (tmp_path / "second").mkdir()
    with stand_in(tmp_path / "second", "Ticket Desk") as other:
        app.faults(slow=120)
        connected(services, "slow", app)
        connected(services, "quick", other)
        for key in ("slow", "quick"):
            assignments.add(services.ctx, services.caller, AssignmentRequest(key, "viewer", group=group))
        with at_work(services):
            eventually(lambda: (len(app.accounts()), len(other.accounts())), lambda seen: seen == (8, 8))
            eventually(lambda: services.rows(t.task, closed_at=None), lambda rows: rows == [])


def test_where_nothing_happens_it_seldom_looks_and_what_is_written_by_others_it_sees_at_once(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(loop, "LOOK_SECONDS", 3_600.0)
    looks: list[int] = []
    look = Worker.look
    monkeypatch.setattr(Worker, "look", lambda worker: (looks.append(1), look(worker))[1])
    staff = services.source()
    connected(services, "records", app)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))

    def at_rest() -> bool:
        before = len(looks)
        time.sleep(5 * loop.GLANCE_SECONDS)
        return len(looks) == before > 0

    with at_work(services):
        eventually(at_rest)
        before = len(looks)
        services.user(staff, "una")
        eventually(lambda: "una" in app.accounts())
        eventually(at_rest)
        assert services.rows(t.task, closed_at=None) == []
        assert before < len(looks) < before + 40


# Whatever a look does, by where it is found.
JOBS: list[tuple[Any, str]] = [
    (reconciliation, "request_scheduled"),
    (reconciliation, "next_requested"),
    (import_runs, "request_scheduled"),
    (import_runs, "next_requested"),
    (import_runs, "sweep"),
    (rollout, "apply_scheduled_activation"),
    (access_flow, "is_due"),
    (messages, "is_due"),
    (conditions, "current"),
    (events, "report"),
    (events, "send_summaries"),
    (events, "sweep"),
    (recompute, "mark_due_changes"),
    (license_plans, "give_free_seats"),
    (recompute, "process_marks"),
    (holds, "hold_removals"),
    (task_queue, "ready"),
    (provisioned_groups, "ready"),
    (request_log, "sweep"),
    (task_queue, "sweep"),
    (sign_in_traces, "sweep"),
    (maintenance, "lapse"),
    (maintenance, "look_at_addresses"),
    (access_reviews, "close_expired"),
]


def once(broken: list[str], name: str, work: Callable[..., Any]) -> Callable[..., Any]:
    """Return work that breaks off the first time."""

    def first_broken(*given: Any, **more: Any) -> Any:
        if name not in broken:
            broken.append(name)
            raise ValueError(f"a mistake in {name}")
        return work(*given, **more)

    return first_broken


def test_every_job_that_breaks_off_keeps_no_other_from_being_done(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    broken: list[str] = []
    for module, name in JOBS:
        whole = f"{module.__name__}.{name}"
        monkeypatch.setattr(module, name, once(broken, whole, getattr(module, name)))
    connected(services, "records", app)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    services.user(services.source(), "una")
    with structlog.testing.capture_logs() as logged, at_work(services) as worker:
        eventually(lambda: "una" in app.accounts())
        eventually(lambda: len(broken), lambda number: number == len(JOBS))
        eventually(lambda: worker.heartbeats.counts()[JOB], lambda number: number >= len(JOBS))
    assert len([each for each in logged if each["event"] == "a job failed unexpectedly"]) >= len(JOBS)


def test_settings_that_cannot_be_read_keep_nothing_else_from_being_done(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(settings, "get", once([], "settings", settings.get))
    connected(services, "records", app)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    services.user(services.source(), "una")
    with at_work(services):
        eventually(lambda: "una" in app.accounts())


def test_a_user_whose_access_fails_blocks_no_other(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    work_out = recompute.plan_user

    def failing(user: Any, *given: Any) -> Any:
        if any(record.data.get("userName") == "una" for record in user.records):
            raise AttributeError("a mistake about una")
        return work_out(user, *given)

    staff = services.source()
    for name in ("ibrahim", "una", "zofia"):
        services.user(staff, name)
    with services.ctx.database.writing() as connection:
        recompute_marks.mark_users(connection, [row.id for row in services.rows(t.user)], clock.now())
    monkeypatch.setattr(recompute, "plan_user", failing)
    heartbeats = Heartbeats()
    aside = recompute.SetAside(heartbeats)
    with structlog.testing.capture_logs() as logged:
        assert recompute.process_marks(services.ctx, None, aside) == 3
    (una,) = services.rows(t.user, user_name="una")
    assert (
        [row.user_id for row in services.rows(t.pending_recompute)]
        == [una.id]
        == [each["user"] for each in logged]
    )
    assert heartbeats.counts()[USER] == 1
    # For a while nobody tries it again; then it is tried, and the mistake is repaired.
    monkeypatch.setattr(recompute, "plan_user", work_out)
    assert recompute.process_marks(services.ctx, None, aside) == 0
    monkeypatch.setattr(recompute, "SET_ASIDE_SECONDS", 0.0)
    aside.add(una.id, ValueError("again"))
    assert recompute.process_marks(services.ctx, None, aside) == 1
    assert services.rows(t.pending_recompute) == []


def test_removals_of_others_are_judged_while_one_user_cannot_be_worked_out(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    work_out = recompute.plan_user

    def failing(user: Any, *given: Any) -> Any:
        if any(record.data.get("userName") == "una" for record in user.records):
            raise AttributeError("a mistake about una")
        return work_out(user, *given)

    staff = services.source()
    users = {name: services.user(staff, name) for name in ("ibrahim", "una")}
    connected(services, "records", app)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    with at_work(services):
        eventually(lambda: set(app.accounts()), lambda names: names == set(users))
        monkeypatch.setattr(recompute, "plan_user", failing)
        with services.ctx.database.writing() as connection:
            recompute_marks.mark_users(
                connection, [row.id for row in services.rows(t.user, user_name="una")], clock.now()
            )
        services.intake.remove_user(staff, users["ibrahim"])
        eventually(lambda: app.accounts()["ibrahim"]["active"], lambda active: not active, seconds=20)


def test_a_settlement_that_cannot_be_written_keeps_no_other_from_it(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    apply = attempt.AttemptResult.apply
    failing = [True]

    def applied(settlement: attempt.AttemptResult, connection: Any) -> str:
        if failing and settlement.work.desired["user"]["userName"] == "una":
            raise AttributeError("a mistake about una")
        return apply(settlement, connection)

    monkeypatch.setattr(attempt.AttemptResult, "apply", applied)
    monkeypatch.setattr(loop, "BROKEN_SECONDS", 0.3)
    staff = services.source()
    connected(services, "records", app)
    for name in ("ibrahim", "una", "zofia"):
        services.user(staff, name)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))

    def waiting() -> list[str]:
        names = {row.id: row.desired["user"]["userName"] for row in services.rows(t.account)}
        return [names[row.account_id] for row in services.rows(t.task, closed_at=None)]

    with at_work(services) as worker:
        eventually(lambda: set(app.accounts()), lambda names: names == {"ibrahim", "una", "zofia"})
        eventually(waiting, lambda names: names == ["una"])
        eventually(lambda: worker.heartbeats.counts()[SETTLEMENT], lambda number: number >= 2)
        failing.clear()
        eventually(waiting, lambda names: names == [])


def test_tasks_of_a_deleted_application_end_quietly(services: ServiceFixture, app: StandIn) -> None:
    connected(services, "records", app)
    services.user(services.source(), "una")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    recompute.process_marks(services.ctx)
    worker = Worker(services.ctx)
    (task,) = services.rows(t.task)
    settlement = attempt.carry_out(services.ctx, worker.talker, task.id)
    assert settlement is not None
    with services.ctx.database.writing() as connection:
        for table in (t.task_attempt, t.task, t.access, t.account):
            connection.execute(delete(table))
    assert settlement.write() == "done"
    assert services.rows(t.task_attempt) == []


def test_a_worker_whose_loop_breaks_off_ends(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    def look(worker: Worker) -> bool:
        raise ValueError("a mistake in the loop")

    monkeypatch.setattr(Worker, "look", look)
    with pytest.raises(ValueError, match="in the loop"):
        Worker(services.ctx).run()
    monkeypatch.undo()
    monkeypatch.setattr(Worker, "_settle", lambda worker: None)
    with pytest.raises(RuntimeError, match="the results of attempts are not written"):
        Worker(services.ctx).run()


def test_loops_show_that_they_live_and_are_missed(services: ServiceFixture) -> None:
    with at_work(services) as worker:
        for _ in range(3):
            time.sleep(0.5)
            assert worker.heartbeats.late(LATE_SECONDS) == []
    heartbeats = Heartbeats()
    assert heartbeats.late(-1.0) == ["work", "settlements"]
    assert set(heartbeats.counts().values()) == {0}


def test_repeated_failures_back_off() -> None:
    assert [pause(times) for times in (1, 2, 3, 9, 10, 2_000)] == [1, 2, 4, 256, 300, 300]


def test_a_run_that_ended_the_worker_twice_is_given_up(services: ServiceFixture) -> None:
    source = services.source("estates")
    run = run_log.begin

    def broken_off(*, ended_well: bool) -> list[str]:
        with services.ctx.database.writing() as connection:
            connection.execute(update(t.run).where(t.run.c.ended_at.is_(None)).values(status="running"))
        import_runs.requeue_interrupted(services.ctx, ended_well=ended_well)
        return [row.status for row in sorted(services.rows(t.run), key=lambda row: str(row.id))]

    with services.ctx.database.writing() as connection:
        run(connection, source, "the schedule", "2026-11-29T12:00:00.000000Z")
    assert broken_off(ended_well=False) == ["failed", "waiting"]
    # Being stopped is nobody's fault.
    assert broken_off(ended_well=True) == ["failed", "failed", "waiting"]
    assert broken_off(ended_well=False) == ["failed", "failed", "failed"]
    last = max(services.rows(t.run), key=lambda row: str(row.id))
    assert "does not retry it" in last.message and "run the import again" in last.hint


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_a_user_deleted_and_reported_again_gets_an_account(
    services: ServiceFixture, app: StandIn, faults: dict[str, Any]
) -> None:
    app.faults(**faults)
    staff = services.source()
    # So many that the application's list is read, where it can also be searched.
    users = {name: services.user(staff, name) for name in (f"p{number:02}" for number in range(60))}
    first, more = list(users)[:30], list(users)[30:]
    group = services.group(staff, "Guides", *(users[name] for name in first))
    connected(services.unguarded(), "records", app, on_losing_access="delete")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    with at_work(services) as worker:
        eventually(lambda: set(app.accounts()), lambda names: names == set(first))
        # The list that is read for more of them has the first.
        worker.talker.lists._kept.clear()
        services.add(staff, group, *(users[name] for name in more))
        eventually(lambda: set(app.accounts()), lambda names: names == set(users))
        services.patch_group(staff, group, {"op": "remove", "path": "members"})
        eventually(lambda: app.accounts(), lambda accounts: accounts == {})
        services.add(staff, group, *users.values())
        eventually(lambda: services.rows(t.task, closed_at=None), lambda rows: rows == [])
        eventually(lambda: set(app.accounts()), lambda names: names == set(users), seconds=10)


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_a_repair_recreates_an_account_deleted_by_hand(
    services: ServiceFixture, app: StandIn, faults: dict[str, Any]
) -> None:
    app.faults(**faults)
    connected(services, "records", app)
    staff = services.source()
    services.user(staff, "una")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    with at_work(services) as worker:
        for number in range(3):
            account = eventually(lambda: app.accounts().get("una"))
            # Where the list is read for somebody else, it has her.
            worker.talker.lists._kept.clear()
            services.user(staff, f"zofia{number}")
            eventually(lambda number=number: app.accounts().get(f"zofia{number}"))  # type: ignore[misc]
            eventually(lambda: services.rows(t.task, closed_at=None), lambda rows: rows == [])
            httpx.delete(
                f"{app.base_url}/Users/{account['id']}", headers=app.headers, trust_env=False
            ).raise_for_status()
            (una,) = services.rows(t.user, user_name="una")
            tasks.retry(
                services.ctx, services.caller, max(row.id for row in services.rows(t.task, user_id=una.id))
            )
            eventually(lambda: app.accounts().get("una"), seconds=10)


def test_a_list_that_was_begun_before_a_repair_does_not_serve(services: ServiceFixture) -> None:
    """The repair is asked for in another process than the one that keeps the list."""
    services.application()
    services.user(services.source(), "una")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    connections.connect(
        services.ctx, services.caller, "records", ConnectionSettings("http://127.0.0.1:9", "x")
    )
    applications.change(services.ctx, services.caller, "records", {}, {"enabled": True})
    recompute.process_marks(services.ctx)
    worker = Worker(services.ctx)
    (task,) = services.rows(t.task)
    before = attempt.begin(services.ctx, task.id)
    assert before is not None
    worker.talker.lists.get(task.application_id, "/Users", 0.0, lambda: [{"id": "7"}])
    assert list(before.answers(worker.talker, Capabilities())(FullListQuery())) == [{"id": "7"}]
    with services.ctx.database.writing() as connection:
        task_rows.reopen(connection, task.account_id, clock.now())
    after = attempt.begin(services.ctx, task.id)
    assert after is not None
    with pytest.raises(RetryableError):
        # It is read again, from where nobody answers.
        after.answers(worker.talker, Capabilities())(FullListQuery())


def test_the_write_ahead_log_is_checkpointed(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(loop, "CHECKPOINT_SECONDS", 0.2)
    services.user(services.source(), "una.kerrigan")
    file = services.ctx.folder / FILE_NAME

    def has_una(copy: bytes) -> bool:
        return b"una.kerrigan" in copy

    assert not has_una(file.read_bytes())
    with at_work(services):
        eventually(lambda: has_una(file.read_bytes()))


def test_an_interrupted_side_job_restarts_later_and_is_logged_once(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    now = [1_000.0]
    monkeypatch.setattr(time, "monotonic", lambda: now[0])
    heartbeats = Heartbeats()
    jobs = Jobs(heartbeats)

    def ended(wrong: Exception | None) -> Future[None]:
        future: Future[None] = Future()
        future.set_exception(wrong) if wrong else future.set_result(None)
        return future

    assert jobs.is_free("letters", None) and not jobs.is_free("letters", Future())
    with structlog.testing.capture_logs() as logged:
        for seconds in (1, 2, 4):
            broken = ended(ValueError("a mistake"))
            for _ in range(5):
                assert not jobs.is_free("letters", broken)
            assert jobs.is_free("counting", None), "otherwise invalid lines are reported and skipped"
            now[0] += seconds + 0.01
            assert jobs.is_free("letters", broken)
    assert len(logged) == heartbeats.counts()[JOB] == 3
    assert jobs.is_free("letters", ended(None))
    assert not jobs.is_free("letters", broken := ended(ValueError("again")))
    now[0] += 1.01
    assert jobs.is_free("letters", broken), "what went well in between counts from the beginning"


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_an_application_that_just_answered_and_answers_no_more_is_soon_probed_one_at_a_time(
    services: ServiceFixture, app: StandIn, faults: dict[str, Any]
) -> None:
    app.faults(**faults)
    staff = services.source()
    connected(services, "records", app)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    with at_work(services):
        services.user(staff, "first")
        eventually(lambda: app.accounts().get("first"))
        app.faults(**faults, fail_every=1)
        before = app.counted()["all"]
        for number in range(60):
            services.user(staff, f"p{number:02}")
        time.sleep(5)
        asked = app.counted()["all"] - before
        app.faults(**faults, fail_every=0)
        # Some at once, then one at a time, with pauses.
        assert asked <= 30
        eventually(lambda: len(app.accounts()), lambda number: number == 61)


def test_an_account_deleted_by_hand_affects_no_other_member(services: ServiceFixture, app: StandIn) -> None:
    staff = services.source()
    users = {name: services.user(staff, name) for name in ("ibrahim", "una", "zofia")}
    group = services.group(staff, "Guides", *users.values())
    connected(services.unguarded(), "records", app, on_losing_access="do_nothing")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    applications.change(
        services.ctx,
        services.caller,
        "records",
        {},
        {"provisioned_groups": {"which": "selected", "groups": [{"group": group}]}},
    )

    def members() -> set[str]:
        names = {each["id"]: name for name, each in app.accounts().items()}
        return {
            names.get(each["value"], "nobody") for team in app.groups() for each in team.get("members", [])
        }

    with at_work(services):
        eventually(members, lambda names: names == set(users))
        gone = app.accounts()["una"]["id"]
        httpx.delete(f"{app.base_url}/Users/{gone}", headers=app.headers, trust_env=False).raise_for_status()
        # Her membership is written again with somebody else's, who leaves.
        with services.ctx.database.writing() as connection:
            connection.execute(
                update(t.provisioned_member)
                .where(t.provisioned_member.c.applied_remote_id == gone)
                .values(applied_remote_id=None)
            )
        services.patch_group(staff, group, {"op": "remove", "path": f'members[value eq "{users["zofia"]}"]'})
        eventually(members, lambda names: names == {"ibrahim", "una"})
        assert app.accounts()["una"]["id"] != gone
        eventually(
            lambda: {row.status for row in services.rows(t.provisioned_group)},
            lambda statuses: statuses == {"done"},
        )


@pytest.mark.parametrize("what", ["users", "groups"])
def test_an_application_with_much_to_do_leaves_threads_to_the_others(
    services: ServiceFixture, app: StandIn, tmp_path: Path, what: str
) -> None:
    staff = services.source()
    (tmp_path / "second").mkdir()
    many = services.group(staff, "Many", *(services.user(staff, f"p{number:03}") for number in range(120)))
    few = services.group(staff, "Few", *(services.user(staff, f"q{number}") for number in range(5)))
    with stand_in(tmp_path / "second", "Ticket Desk") as other:
        connected(services, "large", app, max_concurrency=16)
        connected(services, "small", other)
        if what == "groups":
            # Its users are there; a group of them is to follow.
            assignments.add(services.ctx, services.caller, AssignmentRequest("small", "viewer", group=few))
            with at_work(services):
                eventually(lambda: len(other.accounts()), lambda number: number == 5)
        app.faults(slow=1500)
        assignments.add(services.ctx, services.caller, AssignmentRequest("large", "viewer", group=many))
        with at_work(services):
            eventually(lambda: len(app.accounts()), lambda number: number >= 16)
            if what == "groups":
                applications.change(
                    services.ctx,
                    services.caller,
                    "small",
                    {},
                    {"provisioned_groups": {"which": "with_roles"}},
                )
                eventually(lambda: len(other.groups()), lambda number: number == 1)
            else:
                assignments.add(
                    services.ctx, services.caller, AssignmentRequest("small", "viewer", group=few)
                )
                eventually(lambda: len(other.accounts()), lambda number: number == 5)
            assert len(app.accounts()) < 100
            app.faults(slow=0)
            eventually(lambda: len(app.accounts()), lambda number: number == 120)


def test_without_writes_no_requests_are_sent_and_work_resumes(
    services: ServiceFixture, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    write, failing = attempt.write_together, [True]

    def full(settlements: Any) -> list[str]:
        if failing:
            raise StorageFailing("The database cannot be written: disk is full.")
        return write(settlements)

    monkeypatch.setattr(attempt, "write_together", full)
    monkeypatch.setattr(loop, "BROKEN_SECONDS", 0.1)
    # The pauses grow as they do, from a tenth of their length.
    monkeypatch.setattr(loop, "pause", lambda times, *_, **__: pause(times) / 10)
    staff = services.source()
    connected(services, "records", app)
    for number in range(40):
        services.user(staff, f"p{number:02}")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    before = app.counted()["all"]
    with structlog.testing.capture_logs() as logged, at_work(services) as worker:
        time.sleep(1)
        asked = app.counted()["all"] - before
        failing.clear()
        eventually(lambda: services.rows(t.task, closed_at=None), lambda rows: rows == [])
    assert asked <= 40 and len(app.accounts()) == 40
    assert worker._broken == {}, (
        "what could not be written is no mistake of a task, and does not wait longer for it"
    )
    told = [each for each in logged if each["event"] == "attempts could not be written"]
    assert 1 <= len(told) <= 8 and not any("exc_info" in each for each in logged)


def test_a_background_job_that_keeps_failing_rests_longer_each_time_and_says_so_in_a_line(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    seconds = [0.0]
    monkeypatch.setattr(time, "monotonic", lambda: seconds[0])
    jobs = Jobs(Heartbeats())
    failed: Future[None] | None = None
    starts: list[float] = []
    with structlog.testing.capture_logs() as lines:
        while len(starts) < 5:
            # It is begun by a job of the same name, which itself goes well.
            if jobs.do("counting", lambda failed=failed: jobs.is_free("counting", failed), otherwise=False):
                starts.append(seconds[0])
                failed = Future()
                failed.set_exception(
                    StorageFailing("The database cannot be written: disk full.", "Make room.")
                )
            seconds[0] += 0.25
    assert [round(later - before) for before, later in itertools.pairwise(starts)] == [1, 2, 4, 8]
    assert {(line["event"], line["log_level"], "exc_info" in line) for line in lines} == {
        ("a job failed", "warning", False)
    }
