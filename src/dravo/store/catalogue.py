"""What operators declared, read as one value for planning; kept in memory until its revision moves."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import Connection, select, update

from dravo.core.access import Assignment
from dravo.core.accounts import Settings
from dravo.core.carrying import RolesAs, read_target
from dravo.core.errors import WorldMoved
from dravo.core.expressions import compile_expression
from dravo.core.planning import Application, Catalogue, GroupLabel, Role
from dravo.store import tables as t
from dravo.store.database import CATALOGUE, Database
from dravo.store.quick import Quick

NO_GROUPS, GIVING_ROLES, CHOSEN = "none", "those that give roles", "chosen"
_REVISION = Quick(select(t.revision.c.value).where(t.revision.c.name == CATALOGUE))


def assignment_of(row: object) -> Assignment:
    """Return a row of the assignment table as core knows it."""
    return Assignment(row.id, row.application_id, row.role_id, row.user_id, row.group_id, row.from_at, row.until_at)  # type: ignore[attr-defined]


def revision(connection: Connection) -> int:
    """Return the present revision of what operators declared."""
    return int(_REVISION.first(connection, {}).value)


def check_revision(connection: Connection, expected: int) -> None:
    """Make sure that nothing declared has changed since it was read.

    Raises:
        WorldMoved: if it has.
    """
    if revision(connection) != expected:
        raise WorldMoved("What operators declared has changed meanwhile.", "Try again.")


def raise_revision(connection: Connection) -> None:
    """Say that something declared changes with this transaction."""
    connection.execute(update(t.revision).where(t.revision.c.name == CATALOGUE).values(value=t.revision.c.value + 1))


class CatalogueCache:
    """Hands out the catalogue as of a transaction, reading it only when its revision has moved."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held: Catalogue | None = None

    def latest(self, database: Database) -> Catalogue:
        """Return the catalogue as it was seen last, to be planned on and checked when it is written upon."""
        held = self._held
        if held is None:
            with database.reading() as connection:
                return self.get(connection)
        return held

    def get(self, connection: Connection) -> Catalogue:
        """Return the catalogue as this transaction sees it."""
        current = revision(connection)
        held = self._held
        if held is None or held.revision != current:
            held = load(connection, current)
            with self._lock:
                self._held = held
        return held


def load(connection: Connection, current: int) -> Catalogue:
    """Read everything declared."""
    rows = list(connection.execute(select(t.application)))
    applications = {row.id: Application(row.id, row.key, row.label, settings_of(row), row.tracked_only) for row in rows}
    roles = {row.id: Role(row.key, row.label, row.rank, row.id, row.application_id) for row in connection.execute(select(t.role))}
    by_group: dict[str, tuple[Assignment, ...]] = {}
    named = select(t.assignment).where(t.assignment.c.removed_at.is_(None), t.assignment.c.group_id.is_not(None))
    for row in connection.execute(named.order_by(t.assignment.c.id)):
        by_group[row.group_id] = (*by_group.get(row.group_id, ()), assignment_of(row))
    parents: dict[str, tuple[str, ...]] = {}
    nested = select(t.membership.c.inner_group_id, t.membership.c.group_id).where(
        t.membership.c.until_at.is_(None), t.membership.c.inner_group_id.is_not(None)
    )
    for inner, outer in connection.execute(nested):
        parents[inner] = (*parents.get(inner, ()), outer)
    precedence = {row.id: row.precedence for row in connection.execute(select(t.source.c.id, t.source.c.precedence))}
    delivered = {row.id: delivered_groups(row, by_group) for row in rows if row.groups_over}
    labels = _labels(connection, {*by_group, *parents, *(outer for outers in parents.values() for outer in outers)})
    return Catalogue(current, applications, roles, by_group, parents, precedence, labels, delivered)


def settings_of(row: Any) -> Settings:
    """Return an application's settings as core knows them; `row` has the columns of the application's table."""
    attributes = tuple(
        (read_target(each["attribute"]), compile_expression(each["expression"]) if each["expression"].strip() else None)
        for each in row.attributes or ()
    )
    return Settings(row.on_losing_access, row.on_inactive, row.on_gone, attributes, RolesAs(**(row.roles_as or {})))


def delivered_groups(row: Any, by_group: Mapping[str, Iterable[Assignment]]) -> frozenset[str]:
    """Return the ids of the groups that go over to an application."""
    chosen = row.groups_over or {}
    if chosen.get("which") == GIVING_ROLES:
        return frozenset(group_id for group_id, given in by_group.items() if any(each.application_id == row.id for each in given))
    if chosen.get("which") == CHOSEN:
        return frozenset(each["group"] for each in chosen.get("groups", ()))
    return frozenset()


def _labels(connection: Connection, group_ids: set[str]) -> dict[str, GroupLabel]:
    if not group_ids:
        return {}
    found = (
        select(t.group.c.id, t.group.c.display_name, t.source.c.key, t.source.c.label)
        .outerjoin(t.source, t.source.c.id == t.group.c.source_id)
        .where(t.group.c.id.in_(group_ids))
    )
    return {row[0]: GroupLabel(*row) for row in connection.execute(found)}
