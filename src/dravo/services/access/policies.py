"""How an application decides about access: who may come in, what if nothing maps, which of several roles; previewed before it is set."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

from sqlalchemy import Connection, literal, update

from dravo.core.access import evaluation as rules
from dravo.core.errors import InvalidInput
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNSURE, Change, Sure
from dravo.services.changes.recompute import CHUNK, work_through
from dravo.services.context import House
from dravo.services.lookups import application_by_key, role_by_key
from dravo.services.security.audit_log import record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store import tables as t
from dravo.store.snapshots.config import policy_of, raise_revision

CHOICES = {
    "open_to": (rules.ASSIGNED, rules.ALL_PEOPLE),
    "if_nothing": (rules.NO_ACCESS, rules.DEFAULT_ROLE, rules.KEEP),
    "several": (rules.ALL, rules.HIGHEST),
    "first": (rules.BOTH, rules.DIRECT_FIRST, rules.RULES_FIRST),
}


def change(house: House, caller: Caller, key: str, given: dict[str, Any], sure: Sure = UNSURE) -> None:
    """Set how an application decides; everybody is worked out anew.

    Args:
        given: "open_to", "if_nothing", "default_role" (by key), "several", "first"; what is None stays as it is.

    Raises:
        InvalidInput, NotFound; NeedsConfirmation, WorldMoved.
    """
    now = clock.now()
    with house.database.reading() as connection:
        cleared = changes_preview.check(connection, _planned(house, connection, key, given), caller, sure)
    with house.database.writing() as connection:
        row = application_by_key(connection, key)
        values = _checked(connection, row, given)
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            connection.execute(update(t.application).where(t.application.c.id == row.id).values(**changed))
            raise_revision(connection)
            recompute_marks.mark_selected(connection, memberships.everybody(literal(now)), cleared)
            record_change(
                connection, house.keys, caller, "changed policy", "application", row.id, now,
                {"key": key, "before": {name: before[name] for name in changed}, "after": changed},
            )  # fmt: skip
    work_through(house, CHUNK)


def preview(house: House, key: str, given: dict[str, Any]) -> dict[str, Any]:
    """Return what another policy would do; nothing is changed."""
    with house.database.reading() as connection:
        return changes_preview.shown(connection, _planned(house, connection, key, given))


def _planned(house: House, connection: Connection, key: str, given: dict[str, Any]) -> Change:
    row = application_by_key(connection, key)
    after = SimpleNamespace(**{**row._mapping, **_checked(connection, row, given)})
    catalogue = house.catalogue.get(connection)
    then = replace(catalogue, policies={**catalogue.policies, row.id: policy_of(after)})
    return Change(row.id, (memberships.everybody(),), then)


def _checked(connection: Connection, row: Any, given: dict[str, Any]) -> dict[str, Any]:
    values = {name: given[name] for name in CHOICES if given.get(name) is not None}
    for name, value in values.items():
        if value not in CHOICES[name]:
            raise InvalidInput(f"'{value}' is no choice for '{name}'.", f"It is one of: {', '.join(CHOICES[name])}.", name)
    if given.get("default_role"):
        values["default_role_id"] = str(role_by_key(connection, row, given["default_role"]).id)
    default = values.get("default_role_id", row.default_role_id)
    if values.get("if_nothing", row.if_nothing) == rules.DEFAULT_ROLE and default is None:
        raise InvalidInput("A default role has to be said.", "Choose which role people get to whom nothing gives one.", "default_role")
    return values
