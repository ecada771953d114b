"""Conditions of rules: a SCIM filter over a user (RFC 7644, section 3.4.2.2), with the user's groups and
sources.

The filter sees the merged User with two more attributes: ``groups`` (``value``: the ID of the group,
``display``, ``source``: the key of the source) and ``source`` (the keys of sources that report the user as
active).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.identity.names import fold
from dravo.core.scim.errors import ScimError
from dravo.core.scim.filters import locations, matches
from dravo.core.scim.paths import And, Compare, Element, Filter, Not, Or, parse_filter
from dravo.core.scim.schemas import ENTERPRISE_SCHEMA, USER_SCHEMA, Attribute, ResourceType, Schema
from dravo.core.scim.short_names import SHORT_NAMES

Holds = Callable[[Mapping[str, Any]], bool]
Needed = tuple[str | None, str, str]

_SOURCE = Attribute(
    "source",
    multi_valued=True,
    case_exact=True,
    description="Keys of the sources that report the user as active.",
)
_GROUPS = Attribute(
    "groups",
    "complex",
    multi_valued=True,
    description="Groups of the user, including nested groups.",
    sub=(
        Attribute("value", case_exact=True, description="ID of the group in Dravo."),
        Attribute("display", description="Name of the group. Use it together with its source."),
        Attribute("source", case_exact=True, description="Key of the source of the group."),
    ),
)
# Attributes that describe the record itself, or that rules must not use.
_NOT_ASKED = frozenset({"active", "password", "groups"})


@dataclass(frozen=True)
class Condition:
    """A parsed condition.

    Attributes:
        text: the condition as written.
        holds: whether a user, as `seen` returns it, matches.
        asks_groups: whether the condition needs the user's groups.
        asks_names: whether it needs names of groups.
        needs: (extension's URN or None, attribute, folded value) that every matching user has, if there is
            one. Conditions that can match are found by it, without trying each.
        is_that: whether that value is the whole condition.
    """

    text: str
    holds: Holds
    asks_groups: bool = False
    asks_names: bool = False
    needs: Needed | None = None
    is_that: bool = False


@lru_cache(maxsize=64)
def user_type(extensions: tuple[Schema, ...] = ()) -> ResourceType:
    """Return the resource type of conditions.

    Args:
        extensions: schemas of sources beside the enterprise one; of several with one URN the first is used.
    """
    kept = tuple(attribute for attribute in USER_SCHEMA.attributes if attribute.name not in _NOT_ASKED)
    schema = Schema(USER_SCHEMA.id, "User", "A user as seen by rules", (*kept, _GROUPS, _SOURCE))
    by_urn = {each.id.lower(): each for each in reversed(extensions)}
    by_urn.pop(ENTERPRISE_SCHEMA.id.lower(), None)
    return ResourceType("User", "/Users", schema, (ENTERPRISE_SCHEMA, *by_urn.values()), "Users")


def read_condition(text: str, extensions: tuple[Schema, ...] = ()) -> Condition:
    """Return a parsed condition.

    Raises:
        InvalidInput: for an invalid filter, with the position; or for a group by its name alone, because
            another source can have a group of that name.
    """
    written = text.strip()
    if not written:
        raise InvalidInput(
            "The rule is empty.", 'Enter a SCIM filter, such as: department eq "Herbarium".', "rule"
        )
    try:
        tree = parse_filter(_with_shorter_names(written), user_type(extensions))
    except ScimError as wrong:
        raise InvalidInput(
            f"The rule is invalid: {wrong.detail}",
            'Enter a SCIM filter, such as: title sw "Senior" and department eq "Herbarium".',
            "rule",
        ) from None
    asked = list(_asked(tree))
    if any(name == "groups.display" for name, _ in asked) and not _always_with_source(tree):
        raise InvalidInput(
            "A rule on a group name must also name the source.",
            'Use groups[display eq "Botanists" and source eq "staff"], or the group ID: groups.value '
            'eq "...".',
            "rule",
        )
    names = {name for name, _ in asked}
    needs = _needed(tree)
    asks_groups = any(name.startswith("groups") for name in names)
    return Condition(
        written,
        _compiled(tree),
        asks_groups,
        "groups.display" in names,
        needs,
        needs is not None and not isinstance(tree, And),
    )


# `groups` compared with a text: by RFC 7644 that is the ID of a group, but people write names.
_GROUPS_COMPARED = re.compile(r"(?<![\w.:])groups\s+(?:eq|ne|co|sw|ew|gt|ge|lt|le)(?!\w)", re.IGNORECASE)


def read_entered_condition(text: str, extensions: tuple[Schema, ...] = ()) -> Condition:
    """Return a condition as an operator enters it; raises as `read_condition`, and where `groups` itself is
    compared with a text.
    """
    condition = read_condition(text, extensions)
    outside = "".join(piece for number, piece in enumerate(_by_quotes(text)) if number % 2 == 0)
    if _GROUPS_COMPARED.search(outside):
        raise InvalidInput(
            "The rule compares groups with a text, but a group has an ID and a name.",
            'Use groups[display eq "Botanists" and source eq "staff"], or the group ID: groups.value '
            'eq "...".',
            "rule",
        )
    return condition


def _with_shorter_names(text: str) -> str:
    """Return a filter with complete names in place of short ones; quoted texts stay."""
    pieces: list[str] = []
    for number, piece in enumerate(_by_quotes(text)):
        if number % 2:
            pieces.append(piece)
            continue
        words = piece.split(" ")
        pieces.append(" ".join(_long(word) for word in words))
    return "".join(pieces)


def _long(word: str) -> str:
    bare = word.lstrip("(")
    name = SHORT_NAMES.get(bare.lower())
    return f"{word[: len(word) - len(bare)]}{name}" if name else word


def _by_quotes(text: str) -> Iterator[str]:
    """Yield the parts of a text, outside and inside quotation marks in turn; a backslash escapes the next
    character.
    """
    part, within, escaped = "", False, False
    for sign in text:
        if sign == '"' and not escaped:
            if within:
                yield part + sign
                part = ""
            else:
                yield part
                part = sign
            within = not within
        else:
            part += sign
        escaped = within and sign == "\\" and not escaped
    yield part


def _asked(tree: Filter) -> Iterator[tuple[str, Filter]]:
    """Yield (path, part of the filter) of everything that a filter compares, with sub-attributes of
    elements.
    """
    match tree:
        case And(parts) | Or(parts):
            for part in parts:
                yield from _asked(part)
        case Not(inner):
            yield from _asked(inner)
        case Element(at, inner):
            for location in locations(inner):
                yield f"{at}.{location.leaf.name}", tree
        case _:
            yield str(tree.at), tree


def _always_with_source(tree: Filter) -> bool:
    """Whether every name of a group is compared within brackets that also name the group's source."""
    for name, part in _asked(tree):
        if name != "groups.display":
            continue
        if not isinstance(part, Element):
            return False
        together = part.inner.parts if isinstance(part.inner, And) else (part.inner,)
        if not any(
            isinstance(each, Compare) and each.operator == "eq" and each.at.leaf.name == "source"
            for each in together
        ):
            return False
    return True


def _needed(tree: Filter) -> Needed | None:
    """Return a value that every matching user has, if the filter requires one."""
    match tree:
        case And(parts):
            return next((found for part in parts if (found := _needed(part)) is not None), None)
        case Compare(at, "eq", str(value)) if _is_plain_text(tree):
            assert at.attribute is not None
            return at.urn, at.attribute.name, fold(value)
    return None


def _is_plain_text(tree: Compare) -> bool:
    at = tree.at
    return (
        at.attribute is not None
        and at.sub is None
        and not at.attribute.multi_valued
        and at.leaf.type == "string"
        and not at.leaf.case_exact
    )


def text_of(user: Mapping[str, Any], urn: str | None, name: str) -> str | None:
    """Return a user's value of an attribute, folded for comparing; None without a value."""
    value = (user.get(urn) or {}).get(name) if urn else user.get(name)
    return fold(value) if isinstance(value, str) else None


def _compiled(tree: Filter) -> Holds:
    """Return a filter as a function; frequent comparisons are compiled directly, others use the filter's own
    rules.
    """
    match tree:
        case And(parts):
            every = [_compiled(part) for part in parts]
            return lambda user: all(each(user) for each in every)
        case Or(parts):
            some = [_compiled(part) for part in parts]
            return lambda user: any(each(user) for each in some)
        case Compare(at, "eq" | "sw" as operator, str(value)) if _is_plain_text(tree):
            assert at.attribute is not None
            return _text_compare(at.urn, at.attribute.name, operator, fold(value))
    return lambda user: matches(tree, user)


def _text_compare(urn: str | None, name: str, operator: str, wanted: str) -> Holds:
    if operator == "eq":
        return lambda user: text_of(user, urn, name) == wanted

    def begins(user: Mapping[str, Any]) -> bool:
        # A user without the attribute matches no prefix, not even the empty one.
        text = text_of(user, urn, name)
        return text is not None and text.startswith(wanted)

    return begins


def seen(
    attributes: Mapping[str, Any], groups: Iterable[Mapping[str, Any]], sources: Iterable[str]
) -> dict[str, Any]:
    """Return a user as conditions see the user.

    Args:
        attributes: the merged User.
        groups: {"value", "display", "source"} of each group of the user.
        sources: keys of the sources that report the user as active.
    """
    return {**attributes, "groups": list(groups), "source": list(sources)}
