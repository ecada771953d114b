"""Recovery codes of operators, each good once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, Select, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


def replace_codes(connection: Connection, operator_id: str, hashes: Iterable[str]) -> None:
    """Replace the recovery codes of an operator."""
    delete_codes(connection, operator_id)
    rows = [{"operator_id": operator_id, "hash": each} for each in hashes]
    connection.execute(insert(t.operator_recovery), rows)


def delete_codes(connection: Connection, operator_id: str) -> None:
    """Delete the recovery codes of an operator."""
    connection.execute(delete(t.operator_recovery).where(t.operator_recovery.c.operator_id == operator_id))


def use_code(connection: Connection, operator_id: str, code_hash: str, now: Instant) -> bool:
    """Mark a recovery code as used; return False for an unknown or used code."""
    where = (*_unused(operator_id), t.operator_recovery.c.hash == code_hash)
    return connection.execute(update(t.operator_recovery).where(*where).values(used_at=now)).rowcount == 1


def has_code(connection: Connection, operator_id: str, code_hash: str) -> bool:
    """Return whether an operator has an unused recovery code."""
    r = t.operator_recovery.c
    statement = select(r.hash).where(*_unused(operator_id), r.hash == code_hash)
    return connection.execute(statement).first() is not None


def number_left(connection: Connection, operator_id: str) -> int:
    """Return the number of unused recovery codes of an operator."""
    statement = select(func.count()).select_from(t.operator_recovery).where(*_unused(operator_id))
    return int(connection.execute(statement).scalar_one())


def operators_with_codes() -> Select[str]:
    """Return the select of the IDs of operators with unused recovery codes."""
    r = t.operator_recovery.c
    return select(r.operator_id).where(r.used_at.is_(None))


def _unused(operator_id: str) -> tuple[Any, Any]:
    r = t.operator_recovery.c
    return r.operator_id == operator_id, r.used_at.is_(None)
