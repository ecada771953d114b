"""API tokens of operators."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, Select, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.second_factors.totp import has_factor


@dataclass(frozen=True)
class ApiToken:
    """An API token with the name of its operator.

    Attributes:
        parent_id: the token with which it was created, or None.
        permissions: the permissions to which it is limited; None for all of its operator.
    """

    id: str
    operator_id: str
    parent_id: str | None
    permissions: list[str] | None
    label: str
    prefix: str
    hash: str = field(repr=False)
    scope: str
    created_at: Instant
    expires_at: Instant | None
    last_used_at: Instant | None
    revoked_at: Instant | None
    operator_name: str


@dataclass(frozen=True)
class TokenOwner:
    """The operator of a valid token, with the token's limits."""

    token_id: str
    scope: str
    permissions: list[str] | None
    expires_at: Instant | None
    last_used_at: Instant | None
    id: str
    name: str
    kind: str
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[str] | None
    has_factor: bool
    only_by_source: bool


def _select() -> Select[Any]:
    o = t.operator.c
    return select(t.api_token, o.name.label("operator_name")).join(
        t.operator, o.id == t.api_token.c.operator_id
    )


def insert_token(connection: Connection, values: dict[str, Any]) -> None:
    """Insert a token."""
    connection.execute(insert(t.api_token).values(**values))


def get(connection: Connection, token_id: str) -> ApiToken | None:
    """Return a token, or None."""
    row = connection.execute(_select().where(t.api_token.c.id == token_id)).first()
    return None if row is None else ApiToken(*row)


def list_tokens(
    connection: Connection,
    page_request: PageRequest,
    show: Callable[[ApiToken], Item],
    operator_id: str | None = None,
) -> Page[Item]:
    """Return a page of the tokens of one operator or of all, newest first."""
    statement = _select()
    if operator_id is not None:
        statement = statement.where(t.api_token.c.operator_id == operator_id)
    keys = [t.api_token.c.id.desc()]
    return page(connection, statement, keys, page_request, shown_as(ApiToken, show))


def revoke_family(connection: Connection, token_id: str, now: Instant) -> None:
    """Revoke a token, with all tokens that were created with it."""
    k = t.api_token.c
    family = select(k.id).where(k.id == token_id).cte("family", recursive=True)
    family = family.union(select(k.id).join(family, k.parent_id == family.c.id))
    where = (k.id.in_(select(family.c.id)), k.revoked_at.is_(None))
    connection.execute(update(t.api_token).where(*where).values(revoked_at=now))


def revoke_of_operator(connection: Connection, operator_id: str, now: Instant) -> int:
    """Revoke all tokens of an operator; return their number."""
    k = t.api_token.c
    where = (k.operator_id == operator_id, k.revoked_at.is_(None))
    in_use = connection.execute(select(func.count()).select_from(t.api_token).where(*where)).scalar_one()
    connection.execute(update(t.api_token).where(*where).values(revoked_at=now))
    return int(in_use)


def owner_of(connection: Connection, token_hash: str) -> TokenOwner | None:
    """Return the operator of a token; None for an unknown or revoked one, or a disabled operator."""
    k, o = t.api_token.c, t.operator.c
    row = connection.execute(
        select(
            k.id,
            k.scope,
            k.permissions,
            k.expires_at,
            k.last_used_at,
            o.id,
            o.name,
            o.kind,
            o.masked,
            o.masked_names,
            o.masked_networks,
            o.hidden_areas,
            has_factor(o.id).label("has_factor"),
            o.only_by_source,
        )
        .join(t.operator, o.id == k.operator_id)
        .where(k.hash == token_hash, k.revoked_at.is_(None), o.disabled_at.is_(None))
    ).first()
    return None if row is None else TokenOwner(*tuple(row))


def note_use(connection: Connection, token_id: str, now: Instant) -> None:
    """Note that a token is in use."""
    connection.execute(update(t.api_token).where(t.api_token.c.id == token_id).values(last_used_at=now))
