"""Access policies: who is eligible, the fallback role, multiple roles and their precedence. Previewed before
they are changed.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.access import types as rules
from dravo.core.errors import InvalidInput
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, role_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store.queries import applications as application_rows
from dravo.store.queries.applications import Application
from dravo.store.snapshots.config import policy_of, raise_revision

CHOICES = {
    "eligibility": (rules.ASSIGNED, rules.ALL_USERS),
    "fallback": (rules.NO_ACCESS, rules.DEFAULT_ROLE, rules.KEEP),
    "several": (rules.ALL, rules.HIGHEST),
    "first": (rules.BOTH, rules.DIRECT_FIRST, rules.RULES_FIRST),
}


def change(
    ctx: AppContext, caller: Caller, key: str, given: dict[str, Any], sure: Confirmation = UNCONFIRMED
) -> None:
    """Change the access policy of an application, and mark everyone.

    Args:
        ctx: the data folder.
        caller: who changes it.
        key: the key of the application.
        given: "eligibility", "fallback", "fallback_role" (by key), "several", "first"; None keeps a value.
        sure: the confirmation.

    Raises:
        InvalidInput, NotFound; NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        cleared = changes_preview.check(connection, _planned(ctx, connection, key, given), caller, sure)
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        values = _checked(connection, row, given)
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            application_rows.update_application(connection, row.id, **changed)
            raise_revision(connection)
            recompute_marks.mark_everyone(connection, now, cleared)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "changed policy",
                    "application",
                    row.id,
                    details={
                        "key": key,
                        "before": {name: before[name] for name in changed},
                        "after": changed,
                    },
                ),
            )
    process_marks(ctx, USERS_PER_CHUNK)


def preview(ctx: AppContext, key: str, given: dict[str, Any]) -> Preview:
    """Return the effects of another policy; nothing is changed."""
    with ctx.database.reading() as connection:
        return changes_preview.shown(connection, _planned(ctx, connection, key, given))


def _planned(ctx: AppContext, connection: Connection, key: str, given: dict[str, Any]) -> PlannedChange:
    row = application_by_key(connection, key)
    after = replace(row, **_checked(connection, row, given))
    catalogue = ctx.catalogue.get(connection)
    then = replace(catalogue, policies={**catalogue.policies, row.id: policy_of(after)})
    return PlannedChange(row.id, (memberships.everyone(),), then)


def _checked(connection: Connection, row: Application, given: dict[str, Any]) -> dict[str, Any]:
    values = {name: given[name] for name in CHOICES if given.get(name) is not None}
    for name, value in values.items():
        if value not in CHOICES[name]:
            raise InvalidInput(
                f"'{value}' is not a valid value for '{name}'.",
                f"Use one of: {', '.join(CHOICES[name])}.",
                name,
            )
    if given.get("fallback_role"):
        values["default_role_id"] = str(role_by_key(connection, row, given["fallback_role"]).id)
    default = values.get("default_role_id", row.default_role_id)
    if values.get("fallback", row.fallback) == rules.DEFAULT_ROLE and default is None:
        raise InvalidInput(
            "The fallback role is missing.",
            "Set `fallback_role` to the role of users without an assignment.",
            "fallback_role",
        )
    return values
