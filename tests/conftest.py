"""Fixtures: a service and stand-ins that several tests share, each with sources and applications of its own."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from tests import harness
from tests.rooms import Rooms

# How long an example takes says more of the machine than of the code.
settings.register_profile("here", deadline=None)
settings.load_profile("here")
_NUMBERS = itertools.count(1)


@pytest.fixture(scope="session")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.Running]:
    """A running service for all tests that leave it running."""
    with harness.service(tmp_path_factory.mktemp("service")) as started:
        yield started


@pytest.fixture
def fresh() -> Callable[[str], str]:
    """Make names that no other test uses."""
    return lambda name: f"{name}-{next(_NUMBERS)}"


@pytest.fixture
def rooms(tmp_path: Path) -> Iterator[Rooms]:
    """A house of one's own in this process."""
    made = Rooms(tmp_path)
    yield made
    made.house.close()


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
