"""The parts of all tables.

Typed columns for what is searched or joined, JSON for the rest; instants are texts of one width.
"""

from __future__ import annotations

from typing import Any

import orjson
from sqlalchemy import (
    Column,
    ForeignKey,
    Index,
    MetaData,
    String,
    Text,
    TypeDecorator,
    text,
)

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s_%(referred_table_name)s",
        "pk": "pk_%(table_name)s",
    }
)


class Json(TypeDecorator[Any]):
    """A JSON value, stored as text."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        """Return the stored text."""
        return None if value is None else orjson.dumps(value).decode()

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        """Return the value of a stored text."""
        return None if value is None else orjson.loads(value)


def own_id() -> Column[str]:
    """Return the column of a row's own id."""
    return Column("id", String(36), primary_key=True)


def to(table: str, name: str | None = None, *, nullable: bool = False, index: bool = False) -> Column[str]:
    """Return a column with the id of a row of another table."""
    return Column(
        name or f"{table}_id", String(36), ForeignKey(f"{table}.id"), nullable=nullable, index=index
    )


def at(name: str, *, nullable: bool = True) -> Column[str]:
    """Return a column with an instant."""
    return Column(name, String(27), nullable=nullable)


def one_of(name: str, *columns: Any, where: str) -> Index:
    """Return a unique index over the rows that meet a condition."""
    return Index(name, *columns, unique=True, sqlite_where=text(where), postgresql_where=text(where))


def some_of(name: str, *columns: Any, where: str) -> Index:
    """Return an index over the rows that meet a condition."""
    return Index(name, *columns, sqlite_where=text(where), postgresql_where=text(where))
