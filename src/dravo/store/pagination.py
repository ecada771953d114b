"""Pages of long lists, by keyset: the next page begins after the last row of this one, so that no row is
missed or shown twice.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from typing import Any, Generic, TypeVar

import orjson
from sqlalchemy import ColumnElement, Connection, Row, Select, UnaryExpression, func, literal, select, tuple_
from sqlalchemy.sql.operators import desc_op

from dravo.core.errors import InvalidInput

LARGEST = 500
R = TypeVar("R")
Item = TypeVar("Item")


@dataclass(frozen=True)
class PageRequest:
    """Which page to return.

    Attributes:
        after: the cursor that the page follows; None for the first page.
        count: the largest number of rows.
    """

    after: str | None = None
    count: int = 50


@dataclass(frozen=True)
class Page(Generic[Item]):
    """One page of a list.

    Attributes:
        items: the items of this page.
        total: the number of items of the whole list.
        next: the cursor of the following page, or None.
    """

    items: list[Item]
    total: int
    next: str | None


@dataclass(frozen=True, slots=True)
class ItemList(Generic[Item]):
    """A whole list that is never long."""

    items: list[Item]


@dataclass(frozen=True)
class PartlyCountedPage(Page[Item]):
    """A page of a list whose rows are slow to find.

    Attributes:
        whole: whether `total` is the number of all items; otherwise the count stopped there.
    """

    whole: bool


def page(
    connection: Connection,
    statement: Select[Any],
    keys: Sequence[ColumnElement[Any]],
    page_request: PageRequest,
    show: Callable[[Any], Item],
) -> Page[Item]:
    """Return one page of a list.

    Args:
        statement: the whole list, with its conditions and joins, without order.
        keys: the columns to sort by, all ascending or all descending (`column.desc()`); the last one is
            unique.
        page_request: which page.
        show: returns the item of a row.

    Raises:
        InvalidInput: if the cursor was not written by `write_cursor`.
    """
    rows, following = _rows(connection, statement, keys, page_request)
    # A first page without a following page is the whole list.
    total = _total(connection, statement, None) if following or page_request.after else len(rows)
    return Page([show(row) for row in rows], total, following)


def partly_counted_page(
    connection: Connection,
    statement: Select[Any],
    keys: Sequence[ColumnElement[Any]],
    page_request: PageRequest,
    show: Callable[[Any], Item],
    *,
    count_to: int,
) -> PartlyCountedPage[Item]:
    """Return one page of a list whose rows are slow to find.

    Args:
        statement, keys, page_request, show: as in `page`.
        count_to: the highest count to reach.

    Raises:
        InvalidInput: if the cursor was not written by `write_cursor`.
    """
    rows, following = _rows(connection, statement, keys, page_request)
    total = _total(connection, statement, count_to) if following or page_request.after else len(rows)
    items = [show(row) for row in rows]
    return PartlyCountedPage(items, min(total, count_to), following, whole=total <= count_to)


def _rows(
    connection: Connection,
    statement: Select[Any],
    keys: Sequence[ColumnElement[Any]],
    page_request: PageRequest,
) -> tuple[Sequence[Row[Any]], str | None]:
    """Return the rows of a page, and the cursor of the following page."""
    count = min(max(page_request.count, 1), LARGEST)
    columns = [key.element if _is_descending(key) else key for key in keys]
    if page_request.after:
        last = tuple_(*(literal(value) for value in read_cursor(page_request.after, len(keys))))
        place = tuple_(*columns)
        statement = statement.where(place < last if _is_descending(keys[0]) else place > last)
    named = [column.label(f"_key{number}") for number, column in enumerate(columns)]
    ordered = statement.add_columns(*named).order_by(*keys)
    rows = connection.execute(ordered.limit(count + 1)).all()
    if len(rows) <= count:
        return rows, None
    rows = rows[:count]
    return rows, write_cursor([getattr(rows[-1], f"_key{number}") for number in range(len(keys))])


def shown_as(kind: Callable[..., R], show: Callable[[R], Item]) -> Callable[[Any], Item]:
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


def read_cursor(cursor: str, length: int) -> list[str | int]:
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
