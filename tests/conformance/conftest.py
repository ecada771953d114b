"""A source of its own for each test, on the one running service."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.harness import Provider, Running


@pytest.fixture
def provider(running: Running, fresh: Callable[[str], str]) -> Provider:
    return running.provider(fresh("conform"))
