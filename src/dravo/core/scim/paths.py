"""Attribute paths and filters as trees, resolved against the schemas of a resource type.

RFC 7644, sections 3.4.2.2 (filters), 3.10 (attribute notation) and 3.5.2 (paths of patches).
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache, lru_cache
from pathlib import Path as FilePath
from typing import Any

from lark import Lark, Token, UnexpectedInput

from dravo.core.scim.errors import ScimError, invalid_filter, invalid_path
from dravo.core.scim.schemas import Attribute, ResourceType

LONGEST_FILTER = 8_000
DEEPEST_FILTER = 40
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')


@dataclass(frozen=True)
class Location:
    """The location of a value: an extension's URN or None, the attribute, and the sub-attribute or None.

    `attribute` is None for a whole extension.
    """

    urn: str | None
    attribute: Attribute | None
    sub: Attribute | None = None

    @property
    def leaf(self) -> Attribute:
        """The attribute at the end of the path."""
        leaf = self.sub or self.attribute
        if leaf is None:
            raise invalid_path(f"'{self.urn}' is a schema. Name one of its attributes.")
        return leaf

    def __str__(self) -> str:
        names = [part.name for part in (self.attribute, self.sub) if part]
        return (f"{self.urn}:" if self.urn and names else self.urn or "") + ".".join(names)


@dataclass(frozen=True)
class Present:
    """`attribute pr`"""

    at: Location


@dataclass(frozen=True)
class Compare:
    """`attribute operator value`; the operator in lower case."""

    at: Location
    operator: str
    value: str | float | int | bool | None


@dataclass(frozen=True)
class Element:
    """`attribute[filter]`: one element matches the whole filter."""

    at: Location
    inner: Filter


@dataclass(frozen=True)
class Not:
    """`not (filter)`"""

    inner: Filter


@dataclass(frozen=True)
class And:
    """`filter and filter ...`"""

    parts: tuple[Filter, ...]


@dataclass(frozen=True)
class Or:
    """`filter or filter ...`"""

    parts: tuple[Filter, ...]


Filter = Present | Compare | Element | Not | And | Or


@dataclass(frozen=True)
class PatchPath:
    """The target of a patch operation: a location and, for elements of a multi-valued attribute, which
    ones.
    """

    at: Location
    element: Filter | None = None


@cache
def _parser() -> Lark:
    """Return the parser, built at its first use: building takes longer than importing this module."""
    grammar = (FilePath(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
    return Lark(grammar, parser="lalr", lexer="contextual", start=["filter", "path"])


@lru_cache(maxsize=4096)
def parse_filter(text: str, resource_type: ResourceType, *, others: tuple[ResourceType, ...] = ()) -> Filter:
    """Return a filter as a tree.

    Args:
        text: the filter, as in RFC 7644, section 3.4.2.2.
        resource_type: the type with its attributes.
        others: further types in the same search; an attribute of theirs alone has no value here (section
            3.4.2.1).

    Raises:
        ScimError: 400 invalidFilter, with the position of the error.
    """
    _check_size(text)
    try:
        tree = _parser().parse(text, start="filter")
    except UnexpectedInput as wrong:
        raise invalid_filter(_place(text, wrong, "filter")) from None
    try:
        result: Filter = _Builder(resource_type, None, others).build(tree.children[0])
    except ScimError as wrong:
        raise (wrong if wrong.scim_type == "sensitive" else invalid_filter(wrong.detail)) from None
    return result


@lru_cache(maxsize=4096)
def parse_path(text: str, resource_type: ResourceType) -> PatchPath:
    """Return the target of a patch operation (RFC 7644, section 3.5.2, figure 7).

    Raises:
        ScimError: 400 invalidPath (or invalidFilter for the part in brackets).
    """
    text = text.strip()
    _check_size(text)
    extension = resource_type.extension_by_urn.get(text.lower())
    if extension:
        return PatchPath(Location(extension.id, None))
    try:
        tree = _parser().parse(text, start="path")
    except UnexpectedInput as wrong:
        raise invalid_path(_place(text, wrong, "path")) from None
    at = locate(str(tree.children[0]), resource_type)
    if tree.data == "plain_path":
        return PatchPath(at)
    if at.attribute is None or at.sub is not None or not at.attribute.sub:
        raise invalid_path(f"'{at}' is not multi-valued. Use brackets only with multi-valued attributes.")
    try:
        element = _Builder(resource_type, at).build(tree.children[1])
    except ScimError as wrong:
        raise invalid_filter(wrong.detail) from None
    sub = None
    if len(tree.children) > 2 and tree.children[2] is not None:
        sub = _sub_attribute(at.attribute, str(tree.children[2])[1:])
    return PatchPath(Location(at.urn, at.attribute, sub), element)


def locate(text: str, resource_type: ResourceType) -> Location:
    """Return the location of an attribute path such as `name.givenName` or `urn:...:User:department`.

    Raises:
        ScimError: 400 invalidPath, for an unknown attribute.
    """
    lowered = text.lower()
    attributes, urn, rest = resource_type.by_name, None, text
    if lowered.startswith("urn:"):
        for schema in (resource_type.schema, *resource_type.extensions):
            if lowered.startswith(schema.id.lower() + ":"):
                rest = text[len(schema.id) + 1 :]
                attributes = schema.by_name
                urn = None if schema is resource_type.schema else schema.id
                break
        else:
            raise invalid_path(f"No schema has an attribute '{text}'.")
    name, _, sub_name = rest.partition(".")
    attribute = attributes.get(name.lower())
    if attribute is None:
        raise invalid_path(f"{resource_type.name} has no attribute '{name}'.")
    return Location(urn, attribute, _sub_attribute(attribute, sub_name) if sub_name else None)


def _sub_attribute(attribute: Attribute, name: str) -> Attribute:
    sub = attribute.sub_by_name.get(name.lower())
    if sub is None:
        raise invalid_path(f"'{attribute.name}' has no sub-attribute '{name}'.")
    return sub


class _Builder:
    """Builds a tree from what the parser yields; inside brackets names are sub-attributes of `within`."""

    def __init__(
        self, resource_type: ResourceType, within: Location | None, others: tuple[ResourceType, ...] = ()
    ) -> None:
        self.resource_type = resource_type
        self.within = within
        self.others = others

    def build(self, tree: Any) -> Filter:
        """Return the filter of a parsed tree."""
        kind, children = tree.data, tree.children
        if kind == "and_":
            return And(tuple(self.build(child) for child in children))
        if kind == "or_":
            return Or(tuple(self.build(child) for child in children))
        if kind == "not_":
            return Not(self.build(children[0]))
        at = self._locate(children[0])
        if kind == "present":
            return Present(at)
        if kind == "element":
            if self.within is not None or at.attribute is None or not at.attribute.sub or at.sub:
                raise invalid_filter(f"'{children[0]}' is not multi-valued.")
            return Element(at, _Builder(self.resource_type, at, self.others).build(children[1]))
        return self._compare(at, str(children[1]).lower(), _literal(children[2]))

    def _locate(self, token: Token) -> Location:
        if self.within is None:
            return self._locate_whole(str(token))
        assert self.within.attribute is not None
        return Location(
            self.within.urn, self.within.attribute, _sub_attribute(self.within.attribute, str(token))
        )

    def _locate_whole(self, text: str) -> Location:
        for number, kind in enumerate((self.resource_type, *self.others)):
            try:
                at = locate(text, kind)
            except ScimError:
                if number == len(self.others):
                    raise
                continue
            if at.attribute is not None and "writeOnly" in (
                at.attribute.mutability,
                at.sub.mutability if at.sub else "",
            ):
                raise ScimError(403, f"'{at}' is a secret and cannot be used in a filter.", "sensitive")
            return at
        raise AssertionError("unreachable")

    def _compare(self, at: Location, operator: str, value: Any) -> Compare:
        leaf = at.leaf
        if leaf.type == "complex":
            inner = leaf.sub_by_name.get("value")
            if inner is None:
                raise invalid_filter(
                    f"'{at}' is a complex attribute. Compare a sub-attribute, such as "
                    f"'{at}.{leaf.sub[0].name}'."
                )
            at, leaf = Location(at.urn, at.attribute, inner), inner
        if value is None:
            if operator not in ("eq", "ne"):
                raise invalid_filter(f"The operator {operator} does not work with null. Use eq or ne.")
            return Compare(at, operator, None)
        if leaf.type == "boolean":
            if isinstance(value, str) and value.lower() in ("true", "false"):
                value = value.lower() == "true"
            if not isinstance(value, bool) or operator not in ("eq", "ne"):
                raise invalid_filter(f"'{at}' is a boolean. Compare it with eq or ne.")
        elif leaf.type in ("integer", "decimal"):
            if (
                isinstance(value, bool)
                or not isinstance(value, int | float)
                or operator in ("co", "sw", "ew")
            ):
                raise invalid_filter(f"'{at}' is a number. Compare it with a number.")
        elif not isinstance(value, str):
            raise invalid_filter(f"'{at}' is a string. Put the value in double quotes.")
        elif leaf.type == "binary" and operator in ("gt", "ge", "lt", "le"):
            raise invalid_filter(f"'{at}' is binary and has no order.")
        elif leaf.type == "dateTime":
            # The error is reported even if there is no resource to compare with.
            read_time(value)
        return Compare(at, operator, value)


def read_time(text: str) -> datetime:
    """Return the moment that a filter compares a dateTime with; one without a zone is UTC.

    Raises:
        ScimError: 400 invalidFilter.
    """
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise invalid_filter(f"'{text}' is not a time such as 2031-04-02T09:15:00Z.") from None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _literal(tree: Any) -> str | float | int | bool | None:
    """Return the value of a literal; strings are JSON strings (RFC 7644, section 3.4.2.2)."""
    if tree.data in ("true", "false", "null"):
        return {"true": True, "false": False, "null": None}[tree.data]
    text = str(tree.children[0])
    if tree.data == "number":
        return float(text) if any(mark in text for mark in ".eE") else int(text)
    try:
        value: str = json.loads(text)
    except ValueError:
        raise invalid_filter(f"{text} is not a JSON string.") from None
    return value


def _check_size(text: str) -> None:
    if len(text) > LONGEST_FILTER:
        raise invalid_filter(f"The filter is longer than {LONGEST_FILTER} characters.")
    depth = deepest = 0
    # Brackets within strings do not nest.
    for character in _STRING.sub("", text):
        if character in "([":
            depth += 1
            deepest = max(deepest, depth)
        elif character in ")]":
            depth -= 1
    if deepest > DEEPEST_FILTER:
        raise invalid_filter(f"The filter is nested deeper than {DEEPEST_FILTER} levels.")


def _place(text: str, wrong: UnexpectedInput, what: str) -> str:
    position = (
        wrong.pos_in_stream if wrong.pos_in_stream is not None and wrong.pos_in_stream >= 0 else len(text)
    )
    rest = text[position : position + 20]
    where = f"at '{rest}' (character {position + 1})" if rest else "at its end"
    return f"The {what} is invalid {where}."
