"""From tracked only to provisioned and back: assignments, accounts and history stay."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from dravo.core.provisioning.manual import ACTIONS, DELETE
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.store import clock
from dravo.store.provisioning import manual as stored
from dravo.store.queries.applications import Application


def switch(connection: Connection, application: Application, *, tracked_only: bool) -> dict[str, Any]:
    """Leave the tasks of an application to operators, or to Dravo; return the columns that change.

    Provisioning stays disabled until an operator enables it.
    """
    if tracked_only == application.tracked_only:
        return {}
    if tracked_only:
        stored.to_manual(connection, application.id)
    else:
        stored.to_provisioned(connection, application.id, clock.now())
    return {"tracked_only": tracked_only, "enabled": False, "pilot_group_id": None, "enabled_from": None}


def preview_switch(ctx: AppContext, key: str, *, tracked_only: bool) -> ChangeEffects:
    """Return the effects of making an application tracked only, or provisioned; nothing is changed.

    Raises:
        NotFound.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        if tracked_only == application.tracked_only:
            effects.add("Nothing changes.")
            return effects
        effects.add("Assignments, accounts and history stay.")
        if tracked_only:
            _add_to_manual(connection, application, effects)
        else:
            _add_to_provisioned(connection, application, effects)
    return effects


def _add_to_manual(connection: Connection, application: Application, effects: ChangeEffects) -> None:
    due = stored.number_open(connection, application.id)
    if application.enabled:
        effects.add("Dravo stops creating, changing and removing accounts.")
    effects.add(
        f"{count(due, 'open task becomes', 'open tasks become')} a list for operators, who work by hand."
        if due
        else "No account waits for a change."
    )


def _add_to_provisioned(connection: Connection, application: Application, effects: ChangeEffects) -> None:
    due = stored.count_open(connection, application.id)
    effects.add("Provisioning is disabled until you enable it.")
    if not application.base_url or not application.secret:
        effects.add("The connection is missing. Save it under Settings.")
    if number := stored.number_to_find(connection, application.id):
        effects.add(
            f"Dravo looks for {count(number, 'account', 'accounts')} that exist already. Choose by which "
            "attributes Dravo adopts them, or Dravo creates new ones."
        )
    open_now = sum(due.get(each, 0) for each in ACTIONS)
    if open_now:
        effects.add(
            f"{count(open_now, 'account', 'accounts')} on the list for operators "
            f"{'waits' if open_now == 1 else 'wait'} for Dravo instead."
        )
    if due.get(DELETE):
        effects.add(
            f"Dravo cannot find {count(due[DELETE], 'account', 'accounts')} to be deleted. Delete them by "
            "hand first, or find them by a reconciliation."
        )
