"""Patterns of group names that say which role a group gives: `^ticketdesk-(.+)$` gives the role whose key is
the captured part.

Patterns run on an engine of linear time. The highest role of an application is given by a pattern only to
groups that a user
confirmed: anyone who may name groups at the source must not be able to hand it out.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.expressions.functions import compiled as linear
from dravo.core.identity.names import fold

LONGEST = 400

GIVES, NO_MATCH, NO_SUCH_ROLE, NOT_CONFIRMED = "gives", "no_match", "unknown_role", "needs_confirmation"


@dataclass(frozen=True)
class Read:
    """What a pattern makes of one group's name: one of the words above, the captured part, and the role's
    key if it gives one.
    """

    outcome: str
    captured: str = ""
    role: str | None = None


@dataclass(frozen=True)
class Captured:
    """An application's roles, as patterns capture them.

    Attributes:
        keys: for each folded key of a role its key as it is.
        top: the key of the highest; None if there is no role.
        ids: for each key the role's id.
    """

    keys: Mapping[str, str]
    top: str | None
    ids: Mapping[str | None, str] = field(default_factory=dict)


@lru_cache(maxsize=1024)
def compile_pattern(text: str) -> Any:
    """Return a pattern, compiled; it has exactly one captured part, and letter case does not matter.

    Raises:
        InvalidInput: if it is no pattern, or captures nothing or several parts, or would fit every name.
    """
    hint = "Put the part that is the role key in parentheses, such as ^ticketdesk-(.+)$."
    if not text or len(text) > LONGEST:
        raise InvalidInput(f"The pattern must have 1 to {LONGEST} characters.", hint, "pattern")
    try:
        compiled = linear(text, any_case=True)
    except ValueError as wrong:
        raise InvalidInput(f"The pattern is invalid: {wrong}.", hint, "pattern") from None
    if compiled.groups != 1:
        raise InvalidInput(f"The pattern captures {compiled.groups} parts instead of one.", hint, "pattern")
    return compiled


def read_name(pattern: str, name: str, group_id: str, roles: Captured, confirmed: frozenset[str]) -> Read:
    """Return what a pattern makes of a group's name.

    Args:
        pattern: its text.
        name: the group's.
        group_id: the group's.
        roles: the application's.
        confirmed: ids of groups that may give that one.
    """
    found = compile_pattern(pattern).search(name)
    if found is None:
        return Read(NO_MATCH)
    captured = str(found.group(1) or "")
    key = roles.keys.get(fold(captured))
    if key is None:
        return Read(NO_SUCH_ROLE, captured)
    if key == roles.top and group_id not in confirmed:
        return Read(NOT_CONFIRMED, captured, key)
    return Read(GIVES, captured, key)
