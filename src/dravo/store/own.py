"""One source's own rows, of records or of groups: listed by page, or one after the other."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sqlalchemy import Connection, Table, func, select

from dravo.store import tables as t

COLUMNS: dict[Table, tuple[Any, ...]] = {
    t.record: (t.record.c.id, t.record.c.user_id, t.record.c.data, t.record.c.version, t.record.c.created_at, t.record.c.modified_at),
    t.group: (t.group.c.id, t.group.c.display_name, t.group.c.data, t.group.c.version, t.group.c.created_at, t.group.c.modified_at),
}


def _of_source(table: Table, source_id: str, channel: str, condition: Any) -> list[Any]:
    """Return the conditions for what a source has at present; `condition` may be None."""
    where = [table.c.source_id == source_id, table.c.channel == channel, table.c.gone_at.is_(None)]
    return where if condition is None else [*where, condition]


def listing(connection: Connection, table: Table, source_id: str, channel: str, condition: Any, offset: int, count: int) -> tuple[int, list[Any]]:
    """Return how many of a source's rows meet an SQL condition (None for all), and one page of them by id."""
    where = _of_source(table, source_id, channel, condition)
    total = connection.execute(select(func.count()).select_from(table).where(*where)).scalar_one()
    if count <= 0:
        return total, []
    rows = connection.execute(select(*COLUMNS[table]).where(*where).order_by(table.c.id).offset(offset).limit(count))
    return total, list(rows)


def each(connection: Connection, table: Table, source_id: str, channel: str, condition: Any) -> Iterator[Any]:
    """Yield a source's rows that meet an SQL condition, by id."""
    where = _of_source(table, source_id, channel, condition)
    yield from connection.execute(select(*COLUMNS[table]).where(*where).order_by(table.c.id).execution_options(yield_per=500))
