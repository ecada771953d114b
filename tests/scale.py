"""How much is tested: little with `make test`, much with `make test-nightly` (DRAVO_TESTS=nightly)."""

from __future__ import annotations

import os
from typing import TypeVar

from hypothesis import settings

Value = TypeVar("Value")

NIGHTLY = os.environ.get("DRAVO_TESTS") == "nightly"
PROFILE = "nightly" if NIGHTLY else "ci"

# How long one example takes says more about the machine than about the code.
# The same examples each time by day, so that a change fails by its own fault; others every night, which is
# when new faults are looked for.
settings.register_profile("ci", deadline=None, max_examples=40, derandomize=True, database=None)
settings.register_profile("nightly", deadline=None, max_examples=1_000)


def sized(ci: Value, nightly: Value) -> Value:
    """Return the size for this run."""
    return nightly if NIGHTLY else ci
