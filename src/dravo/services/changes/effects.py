"""The effects of changed settings, in sentences, with the access that would change."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import Connection

from dravo.services.changes.preview import PlannedChange, Preview, shown


@dataclass(frozen=True)
class PreviewedEffects:
    """The effects of a previewed change, in sentences, and the access that would change."""

    effects: list[str]
    access: Preview | None


@dataclass
class ChangeEffects:
    """The effects of a change that is only previewed.

    Attributes:
        sentences: what would happen, most important first.
        access: who would gain, lose or change roles, None where access stays.
    """

    sentences: list[str] = field(default_factory=list)
    access: Preview | None = None

    def add(self, sentence: str) -> None:
        """Add a sentence."""
        self.sentences.append(sentence)

    def add_access(self, connection: Connection, change: PlannedChange) -> None:
        """Compute the access that a change would lead to, and summarize it."""
        access = self.access = shown(connection, change)
        gained, lost, changed = access.gained, access.lost, access.changed
        if gained or lost or changed:
            self.add(
                f"{count(gained, 'user gains', 'users gain')} access, "
                f"{count(lost, 'user loses', 'users lose')} access and "
                f"{count(changed, 'user changes', 'users change')} roles."
            )
        else:
            self.add("No user gains, loses or changes roles.")
        if access.accounts:
            self.add(f"{count(access.accounts, 'account changes', 'accounts change')}.")

    def shown(self) -> PreviewedEffects:
        """Return the effects as the API shows them."""
        return PreviewedEffects(self.sentences or ["Nothing changes."], self.access)


def count(number: int, one: str, several: str) -> str:
    """Return a number with its noun: "1 user", "2,000 users"."""
    return f"{number:,} {one if number == 1 else several}"
