"""Reads operators."""

from __future__ import annotations

from sqlalchemy import Connection, func, select

from dravo.store import tables as t


def number_without_second_factor(connection: Connection) -> int:
    """Return the number of enabled operators without a second factor."""
    o = t.operator.c
    statement = select(func.count()).select_from(t.operator)
    statement = statement.where(o.factor_secret.is_(None), o.disabled_at.is_(None))
    return int(connection.execute(statement).scalar_one())
