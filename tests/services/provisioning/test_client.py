"""Keeping an application's pace, and reading the list once for all who look."""

from __future__ import annotations

import itertools
import random
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from dravo.protocols.http_client import Request
from dravo.protocols.scim_client.responses import RetryableError
from dravo.services.provisioning import client as application_client
from dravo.services.provisioning.account_lists import Lists
from dravo.services.provisioning.client import ApplicationClient, ConnectedApplication, ExchangeLog, Pace
from tests.service_fixture import ServiceFixture

THERE = ConnectedApplication("a", "http://127.0.0.1:9", "secret")


class Clock:
    """Time that passes when it is told to."""

    def __init__(self) -> None:
        self.now = 1_000.0

    def monotonic(self) -> float:
        return self.now


@pytest.fixture
def passing(monkeypatch: pytest.MonkeyPatch) -> Clock:
    clock = Clock()
    monkeypatch.setattr(application_client.time, "monotonic", clock.monotonic)
    return clock


def test_places_are_given_out_at_the_pace_that_is_set(passing: Clock) -> None:
    pace = Pace()
    assert [round(pace.take("a", 10), 3) for _ in range(3)] == [0.0, 0.1, 0.1], (
        "one goes, the others ask again"
    )
    assert pace.take("b", 10) == 0.0, "each application has its own"
    passing.now += 10
    assert [round(pace.take("a", 10), 3) for _ in range(2)] == [0.0, 0.1], "what was not used does not add up"
    assert [pace.take("c", None) for _ in range(3)] == [0.0, 0.0, 0.0]


def test_late_threads_keep_the_rate(passing: Clock) -> None:
    pace, gone = Pace(), []
    chance = random.Random(8)
    waiting = [passing.now] * 50
    while waiting:
        # Anyone who is next wakes late, as threads do on a busy machine; several may by then be overdue.
        waiting.sort()
        passing.now = max(passing.now, waiting.pop(0)) + chance.choice([0.0, 0.0, 0.02, 0.4])
        wait = pace.take("a", 20)
        if wait > 0:
            waiting.append(passing.now + wait)
        else:
            gone.append(passing.now)
    assert len(gone) == 50
    assert min(after - before for before, after in itertools.pairwise(gone)) >= 1 / 20 - 1e-9


def test_who_slept_while_it_asked_to_be_left_alone_sees_that(passing: Clock) -> None:
    pace = Pace()
    pace.take("a", 10)
    assert pace.take("a", 10) > 0
    pace.hold("a", 3)
    passing.now += 0.1
    assert round(pace.take("a", 10), 3) == 2.9


def test_who_is_asked_to_wait_waits_and_is_not_queued_for_ever(passing: Clock) -> None:
    pace = Pace()
    pace.hold("a", 5)
    assert pace.take("a", None) == 5
    pace.hold("a", 3)
    assert pace.take("a", None) == 5, "a shorter wait does not end a longer one"
    pace.hold("b", 60)
    assert pace.take("b", 10) == pace.take("b", 10) == 60, "asking takes no place"
    passing.now += 60
    assert pace.take("b", 10) == 0


def test_a_list_is_read_once_and_again_when_it_is_too_old(passing: Clock) -> None:
    lists, read = Lists(), []

    def reading() -> list[Any]:
        read.append(passing.now)
        return [{"id": str(len(read))}]

    assert lists.get("a", "/Users", passing.now - 30, None) is None, (
        "without somebody to read it there is none"
    )
    assert list(lists.get("a", "/Users", passing.now - 30, reading) or ()) == [{"id": "1"}]
    passing.now += 10
    assert list(lists.get("a", "/Users", passing.now - 30, reading) or ()) == [{"id": "1"}]
    assert list(lists.get("a", "/Users", passing.now, reading) or ()) == [{"id": "2"}], (
        "one that is older than the doubt does not serve"
    )
    lists.get("a", "/Groups", 0, reading)
    assert len(read) == 3


def test_many_who_look_at_once_share_one_reading() -> None:
    lists, begin, read = Lists(), threading.Barrier(6), []

    def look() -> Any:
        begin.wait()
        return lists.get("a", "/Users", 1.0, lambda: read.append(1) or [{"id": "7"}])  # type: ignore[func-returns-value]

    with ThreadPoolExecutor(6) as pool:
        assert [list(each.result()) for each in [pool.submit(look) for _ in range(6)]] == [[{"id": "7"}]] * 6
    assert len(read) == 1


