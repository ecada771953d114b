"""Organization settings by name."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, insert, select

from dravo.store import tables as t


def values(connection: Connection) -> dict[str, object]:
    """Return the stored values by name; a setting that was never changed is not stored."""
    return {row.name: row.value for row in connection.execute(select(t.setting))}


def value(connection: Connection, name: str) -> object:
    """Return the stored value of a setting, or None."""
    return connection.execute(select(t.setting.c.value).where(t.setting.c.name == name)).scalar()


def replace_value(connection: Connection, name: str, new: Any) -> None:
    """Store the value of a setting."""
    connection.execute(delete(t.setting).where(t.setting.c.name == name))
    connection.execute(insert(t.setting).values(name=name, value=new))
