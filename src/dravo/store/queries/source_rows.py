"""One source's own rows, of records or of groups: a page of them, all of them, or some by id."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, func, literal, select, tuple_

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
    ),
}
# What can be sorted by in SQL: columns that are never null and kept as they are compared.
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
CHUNK = 500


@dataclass(frozen=True)
class Order:
    """In which order a list goes: by a column, then by id; and behind which (value, id) it goes on (None:
    from the beginning).
    """

    column: Any
    descending: bool = False
    after: tuple[str, str] | None = None


def _of_source(table: Table, source_id: str, connection_type: str, condition: Any) -> list[Any]:
    """Return the conditions for what a source has at present; `condition` may be None."""
    where = [
        table.c.source_id == source_id,
        table.c.connection_type == connection_type,
        table.c.gone_at.is_(None),
    ]
    return where if condition is None else [*where, condition]


def count(connection: Connection, table: Table, source_id: str, connection_type: str, condition: Any) -> int:
    """Return how many of a source's rows meet an SQL condition (None for all)."""
    where = _of_source(table, source_id, connection_type, condition)
    return int(connection.execute(select(func.count()).select_from(table).where(*where)).scalar_one())


def list_rows(
    connection: Connection,
    table: Table,
    source_id: str,
    connection_type: str,
    condition: Any,
    order: Order,
    offset: int,
    most: int,
    total: int,
) -> list[tuple[Any, Any]]:
    """Return one page of a source's rows that meet an SQL condition, each with the value that it is sorted
    by.

    Args:
        total: how many rows meet it. A few are sorted here: a database that is asked for an order may go
            through everyone in that
            order instead of taking the index that finds the few.
    """
    keys = (order.column, table.c.id)
    statement = select(*COLUMNS[table], order.column.label("_sorted_by")).where(
        *_of_source(table, source_id, connection_type, condition)
    )
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


def each(
    connection: Connection, table: Table, source_id: str, connection_type: str, condition: Any
) -> Iterator[Any]:
    """Yield a source's rows that meet an SQL condition, by id."""
    where = _of_source(table, source_id, connection_type, condition)
    yield from connection.execute(
        select(*COLUMNS[table]).where(*where).order_by(table.c.id).execution_options(yield_per=500)
    )


def ids(
    connection: Connection, table: Table, source_id: str, connection_type: str, condition: Any
) -> list[str]:
    """Return the ids of a source's rows that meet an SQL condition."""
    where = _of_source(table, source_id, connection_type, condition)
    return list(connection.execute(select(table.c.id).where(*where).order_by(table.c.id)).scalars())


def some(connection: Connection, table: Table, wanted: Sequence[str]) -> dict[str, Any]:
    """Return rows by id."""
    found: dict[str, Any] = {}
    for start in range(0, len(wanted), CHUNK):
        statement = select(*COLUMNS[table]).where(table.c.id.in_(wanted[start : start + CHUNK]))
        found.update({row.id: row for row in connection.execute(statement)})
    return found
