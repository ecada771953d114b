"""SCIM tokens of sources."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from sqlalchemy import Connection, bindparam, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as


@dataclass(frozen=True)
class StoredToken:
    """A SCIM token; its text is not stored.

    Attributes:
        kinds: the resources that it allows: "users", "groups" or "both".
        access: "read" or "write".
    """

    id: str
    source_id: str
    label: str
    prefix: str
    hash: str = field(repr=False)
    created_at: Instant
    expires_at: Instant | None
    last_used_at: Instant | None
    revoked_at: Instant | None
    kinds: str
    access: str
    created_by: str | None


_BY_HASH = (
    select(t.source_token)
    .join(t.source, t.source.c.id == t.source_token.c.source_id)
    .where(t.source_token.c.hash == bindparam("hash"), t.source.c.key == bindparam("key"))
)


def by_hash(connection: Connection, source_key: str, token_hash: str) -> StoredToken | None:
    """Return the token of a source with a hash, or None."""
    row = connection.execute(_BY_HASH, {"hash": token_hash, "key": source_key}).first()
    return None if row is None else StoredToken(*row)


def get(connection: Connection, source_id: str, token_id: str) -> StoredToken | None:
    """Return a token of a source, or None."""
    k = t.source_token.c
    row = connection.execute(select(t.source_token).where(k.id == token_id, k.source_id == source_id)).first()
    return None if row is None else StoredToken(*row)


def insert_token(connection: Connection, token: StoredToken) -> None:
    """Insert a token."""
    connection.execute(insert(t.source_token).values(**token.__dict__))


def revoke(connection: Connection, token_id: str, now: Instant) -> None:
    """Revoke a token."""
    connection.execute(update(t.source_token).where(t.source_token.c.id == token_id).values(revoked_at=now))


def note_use(connection: Connection, token_id: str, now: Instant) -> None:
    """Store the time of a use."""
    connection.execute(update(t.source_token).where(t.source_token.c.id == token_id).values(last_used_at=now))


def list_tokens(
    connection: Connection,
    source_id: str,
    page_request: PageRequest,
    show: Callable[[StoredToken], Item],
) -> Page[Item]:
    """Return a page of a source's tokens, newest first."""
    statement = select(t.source_token).where(t.source_token.c.source_id == source_id)
    return page(
        connection, statement, [t.source_token.c.id.desc()], page_request, shown_as(StoredToken, show)
    )


def number_of_valid(connection: Connection, source_id: str, now: Instant) -> int:
    """Return how many tokens of a source are neither revoked nor expired."""
    k = t.source_token.c
    valid = (
        k.source_id == source_id,
        k.revoked_at.is_(None),
        or_(k.expires_at.is_(None), k.expires_at > now),
    )
    return int(
        connection.execute(select(func.count()).select_from(t.source_token).where(*valid)).scalar_one()
    )
