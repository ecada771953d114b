"""What every reader gives: entries of users and groups, a check step by step, and troubles that name their
hint.

A fourth kind of reader is one more file like `ldap.py`, with its settings model, and a line in `kinds.py`.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Protocol

import orjson
from pydantic import BaseModel

from dravo.core.errors import DravoError

OK, WRONG, SKIPPED, NOTED = "ok", "failed", "skipped", "warning"
LONGEST_VALUE = 64_000


class DirectoryTrouble(DravoError):
    """A directory could not be read, or not to its end; what it would have said is not known."""

    code = "directory_trouble"
    status = 502


@dataclass(frozen=True)
class Entry:
    """What a directory says of one user.

    Attributes:
        native_id: the directory's own id, which stays when the user is renamed or moved.
        reference: by what groups name their members: a DN, a user name, an id; folded as the reader compares
            them.
        attributes: by folded name the values, a list of texts; of a SCIM service the User as it stands.
    """

    native_id: str
    reference: str
    attributes: Mapping[str, Any]

    def digest(self, salt: str) -> str:
        """Return what tells this entry, read with some answers, from what it said before."""
        content = orjson.dumps((salt, self.reference, self.attributes), option=orjson.OPT_SORT_KEYS)
        return hashlib.blake2b(content, digest_size=12).hexdigest()


@dataclass(frozen=True)
class GroupEntry:
    """What a directory says of one group; `members` are locators of users and groups.

    `made` says that the directory has no such group: it came of what is said of users.
    """

    native_id: str
    reference: str
    name: str
    members: Sequence[str] = ()
    made: bool = False

    def digest(self, salt: str) -> str:
        """Return what tells this group from what it was before."""
        content = orjson.dumps((salt, self.reference, self.name, sorted(self.members)))
        return hashlib.blake2b(content, digest_size=12).hexdigest()


# No directory's own id begins like this, for none may hold this sign.
_MADE = "\x1fmade "


def made_entries(made: Mapping[str, tuple[str, list[str]]]) -> list[GroupEntry]:
    """Return groups that come of what is said of users, as a directory would list them.

    Args:
        made: by folded name, the name and the locators of those who are in it.
    """
    return [
        GroupEntry(f"{_MADE}{key}", f"{_MADE}{key}", name, members, made=True)
        for key, (name, members) in made.items()
    ]


def is_made(native_id: str) -> bool:
    """Whether a group came of what is said of users."""
    return native_id.startswith(_MADE)


@dataclass(frozen=True)
class BadLine:
    """Something that was read and is nobody: a line of a file, an entry without an id; told, and the others
    go on.
    """

    where: str
    message: str
    hint: str = ""


@dataclass
class Step:
    """One step of a connection check."""

    name: str
    outcome: str
    message: str
    hint: str = ""

    def document(self) -> dict[str, str]:
        """Return it as JSON."""
        return {"name": self.name, "outcome": self.outcome, "message": self.message, "hint": self.hint}


@dataclass
class Checked:
    """What a check found out: its steps, the source's attributes, each with some values, and a few
    entries.
    """

    steps: list[Step] = field(default_factory=list)
    attributes: dict[str, list[str]] = field(default_factory=dict)
    sample: list[Entry] = field(default_factory=list)

    @property
    def fine(self) -> bool:
        """Whether nothing is in the way."""
        return all(each.outcome in (OK, NOTED) for each in self.steps)


def checked_by(names: Sequence[str], work: Callable[[Checked], None]) -> Checked:
    """Return what a check found out.

    Args:
        names: its steps, in their order.
        work: adds one step after the other; where it raises a trouble, that step failed, and those behind it
            were not tried.
    """
    checked = Checked()
    try:
        work(checked)
    except DirectoryTrouble as wrong:
        checked.steps.append(Step(names[len(checked.steps)], WRONG, wrong.message, wrong.hint))
    checked.steps += [
        Step(name, SKIPPED, "Fix the earlier step first.") for name in names[len(checked.steps) :]
    ]
    return checked


class StopAsked(Exception):
    """Anyone who reads was asked to stop."""


class Reader(Protocol):
    """Reads one source.

    Attributes:
        kind: its key.
        reads: what expressions over its entries read, as in `core.expressions`.
        Settings: the model of its settings.
        usual_attributes: the rows that expressions start with.
    """

    kind: ClassVar[str]
    label: ClassVar[str]
    reads: ClassVar[str]
    Settings: ClassVar[type[BaseModel]]
    usual_attributes: ClassVar[tuple[tuple[str, str], ...]]

    def users(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield everyone; `since` is a mark of an earlier reading: then anyone who changed after it.

        Raises:
            DirectoryTrouble: if it cannot be read to its end.
        """

    def groups(self, since: str | None = None) -> Iterator[GroupEntry | BadLine]:
        """Yield all groups, after the users; raises as `users`."""

    def one(self, native_id: str) -> Entry | None:
        """Return one user as the directory has them now, or None if it has them no more."""

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups that list a user; None if that cannot be asked."""

    def check(self, uses: Sequence[str]) -> Checked:
        """Try the connection step by step; `uses` are the attributes that expressions need."""

    def mark(self) -> str | None:
        """Return from where a later reading can go on, once this one is done; None if only a full reading
        tells the truth.
        """

    def close(self) -> None:
        """Let go of connections."""


def seen_values(found: dict[str, list[str]], attributes: Mapping[str, Any]) -> None:
    """Add an entry's values to those seen, a few of each attribute."""
    for name, values in attributes.items():
        kept = found.setdefault(name, [])
        for value in values if isinstance(values, list) else [values]:
            text = str(value)[:120]
            if len(kept) < 3 and text not in kept:
                kept.append(text)
