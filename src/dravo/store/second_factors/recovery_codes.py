"""Recovery codes, each good once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, Select, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


def replace_codes(connection: Connection, owner_id: str, hashes: Iterable[str]) -> None:
    """Replace the recovery codes of an owner."""
    delete_codes(connection, owner_id)
    rows = [{"owner_id": owner_id, "hash": each} for each in hashes]
    connection.execute(insert(t.recovery_code), rows)


def delete_codes(connection: Connection, owner_id: str) -> None:
    """Delete the recovery codes of an owner."""
    connection.execute(delete(t.recovery_code).where(t.recovery_code.c.owner_id == owner_id))


def use_code(connection: Connection, owner_id: str, code_hash: str, now: Instant) -> bool:
    """Mark a recovery code as used; return False for an unknown or used code."""
    where = (*_unused(owner_id), t.recovery_code.c.hash == code_hash)
    return connection.execute(update(t.recovery_code).where(*where).values(used_at=now)).rowcount == 1


def has_code(connection: Connection, owner_id: str, code_hash: str) -> bool:
    """Return whether an owner has an unused recovery code."""
    r = t.recovery_code.c
    statement = select(r.hash).where(*_unused(owner_id), r.hash == code_hash)
    return connection.execute(statement).first() is not None


def number_left(connection: Connection, owner_id: str) -> int:
    """Return the number of unused recovery codes of an owner."""
    statement = select(func.count()).select_from(t.recovery_code).where(*_unused(owner_id))
    return int(connection.execute(statement).scalar_one())


def owners_with_codes() -> Select[str]:
    """Return the select of the IDs of owners with unused recovery codes."""
    r = t.recovery_code.c
    return select(r.owner_id).where(r.used_at.is_(None))


def _unused(owner_id: str) -> tuple[Any, Any]:
    r = t.recovery_code.c
    return r.owner_id == owner_id, r.used_at.is_(None)
