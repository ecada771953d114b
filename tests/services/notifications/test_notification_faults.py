"""Events arrive once under refused connections, and at most twice where the worker is killed."""

from __future__ import annotations

import random
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from dravo.demo.http_server import Answer, Call
from tests import harness
from tests.harness import Letters, Running, eventually, served
from tests.scale import sized
from tests.services.test_faults import kill

EVENTS = sized(12, 60)


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[Running]:
    """A service of its own, whose processes may be killed."""
    with harness.service(tmp_path / "data") as started:
        yield started


def test_events_under_kills_and_refusals_arrive_by_email_and_webhook_once_or_twice(
    alone: Running, letters: Letters
) -> None:
    chance = random.Random("messages")
    got: list[Call] = []

    def receive(call: Call) -> Answer:
        if chance.random() < 0.2:
            return Answer(503)
        got.append(call)
        return Answer(204)

    address = "duty.desk@fernhollow.example"
    letters.faults(busy=True)
    with served(receive) as port, alone.dravo as dravo:
        # The first operator was created before there was a rule.
        eventually(lambda: all(each["reports"] for each in dravo.notifications.list()))
        dravo.mail.change(
            host="127.0.0.1", port=letters.smtp_port, security="none", sender="dravo@fernhollow.example"
        )
        hook = dravo.notifications.create_webhook("Duty desk", f"http://127.0.0.1:{port}/")["id"]
        to = [{"kind": "webhook", "value": hook}, {"kind": "address", "value": address}]
        dravo.notifications.create_rule("Operators", to, kinds=["operator_created"])
        names = [f"desk.{number}" for number in range(EVENTS)]
        for number, name in enumerate(names):
            dravo.operators.add(name, "auditor")
            if number % 4 == 1:
                time.sleep(chance.uniform(0.1, 0.5))
                kill(alone, "worker")
                # Refused connections, as of a server that is being restarted.
                letters.faults(busy=number % 8 == 1)
        letters.faults()
        # What was refused waits for its next attempt; a restarted worker takes up the rest.
        eventually(lambda: dravo.notifications.messages().total() == 2 * EVENTS, seconds=180)
        eventually(lambda: dravo.notifications.messages(status="waiting").total() == 0, seconds=180)
        statuses = Counter(each["status"] for each in dravo.notifications.messages())
        assert not statuses.keys() - {"sent", "unknown"}
        restarts = dravo.notifications.list(kind="worker_restarted").total()
    assert restarts >= 1
    mailed = Counter(each["subject"] for each in letters.to(address))
    assert mailed.keys() == {f"Operator {name} created" for name in names}
    posted = Counter(call.headers["Dravo-Message-Id"] for call in got)
    assert len(posted) == EVENTS
    assert max([*mailed.values(), *posted.values()]) <= 2
    # A kill that falls between an acceptance and its note is rare.
    assert sum(mailed.values()) + sum(posted.values()) <= 2 * EVENTS + 2 * restarts
