"""B5: accounts provisioned into a SCIM stand-in, against a bare loop that posts the same bodies at the same
concurrency.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import httpx
import psutil

from dravo.core.provisioning.accounts import scim_body, without_empty
from dravo.core.scim.schemas import USER_URN
from dravo.demo import scenario
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.store import tables as t
from tests.harness import Running, StandIn, set_up, stand_in_process
from tests.service_fixture import ServiceFixture

NUMBER = int(os.environ.get("DRAVO_BENCH_ACCOUNTS", "10000"))
CONCURRENCY = 8


def prepare(folder: Path) -> list[dict[str, object]]:
    """Create accounts to provision in an application that is not connected yet; return the request bodies."""
    services = ServiceFixture(folder)
    source = services.source()
    services.application("records", "viewer", enabled=True, max_concurrency=CONCURRENCY)
    users = [
        services.user(source, f"p{number:06d}", **_user(each))
        for number, each in enumerate(scenario.crowd(NUMBER, seed=5))
    ]
    group = services.group(source, "Everyone", *users)
    # The only role is the highest one, so that assigning it to many users needs a confirmation.
    request = AssignmentRequest("records", "viewer", group=group)
    assignments.add(services.ctx, services.caller, request, Confirmation("Records"))
    recompute.process_marks(services.ctx)
    bodies = [without_empty(scim_body(row.desired)) for row in services.rows(t.account)]
    assert len(bodies) == NUMBER
    services.ctx.close()
    return [
        {"schemas": [USER_URN, *(name for name in body if name.startswith("urn:"))], **body}
        for body in bodies
    ]


def _user(user: dict[str, object]) -> dict[str, object]:
    return {name: value for name, value in user.items() if name not in ("userName", "schemas", "name")}


def bare(app: StandIn, bodies: list[dict[str, object]]) -> float:
    """Return the accounts per second of a loop that only posts."""
    with (
        httpx.Client(headers=app.headers, trust_env=False, timeout=30) as client,
        ThreadPoolExecutor(CONCURRENCY) as pool,
    ):
        began = time.perf_counter()
        for answer in pool.map(lambda body: client.post(f"{app.base_url}/Users", json=body), bodies):
            assert answer.status_code == 201
        return len(bodies) / (time.perf_counter() - began)


def provision(running: Running, folder: Path, bulk: int) -> tuple[float, int, float]:
    """Return accounts per second, number of requests, and largest memory of the worker in MB.

    Args:
        running: a service that is set up and not started, with accounts to provision.
        bulk: operations that the stand-in accepts in one bulk request; 0: bulk is not supported.
    """
    with stand_in_process(folder) as app:
        app.faults(bulk=bulk)
        running.start()
        worker, most = psutil.Process(running.pid("worker")), 0.0
        with running.dravo as dravo:
            began = time.perf_counter()
            dravo.applications.connect("records", app.base_url, app.token)
            while app.counted()["accounts"] < NUMBER:
                time.sleep(0.1)
                most = max(most, worker.memory_info().rss / 1024 / 1024)
            rate = NUMBER / (time.perf_counter() - began)
        running.settled("records", 60)
        requests = app.counted()["all"]
        running.stop()
    return rate, requests, most


def run() -> None:
    """Measure the loop, then the service without and with bulk; print rates, ratios and memory."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        running = set_up(folder / "service")
        bodies = prepare(folder / "service")
        shutil.copytree(folder / "service", folder / "again")
        with stand_in_process(folder) as app:
            bare_rate = bare(app, bodies)
        print(f"B5  {NUMBER:,} accounts, a bare loop of POST requests: {bare_rate:.0f}/s")
        for mode, target, bulk in (
            ("single", running, 0),
            ("bulk", replace(running, folder=folder / "again"), 100),
        ):
            rate, requests, most = provision(target, folder, bulk)
            print(
                f"B5  {mode:<6} {rate:6.0f}/s  ratio {rate / bare_rate:.2f}  (goal: at least 0.7), "
                f"{requests:,} requests"
            )
            print(f"B8  {mode:<6} largest memory of the worker: {most:.0f} MB (goal: under 400)")


if __name__ == "__main__":
    sys.exit(run())
