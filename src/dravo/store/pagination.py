"""Pages of long lists by keyset: the next page begins behind the last row of this one, so nothing is missed
or shown twice.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import ColumnElement, Connection, Select, func, literal, select, tuple_

from dravo.core.errors import InvalidInput

LARGEST = 500


@dataclass(frozen=True)
class Ask:
    """Which page: behind which cursor (None: the first), and how many rows at most."""

    after: str | None = None
    count: int = 50


def page(
    connection: Connection,
    statement: Select[Any],
    keys: Sequence[ColumnElement[Any]],
    ask: Ask,
    show: Callable[[Any], dict[str, Any]],
    *,
    newest_first: bool = False,
    count_to: int | None = None,
) -> dict[str, Any]:
    """Return one page as {"items", "total", "next"}; `next` is the cursor for the page behind it, or None.

    With `count_to` also "whole": whether `total` is all there are, or only as far as was counted.

    Args:
        statement: the whole list, with its conditions and joins, without order.
        keys: columns to sort by; the last one unique.
        ask: which page.
        show: makes an item out of a row.
        newest_first: whether to go down instead of up.
        count_to: how far to count at the most, for a list of which every row costs something to find.

    Raises:
        InvalidInput: if the cursor is none of ours.
    """
    count = min(max(ask.count, 1), LARGEST)
    whole_list = statement
    if ask.after:
        last = tuple_(*(literal(value) for value in read_cursor(ask.after, len(keys))))
        statement = statement.where(tuple_(*keys) < last if newest_first else tuple_(*keys) > last)
    named = [key.label(f"_key{number}") for number, key in enumerate(keys)]
    ordered = statement.add_columns(*named).order_by(
        *(key.desc() if newest_first else key.asc() for key in keys)
    )
    rows = connection.execute(ordered.limit(count + 1)).all()
    following = None
    if len(rows) > count:
        rows = rows[:count]
        following = write_cursor([getattr(rows[-1], f"_key{number}") for number in range(len(keys))])
    # A first page that nothing follows is the whole list.
    total = _total(connection, whole_list, count_to) if following or ask.after else len(rows)
    found = {"items": [show(row) for row in rows], "total": total, "next": following}
    if count_to is not None:
        found |= {"total": min(total, count_to), "whole": total <= count_to}
    return found


def _total(connection: Connection, statement: Select[Any], count_to: int | None) -> int:
    counted = statement.order_by(None)
    if count_to is not None:
        # Without its columns: a limit keeps the planner from dropping them by itself, and an index may
        # answer alone.
        counted = counted.with_only_columns(literal(1), maintain_column_froms=True).limit(count_to + 1)
    return int(connection.execute(select(func.count()).select_from(counted.subquery())).scalar_one())


def write_cursor(values: Sequence[Any]) -> str:
    """Return the cursor of a place in a list: the keys of the last row before it."""
    return base64.urlsafe_b64encode(orjson.dumps(list(values))).decode().rstrip("=")


def read_cursor(cursor: str, length: int) -> list[Any]:
    """Return the keys that a cursor holds.

    Raises:
        InvalidInput: if it is none of ours.
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
