"""The worker's loop: whoever waits for a thread gets one, and it looks only when there is something to be found."""

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

from dravo.core.errors import RecordsFailing
from dravo.protocols.scim_client.account_sync import Everybody
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import TryLater
from dravo.services import settings
from dravo.services.access import assignments, license_plans
from dravo.services.access import reviews as access_reviews
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.heartbeats import JOB, LATE_SECONDS, SETTLEMENT, USER, Heartbeats
from dravo.services.imports import runs as import_runs
from dravo.services.ingest import run_log
from dravo.services.notifications import mail_queue
from dravo.services.provisioning import applications, attempt, connections, holds, reconciliation, tasks
from dravo.services.provisioning import queue as task_queue
from dravo.services.reporting import access_flow
from dravo.services.scim_server import request_log
from dravo.services.sign_in import maintenance, rollout
from dravo.services.sign_in import traces as sign_in_traces
from dravo.store import clock, provisioned_groups, recompute_marks
from dravo.store import tables as t
from dravo.store.database import FILE_NAME
from dravo.worker import loop
from dravo.worker.jobs import Jobs, pause
from dravo.worker.loop import Worker
from tests.harness import StandIn, eventually, stand_in
from tests.service_fixture import Rooms


@contextlib.contextmanager
def at_work(rooms: Rooms) -> Iterator[Worker]:
    worker = Worker(rooms.house)
    thread = threading.Thread(target=worker.run, daemon=True)
    thread.start()
    try:
        yield worker
    finally:
        worker.stop()
        thread.join()


def connected(rooms: Rooms, key: str, app: StandIn, **settings: Any) -> None:
    rooms.application(key, **settings)
    connections.connect(rooms.house, rooms.caller, key, app.base_url, app.token)
    # What it can do is known then, so that all that is due is queued at once.
    connections.check(rooms.house, rooms.caller, key)
    applications.change(rooms.house, rooms.caller, key, {}, {"switched_on": True})


def test_an_application_whose_queue_waited_for_a_thread_is_come_back_to(
    rooms: Rooms, app: StandIn, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # One thread, that the first application takes for a while; all that is due for the other one is queued meanwhile.
    monkeypatch.setattr(loop, "THREADS", 1)
    staff = rooms.source()
    people = [rooms.person(staff, f"p{number}") for number in range(8)]
    group = rooms.group(staff, "Everybody", *people)
    (tmp_path / "second").mkdir()
    with stand_in(tmp_path / "second", "Ticket Desk") as other:
        app.faults(slow=120)
        connected(rooms, "slow", app)
        connected(rooms, "quick", other)
        for key in ("slow", "quick"):
            assignments.add(rooms.house, rooms.caller, Wish(key, "viewer", group=group))
        with at_work(rooms):
            eventually(lambda: (len(app.accounts()), len(other.accounts())), lambda seen: seen == (8, 8))
            eventually(lambda: rooms.rows(t.delivery, closed_at=None), lambda rows: rows == [])


def test_where_nothing_happens_it_seldom_looks_and_what_is_written_by_others_it_sees_at_once(
    rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(loop, "LOOK_SECONDS", 3_600.0)
    looks: list[int] = []
    look = Worker.look
    monkeypatch.setattr(Worker, "look", lambda worker: (looks.append(1), look(worker))[1])
    staff = rooms.source()
    connected(rooms, "records", app)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))

    def at_rest() -> bool:
        before = len(looks)
        time.sleep(5 * loop.GLANCE_SECONDS)
        return len(looks) == before > 0

    with at_work(rooms):
        eventually(at_rest)
        before = len(looks)
        rooms.person(staff, "una")
        eventually(lambda: "una" in app.accounts())
        eventually(at_rest)
        assert rooms.rows(t.delivery, closed_at=None) == []
        assert before < len(looks) < before + 40


