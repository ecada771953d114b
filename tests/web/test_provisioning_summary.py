"""How much provisioning is pending, and waiting until nothing is: by the client, plain HTTP and the command
line.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import httpx
import pytest

from dravo.client import InvalidRequest, NotFound
from tests.command_line import dravo
from tests.harness import Running, StandIn

Fresh = Callable[[str], str]


@pytest.fixture
def records(running: Running, app: StandIn, fresh: Fresh) -> str:
    """An application with twenty users to be provisioned, as yet not enabled."""
    key = fresh("records")
    running.application(key, app)
    with running.dravo as client:
        client.applications.change(key, enabled=False)
        provider = running.provider(fresh("source"))
        group = provider.group(fresh("Guides"), [provider.user(fresh("guide")) for _ in range(20)])
        client.assignments.add(key, "viewer", group=group)
    return key


def test_tasks_of_a_paused_application_are_not_pending(running: Running, records: str) -> None:
    with running.dravo as client:
        summary = client.provisioning.summary(records, wait=30)
    assert (summary["settled"], summary["stopped"], summary["waiting"]) == (True, 20, 0)


def test_it_is_answered_when_all_accounts_are_there(running: Running, app: StandIn, records: str) -> None:
    app.faults(slow=50)
    with running.dravo as client:
        client.applications.change(records, enabled=True)
        assert not client.provisioning.summary(records)["settled"]
        assert client.provisioning.summary(records, wait=60) == {
            "settled": True,
            "recomputing": 0,
            "waiting": 0,
            "stopped": 0,
            "failed": 0,
            "held": 0,
            "unresolved": 0,
            "manual": 0,
        }
    assert len(app.accounts()) == 20


def test_pending_work_is_reported_after_the_wait(running: Running, app: StandIn, records: str) -> None:
    app.faults(down=True)
    with running.dravo as client:
        client.applications.change(records, enabled=True)
        began = time.monotonic()
        summary = client.provisioning.summary(records, wait=1)
        assert not summary["settled"] and summary["waiting"] == 20 and time.monotonic() - began >= 1
        told = dravo(running, "task", "summary", "--application", records, "--wait", "0.5")
        assert told.returncode == 1 and "still pending" in told.stdout
        app.faults(down=False, refuse=True)
        summary = client.provisioning.summary(records, wait=90)
        assert (summary["settled"], summary["failed"]) == (True, 20)
    told = dravo(running, "task", "summary", "--application", records, "--wait", "5")
    assert told.returncode == 0 and "Nothing is pending." in told.stdout


def test_an_invalid_wait_is_refused(running: Running) -> None:
    with running.dravo as client:
        with pytest.raises(NotFound, match="There is no application with the key 'none-of-that-name'"):
            client.provisioning.summary("none-of-that-name")
        for wait in ("61", "-1", "soon"):
            with pytest.raises(InvalidRequest):
                client.call("GET", "/provisioning/summary", query={"wait": wait})
    assert dravo(running, "task", "summary", "--wait", "soon").returncode == 2
    assert httpx.get(f"{running.url}/api/v1/provisioning/summary").status_code == 401
