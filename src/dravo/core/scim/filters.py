"""Evaluates filters on resources (RFC 7644, section 3.4.2.2)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from dravo.core.identity.names import comparable
from dravo.core.scim.errors import invalid_filter
from dravo.core.scim.paths import And, Compare, Element, Filter, Location, Not, Or, Present, read_time
from dravo.core.scim.schemas import Attribute


def matches(tree: Filter, resource: Mapping[str, Any]) -> bool:
    """Whether a resource, with names as in its schemas, matches a filter."""
    match tree:
        case And(parts):
            return all(matches(part, resource) for part in parts)
        case Or(parts):
            return any(matches(part, resource) for part in parts)
        case Not(inner):
            return not matches(inner, resource)
        case Element(at, inner):
            return any(element_matches(inner, element) for element in values(at, resource))
        case Present(at):
            return any(_is_present(value) for value in values(at, resource))
        case Compare(at, operator, value):
            return _compare_all(at.leaf, operator, value, values(at, resource))


def element_matches(tree: Filter, element: Any) -> bool:
    """Whether one element of a multi-valued attribute matches the filter in brackets."""
    match tree:
        case And(parts):
            return all(element_matches(part, element) for part in parts)
        case Or(parts):
            return any(element_matches(part, element) for part in parts)
        case Not(inner):
            return not element_matches(inner, element)
        case Present(at):
            return _is_present(_sub_value(element, at))
        case Compare(at, operator, value):
            found = _sub_value(element, at)
            return _compare_all(at.leaf, operator, value, [] if found is None else [found])
        case Element():
            raise invalid_filter("Brackets cannot be nested.")


def values(at: Location, resource: Mapping[str, Any]) -> list[Any]:
    """Return the values at a location: none, one or several."""
    holder: Any = resource.get(at.urn) if at.urn else resource
    if not isinstance(holder, Mapping) or at.attribute is None:
        return []
    found = holder.get(at.attribute.name)
    if found is None:
        return []
    elements = found if isinstance(found, list) else [found]
    if at.sub is None:
        return elements
    name = at.sub.name
    return [
        element[name]
        for element in elements
        if isinstance(element, Mapping) and element.get(name) is not None
    ]


def _sub_value(element: Any, at: Location) -> Any:
    if at.sub is None or not isinstance(element, Mapping):
        return None
    return element.get(at.sub.name)


def _is_present(value: Any) -> bool:
    """Null, an empty list and an empty text are no value (RFC 7643, section 2.5; 7644, table 3)."""
    return value is not None and value not in ("", [], {})


def _compare_all(leaf: Attribute, operator: str, wanted: Any, found: list[Any]) -> bool:
    if wanted is None:
        return bool(found) == (operator == "ne")
    if not found:
        return operator == "ne"
    return any(_compare(leaf, operator, value, wanted) for value in found)


def _compare(leaf: Attribute, operator: str, found: Any, wanted: Any) -> bool:
    left, right = _comparable(leaf, found), _comparable(leaf, wanted)
    match operator:
        case "eq":
            return bool(left == right)
        case "ne":
            return bool(left != right)
        case "co":
            return str(right) in str(left)
        case "sw":
            return str(left).startswith(str(right))
        case "ew":
            return str(left).endswith(str(right))
    if type(left) is not type(right) and not (
        isinstance(left, int | float) and isinstance(right, int | float)
    ):
        return False
    match operator:
        case "gt":
            return bool(left > right)
        case "ge":
            return bool(left >= right)
        case "lt":
            return bool(left < right)
        case _:
            return bool(left <= right)


def _comparable(leaf: Attribute, value: Any) -> Any:
    if leaf.type == "dateTime" and isinstance(value, str):
        return read_time(value)
    if isinstance(value, str) and not leaf.case_exact and leaf.type != "binary":
        return comparable(leaf.name, value)
    return value


def locations(tree: Filter) -> Iterator[Location]:
    """Yield the locations that a filter compares."""
    match tree:
        case And(parts) | Or(parts):
            for part in parts:
                yield from locations(part)
        case Not(inner):
            yield from locations(inner)
        case Element(at, _) | Present(at) | Compare(at, _, _):
            yield at