@pytest.mark.parametrize(
    ("exchanges", "doubt"),
    [
        ([], False),
        ([("GET", None)], False),
        ([("POST", None)], True),
        ([("PATCH", 503)], True),
        ([("POST", 201)], False),
        ([("POST", None), ("GET", 200)], False),
        ([("PUT", 400)], False),
    ],
)
def test_a_write_without_an_answer_leaves_doubt(exchanges: list[tuple[str, int | None]], doubt: bool) -> None:
    assert (
        ExchangeLog(THERE, [{"method": method, "status": status} for method, status in exchanges]).in_doubt
        is doubt
    )


def test_a_secret_is_decrypted_again_only_when_it_is_another(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    talker = ApplicationClient(services.ctx)
    first, second = services.ctx.keys.encrypt("one"), services.ctx.keys.encrypt("two")
    asked: list[str] = []
    decrypt = services.ctx.keys.decrypt
    monkeypatch.setattr(services.ctx.keys, "decrypt", lambda text: asked.append(text) or decrypt(text))  # type: ignore[func-returns-value]
    for secret, clear in ((first, "one"), (first, "one"), (second, "two"), (first, "one")):
        assert talker.connection(ConnectedApplication("a", "http://127.0.0.1:9", secret)).token == clear
    assert asked == [first, second, first]
    basic = talker.connection(
        ConnectedApplication("b", "http://127.0.0.1:9", first, {"kind": "basic", "user": "dravo"})
    )
    assert (
        basic.authorization.startswith("Basic ")
        and "one" not in basic.authorization
        and "one" not in repr(basic)
    )
    talker.close()


def test_a_list_does_not_hold_what_was_deleted_since_it_was_begun(passing: Clock) -> None:
    lists, there = Lists(), [{"id": "1"}, {"id": "2"}, {"id": "3"}]

    def reading() -> list[Any]:
        passing.now += 1
        found = list(there)
        if len(there) == 3:
            # While it is being read; it is in what was read already.
            lists.forget("a", "/Users", "2")
            passing.now += 1
        return found

    def kept() -> list[str]:
        return [each["id"] for each in lists.get("a", "/Users", passing.now - 30, reading) or []]

    assert kept() == ["1", "3"]
    lists.forget("a", "/Users", "1")
    lists.forget("a", "/Groups", "3")
    lists.forget("b", "/Users", "3")
    assert kept() == ["3"]
    passing.now += 1
    there.append({"id": "4"})
    lists.forget("a", "/Users")
    assert kept() == ["1", "2", "3", "4"], "read again, and anyone who is in it now is there"


@pytest.mark.parametrize(
    ("request_", "status", "left"),
    [
        (Request("DELETE", "/Users/a%2F7"), 204, ["8"]),
        (Request("DELETE", "/Users/a%2F7"), 404, ["8"]),
        (Request("DELETE", "/Users/a%2F7"), 403, ["a/7", "8"]),
        (Request("DELETE", "/Users/a%2F7"), None, ["new"]),
        (Request("DELETE", "/Users/a%2F7"), 502, ["new"]),
        (Request("PATCH", "/Users/a%2F7"), 404, ["8"]),
        (Request("GET", "/Users/a%2F7"), 404, ["8"]),
        (Request("GET", "/Users"), 404, ["a/7", "8"]),
        (Request("PATCH", "/Users/a%2F7"), 503, ["a/7", "8"]),
    ],
)
def test_accounts_answered_with_404_leave_the_list(
    services: ServiceFixture, request_: Request, status: int | None, left: list[str]
) -> None:
    talker = ApplicationClient(services.ctx)
    talker.lists.get("a", "/Users", 0.0, lambda: [{"id": "a/7"}, {"id": "8"}])
    talker.note_gone("a", request_, status)
    found = talker.lists.get("a", "/Users", 0.0, lambda: [{"id": "new"}])
    assert [each["id"] for each in found or []] == left


def test_a_failed_listing_is_not_repeated_by_each_waiting_thread() -> None:
    lists, started, reads = Lists(), threading.Barrier(8), []

    def reading() -> list[Any]:
        reads.append(1)
        time.sleep(0.2)
        raise RetryableError("busy (503)", "", 3.0)

    def look(_: int) -> RetryableError:
        started.wait()
        with pytest.raises(RetryableError, match="busy") as failing:
            lists.get("a", "/Users", 0.0, reading)
        return failing.value

    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(look, range(8)))
    assert (
        len(reads) == 1
        and sum(each.counts for each in found) == 1
        and {each.after for each in found} == {3.0}
    )
    with pytest.raises(RetryableError):
        lists.get("a", "/Users", 0.0, reading)
    assert len(reads) == 2, "anyone who comes later tries"
