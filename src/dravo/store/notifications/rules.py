"""Stored notification rules."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.operators import operators
from dravo.store.pagination import Page, PageRequest, page, shown_as


@dataclass(frozen=True)
class StoredRule:
    """A row of the table of rules, in the order of its columns; None for all kinds, applications or
    sources.
    """

    id: str
    label: str
    kinds: list[str] | None
    application_ids: list[str] | None
    source_ids: list[str] | None
    recipients: list[dict[str, str]]
    frequency: str
    enabled: bool
    created_at: Instant


def enabled_rules(connection: Connection) -> list[StoredRule]:
    """Return the rules that are enabled."""
    r = t.notification_rule.c
    statement = select(t.notification_rule).where(r.enabled.is_(True)).order_by(r.id)
    return [StoredRule(*row) for row in connection.execute(statement)]


def all_rules(connection: Connection) -> list[StoredRule]:
    """Return every rule."""
    statement = select(t.notification_rule).order_by(t.notification_rule.c.id)
    return [StoredRule(*row) for row in connection.execute(statement)]


def list_rules(connection: Connection, page_request: PageRequest) -> Page[StoredRule]:
    """Return a page of rules in the order of their creation."""
    keys = [t.notification_rule.c.created_at, t.notification_rule.c.id]
    statement = select(t.notification_rule)
    return page(connection, statement, keys, page_request, shown_as(StoredRule, lambda row: row))


def get(connection: Connection, rule_id: str) -> StoredRule | None:
    """Return a rule, or None."""
    row = connection.execute(select(t.notification_rule).where(t.notification_rule.c.id == rule_id)).first()
    return StoredRule(*row) if row is not None else None


def insert_rule(connection: Connection, values: dict[str, Any]) -> None:
    """Insert a rule."""
    connection.execute(insert(t.notification_rule).values(**values))


def update_rule(connection: Connection, rule_id: str, values: dict[str, Any]) -> None:
    """Change a rule."""
    connection.execute(
        update(t.notification_rule).where(t.notification_rule.c.id == rule_id).values(**values)
    )


def delete_rule(connection: Connection, rule_id: str) -> None:
    """Delete a rule."""
    connection.execute(delete(t.notification_rule).where(t.notification_rule.c.id == rule_id))


def addresses_of_owner(connection: Connection, application_id: str, else_kinds: tuple[str, ...]) -> list[str]:
    """Return the addresses of the owners of an application: its owner and the application owners who have
    it; without any, of the operators of some kinds.
    """
    o, p, x = t.operator.c, t.application.c, t.operator_application.c
    usable = (o.disabled_at.is_(None), o.email.is_not(None))
    named = select(o.email).join(t.operator_application, x.operator_id == o.id)
    owner = select(o.email).join(t.application, p.owner_id == o.id)
    found = connection.execute(
        owner.where(p.id == application_id, *usable).union(
            named.where(x.application_id == application_id, *usable)
        )
    ).scalars()
    return sorted(each for each in found if each) or operators.addresses_of_kinds(connection, *else_kinds)


def applications(connection: Connection) -> dict[str, tuple[str, str]]:
    """Return (key, label) of every application by its ID."""
    p = t.application.c
    return {row.id: (row.key, row.label) for row in connection.execute(select(p.id, p.key, p.label))}


def sources(connection: Connection) -> dict[str, tuple[str, str]]:
    """Return (key, label) of every source by its ID."""
    s = t.source.c
    return {row.id: (row.key, row.label) for row in connection.execute(select(s.id, s.key, s.label))}
