"""Translates the parts of a SCIM filter that an index can serve into SQL; the core evaluates the rest.

The SQL may match more than the filter, never less: the caller evaluates the whole filter on the result,
unless `exact` says that the SQL is complete. docs/reference/scim.md lists the operators and attributes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Table, and_, false, func, not_, or_, select, true

from dravo.core.errors import InvalidInput
from dravo.core.identity.names import fold, user_name_key
from dravo.core.instants import parse_instant
from dravo.core.scim.paths import And, Compare, Element, Filter, Not, Or, Present
from dravo.store import tables as t
from dravo.store.received.members import listing


@dataclass(frozen=True)
class Narrowing:
    """An SQL condition (None: everything), and whether it covers the whole filter."""

    condition: Any
    exact: bool


EVERYTHING = Narrowing(None, exact=False)


def narrow(tree: Filter, table: Table, source_id: str) -> Narrowing:
    """Return the SQL for a filter on one source's records or groups."""
    match tree:
        case And(parts):
            narrowed = [narrow(part, table, source_id) for part in parts]
            conditions = [each.condition for each in narrowed if each.condition is not None]
            return Narrowing(and_(*conditions) if conditions else None, all(each.exact for each in narrowed))
        case Or(parts):
            narrowed = [narrow(part, table, source_id) for part in parts]
            if any(each.condition is None for each in narrowed):
                return EVERYTHING
            return Narrowing(
                or_(*(each.condition for each in narrowed)), all(each.exact for each in narrowed)
            )
        case Not(inner):
            found = narrow(inner, table, source_id)
            return (
                Narrowing(not_(func.coalesce(found.condition, false())), exact=True)
                if found.exact
                else EVERYTHING
            )
        case Element(at, Compare(inner, operator, str(value))) if at.urn is None and inner.sub is not None:
            return _compare(f"{at}.{inner.sub.name}", operator, value, table, source_id)
        case Element(at, And(parts)):
            # Each part matches some element. The core checks that it is the same element.
            found = narrow(And(tuple(Element(at, part) for part in parts)), table, source_id)
            return Narrowing(found.condition, exact=False)
        case Present(at) if at.urn is None:
            return _present(str(at), table)
        case Compare(at, operator, str(value)) if at.urn is None:
            return _compare(str(at), operator, value, table, source_id)
    return EVERYTHING


def _present(path: str, table: Table) -> Narrowing:
    if path in ("id", "meta", "meta.created", "meta.lastModified", "meta.resourceType") or path == (
        "userName" if table is t.record else "displayName"
    ):
        return Narrowing(true(), exact=True)
    if path == "externalId":
        return Narrowing(and_(table.c.external_id.is_not(None), table.c.external_id != ""), exact=True)
    return EVERYTHING


def _compare(path: str, operator: str, value: str, table: Table, source_id: str) -> Narrowing:
    if path in ("meta.lastModified", "meta.created"):
        return _moment(
            table.c.modified_at if path == "meta.lastModified" else table.c.created_at, operator, value
        )
    if path == "meta.resourceType" and operator == "eq":
        return Narrowing(
            true() if value == ("User" if table is t.record else "Group") else false(), exact=True
        )
    if path == "id":
        return _text(table.c.id, operator, value)
    if path == "externalId":
        return _text(table.c.external_id, operator, value)
    if path == "userName" and table is t.record:
        return _text(table.c.user_name_key, operator, user_name_key(value))
    if path == "displayName" and table is t.group:
        return _text(table.c.display_name_key, operator, fold(value))
    if path == "emails.value" and table is t.record:
        return _email(operator, fold(value), source_id)
    m = t.membership.c
    if path == "groups.value" and table is t.record and operator == "eq":
        listed = listing(m.record_id, m.group_id == value, m.record_id.is_not(None))
        return Narrowing(table.c.id.in_(listed), exact=True)
    if path == "members.value" and table is t.group and operator == "eq":
        users = listing(m.group_id, m.record_id == value, m.record_id.is_not(None))
        groups = listing(m.group_id, m.inner_group_id == value, m.inner_group_id.is_not(None))
        return Narrowing(or_(table.c.id.in_(users), table.c.id.in_(groups)), exact=True)
    return EVERYTHING


def _text(column: ColumnElement[Any], operator: str, value: str) -> Narrowing:
    """Compare a column that is stored as it is compared (folded where letter case does not matter)."""
    if operator in ("co", "ew", "sw") and not value:
        return Narrowing(column.is_not(None), exact=True)
    conditions: dict[str, Callable[[], Any]] = {
        "eq": lambda: column == value,
        "ne": lambda: or_(column.is_(None), column != value),
        "sw": lambda: _begins(column, value),
        # Not LIKE, which ignores letter case in some databases; external IDs are case-sensitive.
        "co": lambda: func.instr(column, value) > 0,
        "ew": lambda: func.substr(column, -len(value)) == value,
        "gt": lambda: column > value,
        "ge": lambda: column >= value,
        "lt": lambda: column < value,
        "le": lambda: column <= value,
    }
    return Narrowing(conditions[operator](), exact=True)


def _begins(column: ColumnElement[Any], value: str) -> Any:
    """Return the range of texts that begin with a value, which an index serves."""
    code = ord(value[-1]) + 1
    if code > 0x10FFFF:
        return func.substr(column, 1, len(value)) == value
    # The code points between the two ranges are surrogates, which are no text.
    following = value[:-1] + chr(0xE000 if 0xD800 <= code <= 0xDFFF else code)
    return and_(column >= value, column < following)


def _email(operator: str, value: str, source_id: str) -> Narrowing:
    """Compare email addresses: the first one has a column of its own, all others are lines of another."""
    r = t.record.c
    own = (r.source_id == source_id, r.deleted_at.is_(None))
    if operator == "eq":
        first, line = r.email_key == value, f"\n{value}\n"
    elif operator == "sw" and value:
        first, line = _begins(r.email_key, value), f"\n{value}"
    elif operator == "co" and value:
        first, line = func.instr(r.email_key, value) > 0, value
    elif operator == "ew" and value:
        first, line = func.substr(r.email_key, -len(value)) == value, f"{value}\n"
    else:
        return EVERYTHING
    found = select(r.id).where(*own, r.email_key.is_not(None), first)
    others = select(r.id).where(*own, r.more_emails.is_not(None), func.instr(r.more_emails, line) > 0)
    return Narrowing(r.id.in_(found.union(others)), exact=True)


def _moment(column: ColumnElement[Any], operator: str, value: str) -> Narrowing:
    try:
        moment = parse_instant(value)
    except InvalidInput:
        return EVERYTHING
    compared = {
        "eq": column == moment,
        "gt": column > moment,
        "ge": column >= moment,
        "lt": column < moment,
        "le": column <= moment,
    }
    return Narrowing(compared[operator], exact=True) if operator in compared else EVERYTHING
