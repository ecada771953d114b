"""The interface of connectors: entries of users and groups, a connection check in steps, and errors with
hints.

A further connector is one more file like `ldap.py` with its settings model, and a line in `connectors.py`.
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
    """A directory could not be read, or not completely; what is missing is unknown."""

    code = "directory_trouble"
    status = 502


@dataclass(frozen=True)
class Entry:
    """An entry of one user.

    Attributes:
        native_id: the directory's own ID, which stays when the user is renamed or moved.
        reference: how groups name their members: a DN, a user name or an ID, folded as the connector compares
            them.
        attributes: the values by folded name, as lists of texts; of a SCIM service, the User.
    """

    native_id: str
    reference: str
    attributes: Mapping[str, Any]

    def digest(self, salt: str) -> str:
        """Return a digest of the entry and the policy, to recognize an unchanged entry."""
        content = orjson.dumps((salt, self.reference, self.attributes), option=orjson.OPT_SORT_KEYS)
        return hashlib.blake2b(content, digest_size=12).hexdigest()


@dataclass(frozen=True)
class GroupEntry:
    """An entry of one group; `members` are locators of users and groups.

    `made` tells that the directory has no such group: attributes of users produce it.
    """

    native_id: str
    reference: str
    name: str
    members: Sequence[str] = ()
    made: bool = False

    def digest(self, salt: str) -> str:
        """Return a digest of the group, to recognize an unchanged one."""
        content = orjson.dumps((salt, self.reference, self.name, sorted(self.members)))
        return hashlib.blake2b(content, digest_size=12).hexdigest()


# No native ID starts with this character, because none may contain it.
_MADE = "\x1fmade "


def made_entries(made: Mapping[str, tuple[str, list[str]]]) -> list[GroupEntry]:
    """Return groups that attributes of users produce, as a directory would list them.

    Args:
        made: by folded name, the name and the locators of the members.
    """
    return [
        GroupEntry(f"{_MADE}{key}", f"{_MADE}{key}", name, members, made=True)
        for key, (name, members) in made.items()
    ]


def is_made(native_id: str) -> bool:
    """Whether attributes of users produce a group."""
    return native_id.startswith(_MADE)


@dataclass(frozen=True)
class BadLine:
    """A line or entry without a user; it is reported, and the others go on."""

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
    """The result of a check: its steps, the source's attributes with some values, and a few entries."""

    steps: list[Step] = field(default_factory=list)
    attributes: dict[str, list[str]] = field(default_factory=dict)
    sample: list[Entry] = field(default_factory=list)

    @property
    def fine(self) -> bool:
        """Whether all steps succeeded."""
        return all(each.outcome in (OK, NOTED) for each in self.steps)


def checked_by(names: Sequence[str], work: Callable[[Checked], None]) -> Checked:
    """Return the result of a check.

    Args:
        names: the steps, in their order.
        work: adds one step after the other; if it raises an error, that step failed, and later ones were not
            tried.
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
    """The run was asked to stop."""


class Reader(Protocol):
    """Reads one source.

    Attributes:
        kind: the key of the connector.
        reads: what expressions over its entries read, as in `core.expressions`.
        Settings: the model of its settings.
        usual_attributes: the default attribute mapping.
    """

    kind: ClassVar[str]
    label: ClassVar[str]
    reads: ClassVar[str]
    Settings: ClassVar[type[BaseModel]]
    usual_attributes: ClassVar[tuple[tuple[str, str], ...]]

    def users(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield all users; `since` is a mark of an earlier run: then only users who changed after it.

        Raises:
            DirectoryTrouble: if the source cannot be read completely.
        """

    def groups(self, since: str | None = None) -> Iterator[GroupEntry | BadLine]:
        """Yield all groups, after the users; raises as `users`."""

    def one(self, native_id: str) -> Entry | None:
        """Return one user as the source reports the user now, or None."""

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups of a user; None if the source cannot be asked."""

    def check(self, uses: Sequence[str]) -> Checked:
        """Try the connection step by step; `uses` are the attributes that expressions need."""

    def mark(self) -> str | None:
        """Return the mark from which a later run can go on; None if only a full run is reliable."""

    def close(self) -> None:
        """Close connections."""


def seen_values(found: dict[str, list[str]], attributes: Mapping[str, Any]) -> None:
    """Add an entry's values to the sample of values, a few of each attribute."""
    for name, values in attributes.items():
        kept = found.setdefault(name, [])
        for value in values if isinstance(values, list) else [values]:
            text = str(value)[:120]
            if len(kept) < 3 and text not in kept:
                kept.append(text)
