"""Patterns of group names: `^ticketdesk-(.+)$` gives the role whose key is the captured part.

Patterns run on an engine of linear time. A pattern gives the highest role of an application only through
confirmed groups: naming a group at the source must not be enough to hand it out.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from dravo.core.errors import InvalidInput
from dravo.core.expressions.functions import Pattern
from dravo.core.expressions.functions import compiled as linear
from dravo.core.identity.names import fold

LONGEST = 400

GIVES, NO_MATCH, NO_SUCH_ROLE, NOT_CONFIRMED = "gives", "no_match", "unknown_role", "needs_confirmation"


@dataclass(frozen=True)
class Read:
    """What a pattern makes of one group's name: the outcome, the captured part, and the role's key if it
    gives one.
    """

    outcome: str
    captured: str = ""
    role: str | None = None


@dataclass(frozen=True)
class Captured:
    """The roles of an application, as patterns capture them.

    Attributes:
        keys: the key of a role by its folded key.
        top: the key of the highest role; None without roles.
        ids: the ID of a role by its key.
    """

    keys: Mapping[str, str]
    top: str | None
    ids: Mapping[str | None, str] = field(default_factory=dict)


@lru_cache(maxsize=1024)
def compile_pattern(text: str) -> Pattern:
    """Return a compiled pattern; it has exactly one captured part, and ignores letter case.

    Raises:
        InvalidInput: for an invalid pattern, for none or several captured parts, or for a pattern that
            matches every name.
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
        name: the name of the group.
        group_id: the ID of the group.
        roles: the roles of the application.
        confirmed: IDs of groups that may give the highest role.
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
