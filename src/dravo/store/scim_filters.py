"""Turns the parts of a SCIM filter that an index can serve into SQL; the rest is left to the core.

The SQL may let through more than the filter, never less: whoever uses it evaluates the whole filter on what comes back, unless
`exact` says that the SQL is all of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Table, and_, or_

from dravo.core.errors import InvalidInput
from dravo.core.instants import parse_instant
from dravo.core.records import fold
from dravo.core.scim.paths import And, Compare, Filter, Or
from dravo.store import tables as t


@dataclass(frozen=True)
class Narrowing:
    """An SQL condition (None: everything) and whether it says all that the filter says."""

    condition: Any
    exact: bool


def narrow(tree: Filter, table: Table) -> Narrowing:
    """Return the SQL for a filter on records or groups."""
    match tree:
        case And(parts):
            narrowed = [narrow(part, table) for part in parts]
            conditions = [each.condition for each in narrowed if each.condition is not None]
            return Narrowing(and_(*conditions) if conditions else None, all(each.exact for each in narrowed))
        case Or(parts):
            narrowed = [narrow(part, table) for part in parts]
            if any(each.condition is None for each in narrowed):
                return Narrowing(None, exact=False)
            return Narrowing(or_(*(each.condition for each in narrowed)), all(each.exact for each in narrowed))
        case Compare(at, operator, str(value)) if at.urn is None:
            return _compare(str(at), operator, value, table)
    return Narrowing(None, exact=False)


def _compare(path: str, operator: str, value: str, table: Table) -> Narrowing:
    if operator == "eq":
        if path == "id":
            return Narrowing(table.c.id == value, exact=True)
        if path == "externalId":
            return Narrowing(table.c.external_id == value, exact=True)
        if path == "userName" and table is t.record:
            return Narrowing(table.c.user_name_key == fold(value), exact=True)
        if path == "displayName" and table is t.group:
            return Narrowing(table.c.display_name_key == fold(value), exact=True)
    if path in ("meta.lastModified", "meta.created") and operator in ("gt", "ge", "lt", "le"):
        column = table.c.modified_at if path == "meta.lastModified" else table.c.created_at
        try:
            moment = parse_instant(value)
        except InvalidInput:
            return Narrowing(None, exact=False)
        compared = {"gt": column > moment, "ge": column >= moment, "lt": column < moment, "le": column <= moment}
        return Narrowing(compared[operator], exact=True)
    return Narrowing(None, exact=False)
