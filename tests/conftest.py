"""Fixtures: a service and stand-ins that several tests share, each with sources and applications of its
own.
"""

from __future__ import annotations

import functools
import itertools
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import settings

from dravo.protocols.addresses import allow_loopback
from tests import cheap, harness, order, scale
from tests.service_fixture import ServiceFixture

settings.load_profile(scale.PROFILE)
# Stand-ins are on this machine.
allow_loopback()
# Reading the certificates that httpx trusts takes longer than most requests of tests, and would be done for
# each of them.
httpx._transports.default.create_ssl_context = functools.cache(httpx.create_ssl_context)
# On a busy machine an answer can take longer than the 5 seconds that httpx waits where a test says nothing.
_DEFAULT_TIMEOUT: httpx.Timeout = httpx.get.__kwdefaults__["timeout"]
_DEFAULT_TIMEOUT.read = _DEFAULT_TIMEOUT.connect = 60.0
cheap.make_cheap()
_NUMBERS = itertools.count(1)

# Started processes, a browser or a real directory take long; `make test-quick` leaves out what needs them.
_PROCESSES = {
    "read",
    "running",
    "app",
    "demo",
    "browser",
    "alone",
    "letters",
    "provider",
    "own",
    "estates",
    "small",
    "crew",
    "garden",
}


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark tests that are not quick, and have the longest modules run first: workers then end at the same
    time.
    """
    for item in items:
        if item.name == "runTest" or _PROCESSES & set(getattr(item, "fixturenames", ())):
            item.add_marker(pytest.mark.long)
    # Modules stay whole, because tests of one share fixtures.
    items.sort(key=lambda item: order.PLACES.get(item.nodeid.partition("::")[0], len(order.PLACES)))


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Say how long each part of the tests took, summed over the workers."""
    parts: dict[str, float] = {}
    for reports in terminalreporter.stats.values():
        for report in reports:
            if isinstance(report, pytest.TestReport):
                part = report.nodeid.split("/")[1].partition("::")[0]
                parts[part] = parts.get(part, 0.0) + report.duration
    terminalreporter.section("seconds by part, summed over the workers")
    for part, seconds in sorted(parts.items(), key=lambda each: -each[1]):
        terminalreporter.line(f"{seconds:7.1f} s  {part}")


@pytest.fixture(scope="session")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.Running]:
    """A running service for all tests that leave it running."""
    with harness.service(tmp_path_factory.mktemp("service")) as started:
        yield started


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.RunningDemo]:
    """A running demo, started from data that all workers share; for tests that only look."""
    shared = tmp_path_factory.getbasetemp()
    # With several workers each has a folder of its own within the shared one.
    shared = shared.parent if "PYTEST_XDIST_WORKER" in os.environ else shared
    with harness.prepared_demo(shared / "prepared-demo", tmp_path_factory.mktemp("demo") / "data") as started:
        yield started


@pytest.fixture
def fresh() -> Callable[[str], str]:
    """Make names that no other test uses."""
    return lambda name: f"{name}-{next(_NUMBERS)}"


@pytest.fixture
def services(tmp_path: Path) -> Iterator[ServiceFixture]:
    """A organization of one's own in this process."""
    made = ServiceFixture(tmp_path)
    yield made
    made.ctx.close()


@pytest.fixture
def app(tmp_path: Path) -> Iterator[harness.StandIn]:
    """A stand-in for an application."""
    with harness.stand_in(tmp_path) as started:
        yield started


@pytest.fixture(scope="module")
def letters(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.Letters]:
    """A stand-in for a mail server."""
    with harness.mail_server(tmp_path_factory.mktemp("letters")) as started:
        yield started


@pytest.fixture
def mailing(running: harness.Running, letters: harness.Letters) -> Iterator[harness.Running]:
    """The shared service with an email server, until the test ends."""
    letters.faults()
    with running.dravo as dravo:
        sender = "dravo@fernhollow.example"
        dravo.mail.change(host="127.0.0.1", port=letters.smtp_port, security="none", sender=sender)
        yield running
        dravo.notifications.reset_text("announcement")
        dravo.mail.change(host="")
