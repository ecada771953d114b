"""The effects of changed settings, in sentences, with the access that would change."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection

from dravo.services.changes.preview import PlannedChange, shown


@dataclass
class ChangeEffects:
    """The effects of a change that is only previewed.

    Attributes:
        sentences: what would happen, most important first.
        access: who would gain, lose or change roles, as `shown` returns it; None where access stays.
    """

    sentences: list[str] = field(default_factory=list)
    access: dict[str, Any] | None = None

    def add(self, sentence: str) -> None:
        """Add a sentence."""
        self.sentences.append(sentence)

    def add_access(self, connection: Connection, change: PlannedChange) -> None:
        """Compute the access that a change would lead to, and summarize it."""
        self.access = shown(connection, change)
        gained, lost, changed = (self.access[name] for name in ("gained", "lost", "changed"))
        if gained or lost or changed:
            self.add(
                f"{count(gained, 'user gains', 'users gain')} access, "
                f"{count(lost, 'user loses', 'users lose')} access and "
                f"{count(changed, 'user changes', 'users change')} roles."
            )
        else:
            self.add("No user gains, loses or changes roles.")
        if self.access["accounts"]:
            self.add(f"{count(self.access['accounts'], 'account changes', 'accounts change')}.")

    def document(self) -> dict[str, Any]:
        """Return the effects as the API shows them."""
        return {"effects": self.sentences or ["Nothing changes."], "access": self.access}


def count(number: int, one: str, several: str) -> str:
    """Return a number with its noun: "1 user", "2,000 users"."""
    return f"{number:,} {one if number == 1 else several}"
