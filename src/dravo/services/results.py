"""Results that several services return."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Number:
    """How many objects an action concerned."""

    number: int


@dataclass(frozen=True)
class SampleAttribute:
    """An attribute that a source reported, with some values."""

    name: str
    values: list[str]


@dataclass(frozen=True)
class CheckStep:
    """A step of a check: "ok", "failed", "warning" or "skipped", with a sentence and a hint."""

    name: str
    outcome: str
    message: str
    hint: str


@dataclass
class ChangedAttribute:
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


def pairs(differs: dict[str, list[Any]]) -> list[ChangedAttribute]:
    """Return differences as a list."""
    return [ChangedAttribute(attribute=name, before=pair[0], after=pair[1]) for name, pair in differs.items()]
