"""The records and groups of one source: a page of them, all of them, or some by ID."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, Table, func, literal, select, tuple_

from dravo.store import tables as t

COLUMNS: dict[Table, tuple[Any, ...]] = {
    t.record: (
        t.record.c.id,
        t.record.c.user_id,
        t.record.c.data,
        t.record.c.version,
        t.record.c.created_at,
        t.record.c.modified_at,
    ),
    t.group: (
        t.group.c.id,
        t.group.c.display_name,
        t.group.c.data,
        t.group.c.version,
        t.group.c.created_at,
        t.group.c.modified_at,
        t.group.c.left_out,
        t.group.c.waiting,
    ),
}
# Columns to sort by in SQL: they are never null and stored in the compared form.
SORTABLE: dict[Table, dict[str, Any]] = {
    t.record: {"userName": t.record.c.user_name_key},
    t.group: {"displayName": t.group.c.display_name_key},
}
for _table, _columns in SORTABLE.items():
    _columns |= {
        "id": _table.c.id,
        "meta.created": _table.c.created_at,
        "meta.lastModified": _table.c.modified_at,
    }
# The table of a SCIM resource type.
TABLES: dict[str, Table] = {"User": t.record, "Group": t.group}
CHUNK = 500


@dataclass(frozen=True)
class Order:
    """How a list is sorted.

    Attributes:
        column: the column to sort by, before the ID.
        descending: the highest value first.
        after: the (value, ID) that the page follows; None for the first page.
    """

    column: Any
    descending: bool = False
    after: tuple[str, str] | None = None


@dataclass(frozen=True)
class Selection:
    """Present rows of one source.

    Attributes:
        table: `t.record` or `t.group`.
        source_id, connection_type: who reports the rows.
        condition: an SQL condition that the rows meet; None for all.
    """

    table: Table
    source_id: str
    connection_type: str
    condition: Any = None

    def conditions(self) -> list[ColumnElement[bool]]:
        """Return the conditions for a WHERE clause."""
        where = [
            self.table.c.source_id == self.source_id,
            self.table.c.connection_type == self.connection_type,
            self.table.c.deleted_at.is_(None),
        ]
        return where if self.condition is None else [*where, self.condition]


def count(connection: Connection, selection: Selection) -> int:
    """Return how many rows a selection has."""
    statement = select(func.count()).select_from(selection.table).where(*selection.conditions())
    return int(connection.execute(statement).scalar_one())


def list_rows(
    connection: Connection, selection: Selection, order: Order, offset: int, most: int, total: int
) -> list[tuple[Any, Any]]:
    """Return one page of a selection, each row with the value that it is sorted by.

    Args:
        connection: a reading connection.
        selection: the rows.
        order: how they are sorted, and after which row the page begins.
        offset: how many rows to skip.
        most: the largest number of rows to return.
        total: how many rows the selection has. A few rows are sorted here: asked for an order, the database
            may walk through all rows in that order instead of using the index that finds the few.
    """
    table = selection.table
    keys = (order.column, table.c.id)
    statement = select(*COLUMNS[table], order.column.label("_sorted_by")).where(*selection.conditions())
    if order.after is not None:
        last = tuple_(*(literal(value) for value in order.after))
        statement = statement.where(tuple_(*keys) < last if order.descending else tuple_(*keys) > last)
    if total <= CHUNK:
        few = sorted(
            connection.execute(statement), key=lambda row: (row._sorted_by, row.id), reverse=order.descending
        )
        return [(row, row._sorted_by) for row in few[offset : offset + most]]
    ordered = statement.order_by(*(key.desc() if order.descending else key.asc() for key in keys))
    return [(row, row._sorted_by) for row in connection.execute(ordered.offset(offset).limit(most))]


def each(connection: Connection, selection: Selection) -> Iterator[Any]:
    """Yield the rows of a selection, by ID."""
    table = selection.table
    yield from connection.execute(
        select(*COLUMNS[table])
        .where(*selection.conditions())
        .order_by(table.c.id)
        .execution_options(yield_per=500)
    )


def ids(connection: Connection, selection: Selection) -> list[str]:
    """Return the IDs of the rows of a selection, in order."""
    table = selection.table
    return list(
        connection.execute(select(table.c.id).where(*selection.conditions()).order_by(table.c.id)).scalars()
    )


def some(connection: Connection, table: Table, wanted: Sequence[str]) -> dict[str, Any]:
    """Return rows by ID."""
    found: dict[str, Any] = {}
    for start in range(0, len(wanted), CHUNK):
        statement = select(*COLUMNS[table]).where(table.c.id.in_(wanted[start : start + CHUNK]))
        found.update({row.id: row for row in connection.execute(statement)})
    return found
