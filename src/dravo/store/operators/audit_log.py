"""Entries of the audit log; they are only appended."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, insert, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as

_LAST = select(t.audit.c.hmac).order_by(t.audit.c.id.desc()).limit(1)


@dataclass(frozen=True)
class AuditEntry:
    """An entry of the audit log.

    Attributes:
        personal: values about a user, outside the chain; None without any, or once they were erased.
        personal_digest: the keyed digest of these values, inside the chain.
        hmac: the HMAC over the entry and the HMAC of the entry before.
    """

    id: int
    at: Instant
    operator_id: str | None
    operator_name: str
    action: str
    object_kind: str
    object_id: str
    details: dict[str, Any]
    personal: dict[str, Any] | None
    personal_digest: str
    hmac: str


def last_hmac(connection: Connection) -> str:
    """Return the HMAC of the last entry; "" for an empty log."""
    return str(connection.execute(_LAST).scalar() or "")


def append(connection: Connection, values: dict[str, Any]) -> None:
    """Append an entry."""
    connection.execute(insert(t.audit).values(**values))


def get(connection: Connection, entry_id: int) -> AuditEntry | None:
    """Return an entry, or None."""
    row = connection.execute(select(t.audit).where(t.audit.c.id == entry_id)).first()
    return None if row is None else AuditEntry(*row)


def all_entries(connection: Connection) -> Iterator[AuditEntry]:
    """Yield all entries in their order."""
    for row in connection.execute(select(t.audit).order_by(t.audit.c.id)):
        yield AuditEntry(*row)


def list_entries(
    connection: Connection,
    page_request: PageRequest,
    show: Callable[[AuditEntry], Item],
    object_kind: str | None = None,
    object_id: str | None = None,
) -> Page[Item]:
    """Return a page of the log, newest first; of one kind of object, or of one object."""
    statement = select(t.audit)
    if object_kind:
        statement = statement.where(t.audit.c.object_kind == object_kind)
    if object_id:
        statement = statement.where(t.audit.c.object_id == object_id)
    keys = [t.audit.c.id.desc()]
    return page(connection, statement, keys, page_request, shown_as(AuditEntry, show))
