"""Statements that run for every pushed person, compiled once and handed straight to the driver.

The library's own way of executing costs several times what such a statement itself does. Rows, types and errors are the same as
by that way.
"""

from __future__ import annotations

from collections import namedtuple
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, Insert, Select
from sqlalchemy.exc import IntegrityError, OperationalError

Change = Callable[[Any], Any]


class Quick:
    """One statement with named parameters; a select, an insert of one row, or an update."""

    def __init__(self, statement: Any) -> None:
        self.statement = statement
        self._made: tuple[str, list[tuple[str, Change | None]], dict[str, Any]] | None = None
        self._row: Any = None
        self._shown: list[tuple[int, Change]] = []

    def first(self, connection: Connection, given: Mapping[str, Any]) -> Any:
        """Return the first row, or None."""
        row = self._run(connection, given).fetchone()
        return None if row is None else self._made_of(row)

    def every(self, connection: Connection, given: Mapping[str, Any]) -> list[Any]:
        """Return all rows."""
        return [self._made_of(row) for row in self._run(connection, given).fetchall()]

    def _made_of(self, row: Any) -> Any:
        if self._shown:
            row = list(row)
            for place, change in self._shown:
                row[place] = change(row[place])
        return self._row(*row)

    def change(self, connection: Connection, given: Mapping[str, Any]) -> int:
        """Carry out a change and return how many rows it touched."""
        return int(self._run(connection, given).rowcount)

    def _run(self, connection: Connection, given: Mapping[str, Any]) -> Any:
        text, places, fixed = self._made or self._compile(connection, given)
        values = []
        for name, change in places:
            value = given[name] if name in given else fixed[name]
            values.append(change(value) if change else value)
        driver = connection.connection.cursor()
        wrong = connection.dialect.loaded_dbapi
        try:
            driver.execute(text, values)
        except wrong.IntegrityError as refused:
            raise IntegrityError(text, values, refused) from refused
        except wrong.OperationalError as failed:
            raise OperationalError(text, values, failed) from failed
        return driver

    def _compile(self, connection: Connection, given: Mapping[str, Any]) -> tuple[str, list[tuple[str, Change | None]], dict[str, Any]]:
        dialect = connection.dialect
        keys: Sequence[str] | None = list(given) if isinstance(self.statement, Insert) else None
        compiled: Any = self.statement.compile(dialect=dialect, column_keys=keys)
        places = []
        for name in compiled.positiontup:
            kind = compiled.binds[name].type.dialect_impl(dialect)
            places.append((name, kind.bind_processor(dialect)))
        if isinstance(self.statement, Select):
            columns = list(self.statement.selected_columns)
            self._row = namedtuple("Row", [column.key for column in columns])  # type: ignore[misc]
            for place, column in enumerate(columns):
                change = column.type.dialect_impl(dialect).result_processor(dialect, None)
                if change:
                    self._shown.append((place, change))
        self._made = (str(compiled), places, dict(compiled.params))
        return self._made
