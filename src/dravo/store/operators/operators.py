"""Operators, and the applications of application owners."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, delete, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.second_factors.recovery_codes import owners_with_codes
from dravo.store.second_factors.totp import has_factor


@dataclass(frozen=True)
class Operator:
    """An operator, in the order of the select.

    Attributes:
        only_by_source: whether password sign-in is disabled.
        email: the address for notices, or None.
        hidden_areas: the areas that the operator's view leaves out; None for none.
        has_factor: whether the operator has a second factor.
    """

    id: str
    name: str
    name_key: str
    kind: str
    masked: bool
    password_hash: str = field(repr=False)
    only_by_source: bool
    created_at: Instant
    disabled_at: Instant | None
    email: str | None
    hidden_areas: list[str] | None
    masked_names: bool
    masked_networks: bool
    has_factor: bool


def _select() -> Any:
    return select(t.operator, has_factor(t.operator.c.id).label("has_factor"))


def get(connection: Connection, operator_id: str) -> Operator | None:
    """Return an operator, or None."""
    return first_operator(connection, t.operator.c.id == operator_id)


def by_name(connection: Connection, name_key: str) -> Operator | None:
    """Return the operator with a name, as it is compared, or None."""
    return first_operator(connection, t.operator.c.name_key == name_key)


def enabled(connection: Connection, operator_id: str) -> Operator | None:
    """Return an operator who is not disabled, or None."""
    return first_operator(connection, t.operator.c.id == operator_id, t.operator.c.disabled_at.is_(None))


def first_operator(connection: Connection, *where: Any) -> Operator | None:
    """Return the first operator who meets some conditions, or None."""
    row = connection.execute(_select().where(*where)).first()
    return None if row is None else Operator(*row)


def exist(connection: Connection) -> bool:
    """Return whether there is an operator."""
    return connection.execute(select(t.operator.c.id).limit(1)).first() is not None


def list_operators(
    connection: Connection, page_request: PageRequest, show: Callable[[Operator], Item]
) -> Page[Item]:
    """Return a page of operators by name."""
    keys = [t.operator.c.name_key, t.operator.c.id]
    return page(connection, _select(), keys, page_request, shown_as(Operator, show))


def insert_operator(
    connection: Connection, values: dict[str, Any], application_ids: Iterable[str] = ()
) -> None:
    """Insert an operator with the applications of an application owner.

    Raises:
        IntegrityError: if the name is taken.
    """
    connection.execute(insert(t.operator).values(**values))
    _name_applications(connection, values["id"], application_ids)


def update_operator(connection: Connection, operator_id: str, **values: Any) -> None:
    """Change columns of an operator.

    Raises:
        IntegrityError: if the name is taken.
    """
    connection.execute(update(t.operator).where(t.operator.c.id == operator_id).values(**values))


def replace_password(connection: Connection, operator_id: str, before: str, after: str) -> bool:
    """Replace a password hash; return False if it changed meanwhile, or the operator is disabled."""
    o = t.operator.c
    where = (o.id == operator_id, o.password_hash == before, o.disabled_at.is_(None))
    return connection.execute(update(t.operator).where(*where).values(password_hash=after)).rowcount == 1


def application_keys(connection: Connection, operator_id: str) -> frozenset[str]:
    """Return the keys of the applications of an application owner: named ones, and those with this owner."""
    o, p = t.operator_application.c, t.application.c
    named = select(o.application_id).where(o.operator_id == operator_id)
    statement = select(p.key).where(or_(p.owner_id == operator_id, p.id.in_(named)))
    return frozenset(connection.execute(statement).scalars())


def owned_keys(connection: Connection, operator_id: str) -> list[str]:
    """Return the keys of the applications whose owner an operator is."""
    p = t.application.c
    return list(connection.execute(select(p.key).where(p.owner_id == operator_id).order_by(p.key)).scalars())


def replace_applications(connection: Connection, operator_id: str, application_ids: Iterable[str]) -> None:
    """Replace the named applications of an application owner."""
    o = t.operator_application
    connection.execute(delete(o).where(o.c.operator_id == operator_id))
    _name_applications(connection, operator_id, application_ids)


def _name_applications(connection: Connection, operator_id: str, application_ids: Iterable[str]) -> None:
    for application_id in application_ids:
        connection.execute(
            insert(t.operator_application).values(operator_id=operator_id, application_id=application_id)
        )


def addresses_of_kinds(connection: Connection, *kinds: str) -> list[str]:
    """Return the email addresses of the enabled operators of some kinds, each once."""
    o = t.operator.c
    where = (o.kind.in_(kinds), o.disabled_at.is_(None), o.email.is_not(None))
    return list(connection.execute(select(o.email).where(*where).distinct().order_by(o.email)).scalars())


def has_other_of_kind(connection: Connection, operator_id: str, kind: str) -> bool:
    """Return whether another enabled operator of a kind can sign in if every source fails."""
    o = t.operator.c
    gets_in = or_(o.only_by_source.is_(False), o.id.in_(owners_with_codes()))
    others = select(o.id).where(o.kind == kind, o.disabled_at.is_(None), o.id != operator_id, gets_in)
    return connection.execute(others.limit(1)).first() is not None


def number_without_second_factor(connection: Connection) -> int:
    """Return the number of enabled operators without a second factor."""
    o = t.operator.c
    statement = select(func.count()).select_from(t.operator)
    statement = statement.where(~has_factor(o.id), o.disabled_at.is_(None))
    return int(connection.execute(statement).scalar_one())
