"""Pages of long lists, by keyset: the next page begins after the last row of this one, so that no row is
missed or shown twice.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from typing import Any, TypeVar

import orjson
from sqlalchemy import ColumnElement, Connection, Select, UnaryExpression, func, literal, select, tuple_
from sqlalchemy.sql.operators import desc_op

from dravo.core.errors import InvalidInput

LARGEST = 500
R = TypeVar("R")


@dataclass(frozen=True)
class PageRequest:
    """Which page to return.

    Attributes:
        after: the cursor that the page follows; None for the first page.
        count: the largest number of rows.
    """

    after: str | None = None
    count: int = 50


def page(
    connection: Connection,
    statement: Select[Any],
    keys: Sequence[ColumnElement[Any]],
    page_request: PageRequest,
    show: Callable[[Any], dict[str, Any]],
    *,
    count_to: int | None = None,
) -> dict[str, Any]:
    """Return one page as {"items", "total", "next"}; `next` is the cursor of the following page, or None.

    With `count_to` also "whole": whether `total` is the number of all rows, or only as far as was counted.

    Args:
        statement: the whole list, with its conditions and joins, without order.
        keys: the columns to sort by, all ascending or all descending (`column.desc()`); the last one is
            unique.
        page_request: which page.
        show: returns the item of a row.
        count_to: the highest count to reach, for a list whose rows are slow to find.

    Raises:
        InvalidInput: if the cursor was not written by `write_cursor`.
    """
    count = min(max(page_request.count, 1), LARGEST)
    whole_list = statement
    columns = [key.element if _is_descending(key) else key for key in keys]
    if page_request.after:
        last = tuple_(*(literal(value) for value in read_cursor(page_request.after, len(keys))))
        place = tuple_(*columns)
        statement = statement.where(place < last if _is_descending(keys[0]) else place > last)
    named = [column.label(f"_key{number}") for number, column in enumerate(columns)]
    ordered = statement.add_columns(*named).order_by(*keys)
    rows = connection.execute(ordered.limit(count + 1)).all()
    following = None
    if len(rows) > count:
        rows = rows[:count]
        following = write_cursor([getattr(rows[-1], f"_key{number}") for number in range(len(keys))])
    # A first page without a following page is the whole list.
    total = _total(connection, whole_list, count_to) if following or page_request.after else len(rows)
    found = {"items": [show(row) for row in rows], "total": total, "next": following}
    if count_to is not None:
        found |= {"total": min(total, count_to), "whole": total <= count_to}
    return found


def shown_as(kind: Callable[..., R], show: Callable[[R], dict[str, Any]]) -> Callable[[Any], dict[str, Any]]:
    """Return `show` for the rows of a page.

    Args:
        kind: a dataclass whose fields are the first columns of the select, in order. The columns after them
            are the sort keys of the page.
        show: returns the item of such an object.
    """
    number = len(fields(kind))  # type: ignore[arg-type]
    return lambda row: show(kind(*row[:number]))


def _is_descending(key: Any) -> bool:
    return isinstance(key, UnaryExpression) and key.modifier is desc_op


def _total(connection: Connection, statement: Select[Any], count_to: int | None) -> int:
    counted = statement.order_by(None)
    if count_to is not None:
        # Without its columns, so that an index alone can answer; with a limit, the planner does not drop them
        # itself.
        counted = counted.with_only_columns(literal(1), maintain_column_froms=True).limit(count_to + 1)
    return int(connection.execute(select(func.count()).select_from(counted.subquery())).scalar_one())


def write_cursor(values: Sequence[Any]) -> str:
    """Return the cursor of a place in a list: the keys of the last row before it."""
    return base64.urlsafe_b64encode(orjson.dumps(list(values))).decode().rstrip("=")


def read_cursor(cursor: str, length: int) -> list[Any]:
    """Return the keys that a cursor holds.

    Raises:
        InvalidInput: for another text.
    """
    try:
        values = orjson.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (binascii.Error, ValueError):
        values = None
    if (
        not isinstance(values, list)
        or len(values) != length
        or not all(isinstance(each, str | int) for each in values)
    ):
        raise InvalidInput(
            "'after' is not a valid cursor.", "Use the value of 'next' from the previous page.", "after"
        )
    return values
