"""Results that several services return."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Number:
    """How many objects an action concerned."""

    number: int


@dataclass(frozen=True)
class SampleAttribute:
    """An attribute that a source reported, with some values."""

    name: str
    values: list[str]