# Whatever a look does, by where it is found.
JOBS: list[tuple[Any, str]] = [
    (reconciliation, "ask_by_schedule"), (reconciliation, "next_asked"), (import_runs, "ask_by_schedule"), (import_runs, "next_asked"), (import_runs, "sweep"),
    (rollout, "put_in_force_by_the_hour"), (access_flow, "is_due"), (mail_queue, "is_due"), (recompute, "mark_those_whose_time_has_come"),
    (license_plans, "give_free_seats"), (recompute, "work_through"), (holds, "judge"), (task_queue, "ready"), (provisioned_groups, "ready"),
    (request_log, "sweep"), (task_queue, "sweep"), (sign_in_traces, "sweep"), (maintenance, "lapse"), (maintenance, "look_at_addresses"),
    (access_reviews, "close_those_whose_day_is_over"),
]  # fmt: skip


def once(broken: list[str], name: str, work: Callable[..., Any]) -> Callable[..., Any]:
    """Return work that breaks off the first time."""

    def first_broken(*given: Any, **more: Any) -> Any:
        if name not in broken:
            broken.append(name)
            raise ValueError(f"a mistake in {name}")
        return work(*given, **more)

    return first_broken


def test_every_job_that_breaks_off_keeps_no_other_from_being_done(rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    broken: list[str] = []
    for module, name in JOBS:
        whole = f"{module.__name__}.{name}"
        monkeypatch.setattr(module, name, once(broken, whole, getattr(module, name)))
    connected(rooms, "records", app)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    rooms.person(rooms.source(), "una")
    with structlog.testing.capture_logs() as logged, at_work(rooms) as worker:
        eventually(lambda: "una" in app.accounts())
        eventually(lambda: len(broken), lambda number: number == len(JOBS))
        eventually(lambda: worker.heartbeats.counts()[JOB], lambda number: number >= len(JOBS))
    assert len([each for each in logged if each["event"] == "a job broke off"]) >= len(JOBS)


def test_settings_that_cannot_be_read_keep_nothing_else_from_being_done(rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(settings, "get", once([], "settings", settings.get))
    connected(rooms, "records", app)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    rooms.person(rooms.source(), "una")
    with at_work(rooms):
        eventually(lambda: "una" in app.accounts())


def test_a_user_of_whom_nothing_can_be_worked_out_keeps_no_other_waiting(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    work_out = recompute.work_out

    def failing(person: Any, *given: Any) -> Any:
        if any(record.data.get("userName") == "una" for record in person.records):
            raise AttributeError("a mistake about una")
        return work_out(person, *given)

    staff = rooms.source()
    for name in ("ibrahim", "una", "zofia"):
        rooms.person(staff, name)
    with rooms.house.database.writing() as connection:
        recompute_marks.mark_these(connection, [row.id for row in rooms.rows(t.user)], clock.now())
    monkeypatch.setattr(recompute, "work_out", failing)
    heartbeats = Heartbeats()
    aside = recompute.SetAside(heartbeats)
    with structlog.testing.capture_logs() as logged:
        assert recompute.work_through(rooms.house, None, aside) == 3
    (una,) = rooms.rows(t.user, user_name="una")
    assert [row.user_id for row in rooms.rows(t.mark)] == [una.id] == [each["user"] for each in logged]
    assert heartbeats.counts()[USER] == 1
    # For a while nobody tries it again; then it is tried, and the mistake is mended.
    monkeypatch.setattr(recompute, "work_out", work_out)
    assert recompute.work_through(rooms.house, None, aside) == 0
    monkeypatch.setattr(recompute, "SET_ASIDE_SECONDS", 0.0)
    aside.add(una.id, ValueError("again"))
    assert recompute.work_through(rooms.house, None, aside) == 1
    assert rooms.rows(t.mark) == []


def test_removals_of_others_are_judged_while_one_user_cannot_be_worked_out(rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    work_out = recompute.work_out

    def failing(person: Any, *given: Any) -> Any:
        if any(record.data.get("userName") == "una" for record in person.records):
            raise AttributeError("a mistake about una")
        return work_out(person, *given)

    staff = rooms.source()
    people = {name: rooms.person(staff, name) for name in ("ibrahim", "una")}
    connected(rooms, "records", app)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    with at_work(rooms):
        eventually(lambda: set(app.accounts()), lambda names: names == set(people))
        monkeypatch.setattr(recompute, "work_out", failing)
        with rooms.house.database.writing() as connection:
            recompute_marks.mark_these(connection, [row.id for row in rooms.rows(t.user, user_name="una")], clock.now())
        rooms.intake.remove_person(staff, people["ibrahim"])
        eventually(lambda: app.accounts()["ibrahim"]["active"], lambda active: not active, seconds=20)


def test_a_settlement_that_cannot_be_written_keeps_no_other_from_it(rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    apply = attempt.Settlement.apply
    failing = [True]

    def applied(settlement: attempt.Settlement, connection: Any) -> str:
        if failing and settlement.work.due["user"]["userName"] == "una":
            raise AttributeError("a mistake about una")
        return apply(settlement, connection)

    monkeypatch.setattr(attempt.Settlement, "apply", applied)
    monkeypatch.setattr(loop, "BROKEN_SECONDS", 0.3)
    staff = rooms.source()
    connected(rooms, "records", app)
    for name in ("ibrahim", "una", "zofia"):
        rooms.person(staff, name)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))

    def waiting() -> list[str]:
        names = {row.id: row.due["user"]["userName"] for row in rooms.rows(t.account)}
        return [names[row.account_id] for row in rooms.rows(t.delivery, closed_at=None)]

    with at_work(rooms) as worker:
        eventually(lambda: set(app.accounts()), lambda names: names == {"ibrahim", "una", "zofia"})
        eventually(waiting, lambda names: names == ["una"])
        eventually(lambda: worker.heartbeats.counts()[SETTLEMENT], lambda number: number >= 2)
        failing.clear()
        eventually(waiting, lambda names: names == [])


def test_what_was_under_way_for_an_application_that_is_removed_ends_quietly(rooms: Rooms, app: StandIn) -> None:
    connected(rooms, "records", app)
    rooms.person(rooms.source(), "una")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    recompute.work_through(rooms.house)
    worker = Worker(rooms.house)
    (task,) = rooms.rows(t.delivery)
    settlement = attempt.carry_out(rooms.house, worker.talker, task.id)
    assert settlement is not None
    with rooms.house.database.writing() as connection:
        for table in (t.delivery_attempt, t.delivery, t.access, t.account):
            connection.execute(delete(table))
    assert settlement.write() == "done"
    assert rooms.rows(t.delivery_attempt) == []


def test_a_worker_whose_loop_breaks_off_ends(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    def look(worker: Worker) -> bool:
        raise ValueError("a mistake in the loop")

    monkeypatch.setattr(Worker, "look", look)
    with pytest.raises(ValueError, match="in the loop"):
        Worker(rooms.house).run()
    monkeypatch.undo()
    monkeypatch.setattr(Worker, "_settle", lambda worker: None)
    with pytest.raises(RuntimeError, match="nothing writes down"):
        Worker(rooms.house).run()


def test_loops_show_that_they_live_and_are_missed(rooms: Rooms) -> None:
    with at_work(rooms) as worker:
        for _ in range(3):
            time.sleep(0.5)
            assert worker.heartbeats.late(LATE_SECONDS) == []
    heartbeats = Heartbeats()
    assert heartbeats.late(-1.0) == ["work", "settlements"]
    assert set(heartbeats.counts().values()) == {0}


def test_what_breaks_off_again_and_again_is_left_alone_longer_and_longer() -> None:
    assert [pause(times) for times in (1, 2, 3, 9, 10, 2_000)] == [1, 2, 4, 256, 300, 300]


def test_a_run_that_ended_the_worker_twice_is_given_up(rooms: Rooms) -> None:
    source = rooms.source("estates")
    run = run_log.begin

    def broken_off(*, ended_well: bool) -> list[str]:
        with rooms.house.database.writing() as connection:
            connection.execute(update(t.run).where(t.run.c.ended_at.is_(None)).values(state="running"))
        import_runs.go_on_after_breaking_off(rooms.house, ended_well=ended_well)
        return [row.state for row in sorted(rooms.rows(t.run), key=lambda row: str(row.id))]

    with rooms.house.database.writing() as connection:
        run(connection, source, "the schedule", "2026-11-29T12:00:00.000000Z")
    assert broken_off(ended_well=False) == ["failed", "asked"]
    # Being stopped is nobody's fault.
    assert broken_off(ended_well=True) == ["failed", "failed", "asked"]
    assert broken_off(ended_well=False) == ["failed", "failed", "failed"]
    last = max(rooms.rows(t.run), key=lambda row: str(row.id))
    assert "does not retry it" in last.message and "run the import again" in last.mend


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_whoever_is_deleted_and_let_in_again_has_an_account_again(rooms: Rooms, app: StandIn, faults: dict[str, Any]) -> None:
    app.faults(**faults)
    staff = rooms.source()
    # So many that the application's list is read, where it can also be searched.
    people = {name: rooms.person(staff, name) for name in (f"p{number:02}" for number in range(60))}
    first, more = list(people)[:30], list(people)[30:]
    group = rooms.group(staff, "Guides", *(people[name] for name in first))
    connected(rooms.unguarded(), "records", app, on_losing_access="delete")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", group=group))
    with at_work(rooms) as worker:
        eventually(lambda: set(app.accounts()), lambda names: names == set(first))
        # The list that is read for more of them has the first.
        worker.talker.lists._kept.clear()
        rooms.add(staff, group, *(people[name] for name in more))
        eventually(lambda: set(app.accounts()), lambda names: names == set(people))
        rooms.patch_group(staff, group, {"op": "remove", "path": "members"})
        eventually(lambda: app.accounts(), lambda accounts: accounts == {})
        rooms.add(staff, group, *people.values())
        eventually(lambda: rooms.rows(t.delivery, closed_at=None), lambda rows: rows == [])
        eventually(lambda: set(app.accounts()), lambda names: names == set(people), seconds=10)


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_an_account_that_was_deleted_there_by_hand_is_made_anew_by_a_repair(rooms: Rooms, app: StandIn, faults: dict[str, Any]) -> None:
    app.faults(**faults)
    connected(rooms, "records", app)
    staff = rooms.source()
    rooms.person(staff, "una")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    with at_work(rooms) as worker:
        for number in range(3):
            account = eventually(lambda: app.accounts().get("una"))
            # Where the list is read for somebody else, it has her.
            worker.talker.lists._kept.clear()
            rooms.person(staff, f"zofia{number}")
            eventually(lambda number=number: app.accounts().get(f"zofia{number}"))  # type: ignore[misc]
            eventually(lambda: rooms.rows(t.delivery, closed_at=None), lambda rows: rows == [])
            httpx.delete(f"{app.base_url}/Users/{account['id']}", headers=app.headers, trust_env=False).raise_for_status()
            (una,) = rooms.rows(t.user, user_name="una")
            tasks.again(rooms.house, rooms.caller, max(row.id for row in rooms.rows(t.delivery, user_id=una.id)))
            eventually(lambda: app.accounts().get("una"), seconds=10)


def test_a_list_that_was_begun_before_a_repair_does_not_serve(rooms: Rooms) -> None:
    """The repair is asked for in another process than the one that keeps the list."""
    rooms.application()
    rooms.person(rooms.source(), "una")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    connections.connect(rooms.house, rooms.caller, "records", "http://127.0.0.1:9", "x")
    applications.change(rooms.house, rooms.caller, "records", {}, {"switched_on": True})
    recompute.work_through(rooms.house)
    worker = Worker(rooms.house)
    (task,) = rooms.rows(t.delivery)
    before = attempt.begin(rooms.house, task.id)
    assert before is not None
    worker.talker.lists.get(task.application_id, "/Users", 0.0, lambda: [{"id": "7"}])
    assert before.answers(worker.talker, Capabilities())(Everybody()) == [{"id": "7"}]
    with rooms.house.database.writing() as connection:
        tasks.open_anew(connection, task.account_id, clock.now())
    after = attempt.begin(rooms.house, task.id)
    assert after is not None
    with pytest.raises(TryLater):
        # It is read anew, from where nobody answers.
        after.answers(worker.talker, Capabilities())(Everybody())


def test_what_was_written_is_folded_into_the_file_from_time_to_time(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(loop, "CHECKPOINT_SECONDS", 0.2)
    rooms.person(rooms.source(), "una")
    file = rooms.house.folder / FILE_NAME

    def has_una(copy: bytes) -> bool:
        return b"una" in copy

    assert not has_una(file.read_bytes())
    with at_work(rooms):
        eventually(lambda: has_una(file.read_bytes()))


def test_what_is_done_beside_the_loop_and_broke_off_begins_anew_later_and_is_told_once(monkeypatch: pytest.MonkeyPatch) -> None:
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
            assert jobs.is_free("counting", None), "others go on"
            now[0] += seconds + 0.01
            assert jobs.is_free("letters", broken)
    assert len(logged) == heartbeats.counts()[JOB] == 3
    assert jobs.is_free("letters", ended(None))
    assert not jobs.is_free("letters", broken := ended(ValueError("again")))
    now[0] += 1.01
    assert jobs.is_free("letters", broken), "what went well in between counts from the beginning"


@pytest.mark.parametrize("faults", [{}, {"no_filter": True}], ids=["searched", "listed"])
def test_an_application_that_just_answered_and_answers_no_more_is_soon_probed_one_at_a_time(
    rooms: Rooms, app: StandIn, faults: dict[str, Any]
) -> None:
    app.faults(**faults)
    staff = rooms.source()
    connected(rooms, "records", app)
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    with at_work(rooms):
        rooms.person(staff, "first")
        eventually(lambda: app.accounts().get("first"))
        app.faults(**faults, fail_every=1)
        before = app.counted()["all"]
        for number in range(60):
            rooms.person(staff, f"p{number:02}")
        time.sleep(5)
        asked = app.counted()["all"] - before
        app.faults(**faults, fail_every=0)
        # Some at once, then one at a time, with pauses.
        assert asked <= 30
        eventually(lambda: len(app.accounts()), lambda number: number == 61)


def test_an_account_that_was_deleted_there_by_hand_keeps_nobody_else_in_a_group(rooms: Rooms, app: StandIn) -> None:
    staff = rooms.source()
    people = {name: rooms.person(staff, name) for name in ("ibrahim", "una", "zofia")}
    group = rooms.group(staff, "Guides", *people.values())
    connected(rooms.unguarded(), "records", app, on_losing_access="leave alone")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    applications.change(rooms.house, rooms.caller, "records", {}, {"groups_over": {"which": "chosen", "groups": [{"group": group}]}})

    def members() -> set[str]:
        names = {each["id"]: name for name, each in app.accounts().items()}
        return {names.get(each["value"], "nobody") for team in app.groups() for each in team.get("members", [])}

    with at_work(rooms):
        eventually(members, lambda names: names == set(people))
        gone = app.accounts()["una"]["id"]
        httpx.delete(f"{app.base_url}/Users/{gone}", headers=app.headers, trust_env=False).raise_for_status()
        # Her membership is written anew with somebody else's, who leaves.
        with rooms.house.database.writing() as connection:
            connection.execute(update(t.delivered_member).where(t.delivered_member.c.agreed_remote_id == gone).values(agreed_remote_id=None))
        rooms.patch_group(staff, group, {"op": "remove", "path": f'members[value eq "{people["zofia"]}"]'})
        eventually(members, lambda names: names == {"ibrahim", "una"})
        assert app.accounts()["una"]["id"] != gone
        eventually(lambda: {row.state for row in rooms.rows(t.delivered_group)}, lambda states: states == {"done"})


@pytest.mark.parametrize("what", ["users", "groups"])
def test_an_application_with_much_to_do_leaves_threads_to_the_others(rooms: Rooms, app: StandIn, tmp_path: Path, what: str) -> None:
    staff = rooms.source()
    (tmp_path / "second").mkdir()
    many = rooms.group(staff, "Many", *(rooms.person(staff, f"p{number:03}") for number in range(120)))
    few = rooms.group(staff, "Few", *(rooms.person(staff, f"q{number}") for number in range(5)))
    with stand_in(tmp_path / "second", "Ticket Desk") as other:
        connected(rooms, "large", app, at_a_time=16)
        connected(rooms, "small", other)
        if what == "groups":
            # Its users are there; a group of them is to follow.
            assignments.add(rooms.house, rooms.caller, Wish("small", "viewer", group=few))
            with at_work(rooms):
                eventually(lambda: len(other.accounts()), lambda number: number == 5)
        app.faults(slow=1500)
        assignments.add(rooms.house, rooms.caller, Wish("large", "viewer", group=many))
        with at_work(rooms):
            eventually(lambda: len(app.accounts()), lambda number: number >= 16)
            if what == "groups":
                applications.change(rooms.house, rooms.caller, "small", {}, {"groups_over": {"which": "those that give roles"}})
                eventually(lambda: len(other.groups()), lambda number: number == 1)
            else:
                assignments.add(rooms.house, rooms.caller, Wish("small", "viewer", group=few))
                eventually(lambda: len(other.accounts()), lambda number: number == 5)
            assert len(app.accounts()) < 100
            app.faults(slow=0)
            eventually(lambda: len(app.accounts()), lambda number: number == 120)


def test_while_nothing_can_be_written_applications_are_left_alone_and_it_goes_on_without_help(
    rooms: Rooms, app: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    write, failing = attempt.write_together, [True]

    def full(settlements: Any) -> list[str]:
        if failing:
            raise RecordsFailing("The records cannot be written: disk is full.")
        return write(settlements)

    monkeypatch.setattr(attempt, "write_together", full)
    monkeypatch.setattr(loop, "BROKEN_SECONDS", 0.1)
    # The pauses grow as they do, from a tenth of their length.
    monkeypatch.setattr(loop, "pause", lambda times, *_, **__: pause(times) / 10)
    staff = rooms.source()
    connected(rooms, "records", app)
    for number in range(40):
        rooms.person(staff, f"p{number:02}")
    assignments.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))
    before = app.counted()["all"]
    with structlog.testing.capture_logs() as logged, at_work(rooms) as worker:
        time.sleep(1)
        asked = app.counted()["all"] - before
        failing.clear()
        eventually(lambda: rooms.rows(t.delivery, closed_at=None), lambda rows: rows == [])
    assert asked <= 40 and len(app.accounts()) == 40
    assert worker._broken == {}, "what could not be written is no mistake of a task, and does not wait longer for it"
    told = [each for each in logged if each["event"] == "attempts could not be written down"]
    assert 1 <= len(told) <= 8 and not any("exc_info" in each for each in logged)


def test_a_background_job_that_keeps_failing_rests_longer_each_time_and_says_so_in_a_line(monkeypatch: pytest.MonkeyPatch) -> None:
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
                failed.set_exception(RecordsFailing("The records cannot be written: disk full.", "Make room."))
            seconds[0] += 0.25
    assert [round(later - before) for before, later in itertools.pairwise(starts)] == [1, 2, 4, 8]
    assert {(line["event"], line["log_level"], "exc_info" in line) for line in lines} == {("a job could not be done", "warning", False)}
