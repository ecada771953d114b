"""The provisioning status of an application: disabled, pilot group, enabled, or enabled from a later time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import structlog
from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, parse_instant
from dravo.services.applications.applications import ApplicationDetail, one
from dravo.services.applications.settings import DISABLED, ENABLED, PILOT, status_of
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, find_group
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships
from dravo.store.provisioning import applications as stored
from dravo.store.provisioning import groups as provisioned_group_rows
from dravo.store.provisioning import pilots
from dravo.store.queries import applications as application_rows
from dravo.store.queries import groups as group_queries
from dravo.store.queries.applications import Application
from dravo.store.snapshots.config import raise_revision

STATUSES = (DISABLED, PILOT, ENABLED)

log = structlog.get_logger("applications")


@dataclass(frozen=True)
class StatusChange:
    """A new status.

    Attributes:
        status: "disabled", "pilot" or "enabled".
        pilot_group: the pilot group by ID, external ID or name; None keeps the former one.
        source: the key of the source of the pilot group, or None.
        enabled_from: with "disabled", the time from which the application is enabled for everyone, or None.
    """

    status: str
    pilot_group: str | None = None
    source: str | None = None
    enabled_from: str | None = None


def set_status(ctx: AppContext, caller: Caller, key: str, wish: StatusChange) -> ApplicationDetail:
    """Change the provisioning status. Tasks that waited for it start; nothing is computed again.

    Raises:
        NotFound; InvalidInput: for a missing pilot group, a time that is past, or a tracked-only application.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        values = _values(connection, row, wish)
        before = _shown(connection, row)
        stored.update_settings(connection, row.id, **values)
        raise_revision(connection)
        provisioned_group_rows.wake_all(connection, row.id, now)
        after = _shown(connection, application_by_key(connection, key))
        if before != after:
            details = {"key": key, "before": before, "after": after}
            event = AuditEvent("changed status", "application", row.id, details=details)
            record_change(connection, ctx.keys, caller, now, event)
    return one(ctx, key)


def _shown(connection: Connection, row: Application) -> dict[str, Any]:
    """Return the status as the audit log names it."""
    group = group_queries.group(connection, row.pilot_group_id) if row.pilot_group_id else None
    shown = {
        "status": status_of(row),
        "pilot_group": group.name if group is not None else None,
        "enabled_from": row.enabled_from,
    }
    return {name: value for name, value in shown.items() if value is not None}


def _values(connection: Connection, row: Application, wish: StatusChange) -> dict[str, Any]:
    """Return the columns of a new status."""
    if wish.status not in STATUSES:
        raise InvalidInput(
            f"'{wish.status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )
    if row.tracked_only and (wish.status != DISABLED or wish.enabled_from):
        raise InvalidInput(
            f"'{row.label}' is tracked only.", "Turn off `tracked_only` to enable provisioning.", "status"
        )
    group_id = row.pilot_group_id
    if wish.status == PILOT and wish.pilot_group:
        group_id = find_group(connection, wish.pilot_group, wish.source).id
    if wish.status == PILOT and not group_id:
        raise InvalidInput(
            "The pilot group is missing.", "Choose the group whose members are provisioned.", "pilot_group"
        )
    return {
        "enabled": wish.status != DISABLED,
        "pilot_group_id": group_id if wish.status == PILOT else None,
        "enabled_from": _start(wish),
    }


def _start(wish: StatusChange) -> Instant | None:
    if not wish.enabled_from:
        return None
    if wish.status != DISABLED:
        raise InvalidInput(
            "A start time is for a disabled application.",
            "Set `status` to disabled, or leave `enabled_from` empty.",
            "enabled_from",
        )
    at = parse_instant(wish.enabled_from, "enabled_from")
    if at <= clock.now():
        raise InvalidInput(
            "The start time is in the past.", "Enter a future time, or enable it now.", "enabled_from"
        )
    return at


def preview_status(ctx: AppContext, key: str, wish: StatusChange) -> ChangeEffects:
    """Return what a new status has Dravo do in the application; nothing is changed.

    Raises:
        NotFound, InvalidInput: as `set_status`.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
        values = _values(connection, row, wish)
        if not values["enabled"]:
            effects.add("Dravo creates, changes and removes no accounts. Changes wait.")
            if values["enabled_from"]:
                effects.add("At the start time, Dravo provisions all users with access.")
            return effects
        group_id = values["pilot_group_id"]
        due = pilots.due_work(connection, row.id, group_id)
        if group_id is not None:
            members = memberships.how_many_within(connection, group_id)
            effects.add(
                f"The pilot group has {count(members, 'member', 'members')}. The accounts of other users "
                "stay unchanged."
            )
        if not row.base_url or not row.secret:
            effects.add("The connection is not complete, so Dravo starts when it is.")
        work = (
            (due.created, "is created or adopted", "are created or adopted"),
            (due.changed, "is changed", "are changed"),
            (due.removed, "loses roles, activity or all", "lose roles, activity or all"),
        )
        for number, singular, plural in work:
            if number:
                effects.add(f"{count(number, 'account', 'accounts')} {singular if number == 1 else plural}.")
        if not any(number for number, *_ in work):
            effects.add("No account has to be created, changed or removed.")
    return effects


def apply_scheduled_activation(ctx: AppContext, now: Instant) -> int:
    """Enable the applications whose start time has passed; return their number."""
    with ctx.database.reading() as connection:
        due = pilots.scheduled(connection, now)
    if not due:
        return 0
    with ctx.database.writing() as connection:
        for application_id in pilots.scheduled(connection, now):
            stored.update_settings(
                connection, application_id, enabled=True, pilot_group_id=None, enabled_from=None
            )
            provisioned_group_rows.wake_all(connection, application_id, now)
            log.info(
                "enabled an application at its start time",
                application=application_rows.key_of(connection, application_id),
            )
        raise_revision(connection)
    return len(due)
