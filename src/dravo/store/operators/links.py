"""Links of operators to identities at sources."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, exists, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.operators.operators import Operator, first_operator

USERS, DISABLED = "users", "disabled"


@dataclass(frozen=True)
class LinkedSource:
    """A link of an operator, with its source and the sign-in status of the source."""

    id: str
    subject: str
    created_at: Instant
    last_used_at: Instant
    source_key: str
    source_label: str
    status: str


@dataclass(frozen=True)
class OperatorLink:
    """A row of the table of links.

    Attributes:
        native_id: issuer and subject, with a line end between.
    """

    id: str
    operator_id: str
    source_id: str
    native_id: str
    subject: str
    created_at: Instant
    last_used_at: Instant


def list_links(connection: Connection, operator_id: str) -> list[LinkedSource]:
    """Return the links of an operator, by label of the source."""
    n, s, i = t.operator_link.c, t.source.c, t.source_sign_in.c
    statement = (
        select(n.id, n.subject, n.created_at, n.last_used_at, s.key, s.label, i.status)
        .join(t.source, s.id == n.source_id)
        .join(t.source_sign_in, i.source_id == n.source_id)
        .where(n.operator_id == operator_id)
        .order_by(s.label)
    )
    return [LinkedSource(*row) for row in connection.execute(statement)]


def sources_for_operators(connection: Connection) -> list[tuple[str, str]]:
    """Return (key, label) of the sources that serve operators, by label."""
    s, i = t.source.c, t.source_sign_in.c
    statement = (
        select(s.key, s.label)
        .join(t.source_sign_in, i.source_id == s.id)
        .where(i.serves != USERS)
        .order_by(s.label)
    )
    return [(row.key, row.label) for row in connection.execute(statement)]


def get(connection: Connection, link_id: str, operator_id: str) -> OperatorLink | None:
    """Return a link of an operator, or None."""
    n = t.operator_link.c
    statement = select(t.operator_link).where(n.id == link_id, n.operator_id == operator_id)
    row = connection.execute(statement).first()
    return None if row is None else OperatorLink(*row)


def is_linked(connection: Connection, operator_id: str, source_id: str) -> bool:
    """Return whether an operator is linked to a source."""
    n = t.operator_link.c
    statement = select(n.id).where(n.operator_id == operator_id, n.source_id == source_id)
    return connection.execute(statement).first() is not None


def number_of_others(connection: Connection, operator_id: str, link_id: str) -> int:
    """Return the number of an operator's other links."""
    n = t.operator_link.c
    where = (n.operator_id == operator_id, n.id != link_id)
    statement = select(func.count()).select_from(t.operator_link).where(*where)
    return int(connection.execute(statement).scalar_one())


def has_used_enabled(connection: Connection, operator_id: str) -> bool:
    """Return whether an operator has signed in through a source that is enabled for operators."""
    n, i = t.operator_link.c, t.source_sign_in.c
    used = (
        select(n.id)
        .join(t.source_sign_in, i.source_id == n.source_id)
        .where(
            n.operator_id == operator_id,
            n.last_used_at > n.created_at,
            i.status != DISABLED,
            i.serves != USERS,
        )
    )
    return connection.execute(used).first() is not None


def replace_link(connection: Connection, link: OperatorLink) -> None:
    """Insert a link in place of the operator's former link to the source.

    Raises:
        IntegrityError: if another operator is linked to the identity.
    """
    n = t.operator_link.c
    former = (n.operator_id == link.operator_id, n.source_id == link.source_id)
    connection.execute(delete(t.operator_link).where(*former))
    connection.execute(insert(t.operator_link).values(**vars(link)))


def delete_link(connection: Connection, link_id: str) -> None:
    """Delete a link."""
    connection.execute(delete(t.operator_link).where(t.operator_link.c.id == link_id))


def delete_of_source(connection: Connection, source_id: str) -> None:
    """Delete all links to a source."""
    connection.execute(delete(t.operator_link).where(t.operator_link.c.source_id == source_id))


def note_use(connection: Connection, operator_id: str, source_id: str, now: Instant) -> None:
    """Note that an operator signed in through a link."""
    n = t.operator_link.c
    where = (n.operator_id == operator_id, n.source_id == source_id)
    connection.execute(update(t.operator_link).where(*where).values(last_used_at=now))


def operator_of(connection: Connection, source_id: str, native_id: str) -> Operator | None:
    """Return the enabled operator who is linked to an identity, or None."""
    n, o = t.operator_link.c, t.operator.c
    linked = select(n.operator_id).where(n.source_id == source_id, n.native_id == native_id)
    return first_operator(connection, o.id.in_(linked), o.disabled_at.is_(None))


def locked_out_without(connection: Connection, source_id: str) -> list[str]:
    """Return the names of operators who could not sign in without a source.

    They have neither password sign-in nor recovery codes nor another enabled source.
    """
    o, n, i, r = t.operator.c, t.operator_link.c, t.source_sign_in.c, t.recovery_code.c
    other: Any = (
        select(n.id)
        .join(t.source_sign_in, i.source_id == n.source_id)
        .where(n.operator_id == o.id, n.source_id != source_id, i.status != DISABLED, i.serves != USERS)
    )
    codes = select(r.hash).where(r.owner_id == o.id, r.used_at.is_(None))
    without = (o.only_by_source.is_(True), o.disabled_at.is_(None), ~exists(other), ~exists(codes))
    return list(connection.execute(select(o.name).where(*without).order_by(o.name)).scalars())
