"""The order of a list (RFC 7644, section 3.4.2.3)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dravo.core.identity.names import comparable
from dravo.core.scim.errors import ScimError, invalid_path, invalid_value
from dravo.core.scim.filters import values
from dravo.core.scim.paths import Location, locate
from dravo.core.scim.schemas import ResourceType

# A resource without a value is last in ascending and first in descending order.
SortKey = tuple[int, str | float]


def sort_location(text: str, resource_type: ResourceType, others: tuple[ResourceType, ...] = ()) -> Location:
    """Return the attribute to sort by.

    Raises:
        ScimError: 400 invalidPath, if no type has it.
    """
    for number, kind in enumerate((resource_type, *others)):
        try:
            at = locate(text.strip(), kind)
        except ScimError:
            if number == len(others):
                raise
            continue
        if at.leaf.type == "complex" and at.sub is None:
            inner = at.leaf.sub_by_name.get("value")
            if inner is None:
                raise invalid_path(
                    f"'{at}' is a complex attribute. Sort by a sub-attribute, such as "
                    f"'{at}.{at.leaf.sub[0].name}'."
                )
            return Location(at.urn, at.attribute, inner)
        return at
    raise AssertionError("unreachable")


def is_descending(text: str | None) -> bool:
    """Whether a sortOrder is descending; the default is ascending.

    Raises:
        ScimError: 400 invalidValue for another word.
    """
    if not text or text.lower() == "ascending":
        return False
    if text.lower() == "descending":
        return True
    raise invalid_value(f"'sortOrder' is '{text[:40]}'. Use ascending or descending.")


def sort_key(resource: Mapping[str, Any], at: Location) -> SortKey:
    """Return the sort value of a resource: of several values the primary one, else the first."""
    found = values(at, resource)
    if at.attribute is not None and at.attribute.multi_valued and at.sub is not None:
        elements = values(Location(at.urn, at.attribute), resource)
        primary = [
            each
            for each in elements
            if isinstance(each, Mapping) and each.get("primary") is True and each.get(at.sub.name) is not None
        ]
        found = [each[at.sub.name] for each in primary] or found
    if not found:
        return (1, "")
    value = found[0]
    if isinstance(value, bool | int | float):
        return (0, float(value))
    return (
        0,
        str(value)
        if at.leaf.case_exact or at.leaf.type == "dateTime"
        else comparable(at.leaf.name, str(value)),
    )
