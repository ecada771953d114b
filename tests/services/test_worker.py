"""The worker's loop: whoever waits for a thread gets one, and it looks only when there is something to be found."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from dravo.services import applications, assigning
from dravo.services.subjects import Wish
from dravo.store import tables as t
from dravo.worker import loop
from dravo.worker.loop import Worker
from tests.harness import StandIn, eventually, stand_in
from tests.rooms import Rooms


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
    applications.connect(rooms.house, rooms.caller, key, app.base_url, app.token)
    # What it can do is known then, so that all that is due is queued at once.
    applications.check(rooms.house, rooms.caller, key)
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
            assigning.add(rooms.house, rooms.caller, Wish(key, "viewer", group=group))
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
    assigning.add(rooms.house, rooms.caller, Wish("records", "viewer", everybody=True))

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
