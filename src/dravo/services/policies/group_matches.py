"""Which groups of a source a choice of groups names now: by name or ID, or by a pattern."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from dravo.core.identity.names import fold
from dravo.core.identity.policy_reading import read_group_choice
from dravo.core.identity.source_policy import NAMED
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.store import groups

# Of so many groups the names are returned; of the others, the number.
SHOWN = 50


@dataclass(frozen=True)
class MatchingGroup:
    """A group that a choice names."""

    id: str
    name: str


@dataclass(frozen=True)
class GroupMatches:
    """The groups of a source that a choice names now.

    Attributes:
        matching: how many groups match.
        total: how many groups the source has.
        groups: the first of them, by name.
        unknown: names and IDs of the choice that no group has yet.
    """

    matching: int
    total: int
    groups: list[MatchingGroup]
    unknown: list[str]


def find(ctx: AppContext, key: str, choice: dict[str, Any]) -> GroupMatches:
    """Return which groups of a source a choice names now.

    Args:
        choice: as in a source policy: "which", "names", "pattern".

    Raises:
        NotFound; InvalidInput: for a pattern that is no RE2 pattern.
    """
    chosen = read_group_choice(choice, "groups")
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        every = groups.named_of_source(connection, source.id)
    found = [each for each in every if chosen.takes(each.name, *each.ids)]
    known = {fold(text) for each in found for text in (each.name, *each.ids)}
    return GroupMatches(
        len(found),
        len(every),
        [MatchingGroup(each.id, each.name) for each in found[:SHOWN]],
        [name for name in chosen.names if fold(name) not in known] if chosen.which == NAMED else [],
    )
