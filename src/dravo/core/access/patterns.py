"""Patterns of group names: `^ticketdesk-(.+)$` gives the role whose key, label or sent value is the captured
part.

Patterns run on an engine of linear time. A pattern gives the highest role of an application only through
confirmed groups: naming a group at the source must not be enough to hand it out.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from dravo.core.errors import InvalidInput
from dravo.core.expressions.functions import Pattern
from dravo.core.expressions.functions import compiled as linear
from dravo.core.identity.names import fold

LONGEST = 400

GIVES, NO_MATCH, NO_SUCH_ROLE, NOT_CONFIRMED = "gives", "no_match", "unknown_role", "needs_confirmation"
# Several roles have the label.
SEVERAL_ROLES = "several_roles"
# By which text of a role it was found, in this order.
BY_KEY, BY_LABEL, BY_VALUE = "key", "label", "value"


@dataclass(frozen=True)
class Read:
    """What a pattern makes of one group's name.

    Attributes:
        outcome: one of the outcomes of this module.
        captured: the captured part.
        role: the key of the role, if it gives one.
        by: the text of the role that is the captured part: `BY_KEY`, `BY_LABEL` or `BY_VALUE`.
    """

    outcome: str
    captured: str = ""
    role: str | None = None
    by: str | None = None


@dataclass(frozen=True)
class Captured:
    """The roles of an application, as patterns capture them.

    Attributes:
        texts: by a folded text the (key of the role, by which text), as `texts_of` returns them.
        top: the key of the highest role; None without roles.
        ids: the ID of a role by its key.
    """

    texts: Mapping[str, tuple[str | None, str]]
    top: str | None
    ids: Mapping[str | None, str] = field(default_factory=dict)


def texts_of(roles: Iterable[tuple[str, str, str | None]]) -> dict[str, tuple[str | None, str]]:
    """Return the texts by which roles are found, folded: a key wins over a label, a label over a sent value.

    Args:
        roles: (key, label, sent value or None) of each role.

    Returns:
        by the text, the key of the role (None if several roles have the text) and the kind of text.
    """
    every = list(roles)
    texts: dict[str, tuple[str | None, str]] = {}
    for number, by in enumerate((BY_KEY, BY_LABEL, BY_VALUE)):
        own: dict[str, tuple[str | None, str]] = {}
        for each in every:
            text = fold(each[number] or "")
            if text and text not in texts:
                own[text] = (None if text in own else each[0], by)
        texts |= own
    return texts


@lru_cache(maxsize=1024)
def compile_pattern(text: str) -> Pattern:
    """Return a compiled pattern; it has exactly one captured part, and ignores letter case.

    Raises:
        InvalidInput: for an invalid pattern, for none or several captured parts, or for a pattern that
            matches every name.
    """
    hint = "Put the part that names the role in parentheses, such as ^ticketdesk-(.+)$."
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
    if (role := roles.texts.get(fold(captured))) is None:
        return Read(NO_SUCH_ROLE, captured)
    key, by = role
    if key is None:
        return Read(SEVERAL_ROLES, captured, by=by)
    if key == roles.top and group_id not in confirmed:
        return Read(NOT_CONFIRMED, captured, key, by)
    return Read(GIVES, captured, key, by)
