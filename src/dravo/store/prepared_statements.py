"""Statements that run for every pushed user, compiled once and given directly to the driver.

SQLAlchemy's execution costs several times as much as such a statement. Rows, types and errors are the same.
"""

from __future__ import annotations

from collections import namedtuple
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Insert, Select
from sqlalchemy.exc import IntegrityError, OperationalError

Change = Callable[[Any], Any]


@dataclass(frozen=True)
class Compiled:
    """A statement as the driver takes it: text, parameters in order with their conversion, and the class of
    its rows.
    """

    text: str
    places: tuple[tuple[str, Change | None], ...]
    fixed: Mapping[str, Any]
    row: Any
    shown: tuple[tuple[int, Change], ...]


class PreparedStatement:
    """One statement with named parameters; a select, an insert of one row, or an update."""

    def __init__(self, statement: Any) -> None:
        self.statement = statement
        # Assigned in one step, because several threads can compile it at the same time.
        self._compiled: Compiled | None = None

    def first(self, connection: Connection, given: Mapping[str, Any]) -> Any:
        """Return the first row, or None."""
        compiled, driver = self._run(connection, given)
        row = driver.fetchone()
        return None if row is None else _made_of(compiled, row)

    def every(self, connection: Connection, given: Mapping[str, Any]) -> list[Any]:
        """Return all rows."""
        compiled, driver = self._run(connection, given)
        return [_made_of(compiled, row) for row in driver.fetchall()]

    def change(self, connection: Connection, given: Mapping[str, Any]) -> int:
        """Carry out a change and return how many rows it touched."""
        return int(self._run(connection, given)[1].rowcount)

    def change_many(self, connection: Connection, given: Sequence[Mapping[str, Any]]) -> int:
        """Carry out a change for each of many, all with the same names, and return how many rows were
        touched.
        """
        if not given:
            return 0
        compiled = self._compiled
        if compiled is None:
            compiled = self._compiled = self._compile(connection, given[0])
        columns = []
        for name, change in compiled.places:
            if name in given[0]:
                column = [each[name] for each in given]
                columns.append([change(value) for value in column] if change else column)
            else:
                fixed = compiled.fixed[name]
                columns.append([change(fixed) if change else fixed] * len(given))
        driver = connection.connection.cursor()
        wrong = connection.dialect.loaded_dbapi
        try:
            driver.executemany(compiled.text, list(zip(*columns, strict=True)))
        except wrong.IntegrityError as refused:
            raise IntegrityError(compiled.text, None, refused) from refused
        except wrong.OperationalError as failed:
            raise OperationalError(compiled.text, None, failed) from failed
        return int(driver.rowcount)

    def _run(self, connection: Connection, given: Mapping[str, Any]) -> tuple[Compiled, Any]:
        compiled = self._compiled
        if compiled is None:
            compiled = self._compiled = self._compile(connection, given)
        values = []
        for name, change in compiled.places:
            value = given[name] if name in given else compiled.fixed[name]
            values.append(change(value) if change else value)
        driver = connection.connection.cursor()
        wrong = connection.dialect.loaded_dbapi
        try:
            driver.execute(compiled.text, values)
        except wrong.IntegrityError as refused:
            raise IntegrityError(compiled.text, values, refused) from refused
        except wrong.OperationalError as failed:
            raise OperationalError(compiled.text, values, failed) from failed
        return compiled, driver

    def _compile(self, connection: Connection, given: Mapping[str, Any]) -> Compiled:
        dialect = connection.dialect
        keys: Sequence[str] | None = list(given) if isinstance(self.statement, Insert) else None
        made: Any = self.statement.compile(dialect=dialect, column_keys=keys)
        places = tuple(
            (name, made.binds[name].type.dialect_impl(dialect).bind_processor(dialect))
            for name in made.positiontup
        )
        form: Any = None
        shown = []
        if isinstance(self.statement, Select):
            columns = list(self.statement.selected_columns)
            form = _form([str(column.key) for column in columns])
            for place, column in enumerate(columns):
                change = column.type.dialect_impl(dialect).result_processor(dialect, None)
                if change:
                    shown.append((place, change))
        return Compiled(str(made), places, dict(made.params), form, tuple(shown))


def _form(names: list[str]) -> Any:
    """Return a class for rows with named columns."""
    made: Any = namedtuple
    return made("Row", names)


def _made_of(compiled: Compiled, row: Any) -> Any:
    if compiled.shown:
        row = list(row)
        for place, change in compiled.shown:
            row[place] = change(row[place])
    return compiled.row(*row)
