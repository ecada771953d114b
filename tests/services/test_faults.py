"""What must never happen, made likely: the application down, replies lost, web and worker killed in the
middle.
"""

from __future__ import annotations

import os
import random
import signal
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from dravo.core.errors import DravoError
from dravo.supervisor import LONGEST_PAUSE_SECONDS, folder_lock
from tests import harness
from tests.harness import Provider, Running, StandIn, eventually
from tests.scale import sized
from tests.services.provisioning.test_attempt import stamp

USERS = sized(40, 200)
Fresh = Callable[[str], str]


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[Running]:
    """A service of its own, whose processes may be killed."""
    with harness.service(tmp_path / "data") as started:
        yield started


def push_many(
    provider: Provider, group: str, names: list[str], acknowledged: dict[str, str], retrying: bool
) -> None:
    """Provider users into a group; what was answered is noted. A provider tries again what was not."""
    for name in names:
        while name not in acknowledged:
            try:
                found = provider.http.get("/Users", params={"filter": f'userName eq "{name}"'}).json()[
                    "Resources"
                ]
                user = found[0]["id"] if found else provider.user(name)
                provider.add(group, user)
                acknowledged[name] = user
            except (httpx.HTTPError, AssertionError, KeyError, ValueError):
                if not retrying:
                    raise
                time.sleep(0.05)


def check_all_right(
    running: Running, app: StandIn, application: str, names: list[str], seconds: float = 60
) -> None:
    """The accounts are exactly those that should be: every user once, with the role, and agreed on both
    sides.
    """
    with running.dravo as dravo:
        eventually(
            lambda: dravo.accounts.list(application=application, status="in_sync").total(),
            lambda count: count == len(names),
            seconds,
        )
        assert dravo.tasks.list(application=application, status="open").total() == 0
        by_name = {
            account["user"]["user_name"]: account for account in dravo.accounts.list(application=application)
        }
    there = app.accounts()
    assert set(there) == set(names) == set(by_name)
    for name, account in there.items():
        assert account["active"]
        assert [role["value"] for role in account["roles"]] == ["viewer"]
        assert account["id"] == by_name[name]["remote_id"]


def test_while_the_application_is_down_pushes_are_answered_and_later_all_is_right(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records = fresh("records")
    running.application(records, app)
    provider = running.provider(fresh("source"))
    group = provider.group("Volunteers")
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        app.faults(down=True)
        names = [fresh("volunteer") for _ in range(USERS)]
        push_many(provider, group, names, {}, retrying=False)
        status = eventually(
            lambda: dravo.applications.get(records), lambda seen: seen["status"] == "not_answering"
        )
        assert "503" in str(status["trouble"])
        # Not a wait for something: what is asked for in so many seconds is what is counted.
        before = len(app.requests())
        time.sleep(1.5)
        assert len(app.requests()) - before <= 6, "an application that is down is probed, not stormed"
    app.faults(down=False)
    check_all_right(running, app, records, names)


def test_a_reply_that_is_cut_after_the_work_makes_no_double(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records = fresh("records")
    running.application(records, app)
    provider = running.provider(fresh("source"))
    names = [fresh("visitor") for _ in range(20)]
    group = provider.group("Visitors", [provider.user(name) for name in names])
    app.faults(lose=12)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
    check_all_right(running, app, records, names)
    assert sum(1 for each in app.requests() if each["cut"]) == 12


@pytest.mark.parametrize("victim", ["web", "worker", "serve"])
def test_kills_lose_no_acknowledged_write_and_duplicate_no_user(
    alone: Running, app: StandIn, victim: str
) -> None:
    alone.application("records", app)
    provider = alone.provider("staff")
    group = provider.group("Volunteers")
    with alone.dravo as dravo:
        dravo.assignments.add("records", "viewer", group=group)
    app.faults(slow=3)
    names = [f"volunteer.{number}" for number in range(USERS)]
    acknowledged: dict[str, str] = {}
    pushing = threading.Thread(
        target=push_many, args=(provider, group, names, acknowledged, True), daemon=True
    )
    pushing.start()
    chance = random.Random(victim)
    # 100 rounds a night, over the three processes.
    for _ in range(sized(2, 34)):
        time.sleep(chance.uniform(0.1, 0.5))
        kill(alone, victim)
        if victim == "serve":
            assert alone.process is not None
            alone.process.wait()
            eventually(lambda: not harness.answers(f"{alone.url}/healthz"), seconds=5)
            alone.start()
    pushing.join(90)
    assert not pushing.is_alive(), "the provider could not finish"
    present = {
        each["userName"]: each["id"] for start in range(1, USERS + 1, 100) for each in listed(provider, start)
    }
    assert present == acknowledged
    check_all_right(alone, app, "records", names)


def kill(running: Running, victim: str) -> None:
    """Kill a process that is alive; one that was killed a moment ago is waited for."""

    def killed() -> bool:
        try:
            os.kill(running.pid(victim), signal.SIGKILL)
        except ProcessLookupError:
            return False
        return True

    # Longer than the supervisor pauses at most before it restarts a process that ended early again and again.
    eventually(killed, seconds=2 * LONGEST_PAUSE_SECONDS)


def listed(provider: Provider, start: int) -> list[dict[str, str]]:
    answer = provider.http.get("/Users", params={"startIndex": start, "count": 100})
    return list(answer.json()["Resources"])


def test_a_second_service_on_the_same_folder_is_refused(alone: Running) -> None:
    with pytest.raises(DravoError, match="Another service"), folder_lock(alone.folder):
        pass


def test_dates_missed_while_stopped_take_effect_at_start(alone: Running, app: StandIn) -> None:
    alone.application("records", app)
    alone.provider("staff").user("ibrahim.sow")
    with alone.dravo as dravo:
        over = time.time() + 2.5
        dravo.assignments.add("records", "viewer", user="ibrahim.sow", until=stamp(2.5))
        eventually(lambda: app.accounts().get("ibrahim.sow"))
    alone.stop()
    eventually(lambda: time.time() > over)
    assert app.accounts()["ibrahim.sow"]["active"]
    alone.start()
    eventually(lambda: app.accounts()["ibrahim.sow"], lambda seen: not seen["active"])
