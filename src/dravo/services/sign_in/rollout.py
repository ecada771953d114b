"""Enables sign-in through a source: disabled, pilot group, everyone, or from a date and time."""

from __future__ import annotations

from sqlalchemy import delete, select, update

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, parse_instant
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.security import operator_sso
from dravo.services.security.audit_log import record_change
from dravo.services.security.operator_sso import USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.settings import (
    DISABLED,
    ENABLED,
    PILOT,
    STATUSES,
    check_super_administrator,
    missing,
)
from dravo.services.sources.policy import sign_in_of
from dravo.store import clock
from dravo.store import tables as t


def set_status(
    ctx: AppContext,
    caller: Caller,
    key: str,
    status: str,
    enabled_from: str | None = None,
    confirm: str | None = None,
) -> None:
    """Set for whom signing in by a source is enabled: nobody, those of the pilot group, everyone; at once,
    or everyone from an hour on.

    Raises:
        InvalidInput: if something is missing; NeedsConfirmation: if nobody has come through the present
            settings yet; NotFound.
    """
    if status not in STATUSES:
        raise InvalidInput(
            f"'{status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )
    now = clock.now()
    at = parse_instant(enabled_from, "enabled_from") if enabled_from else None
    if at is not None and at <= now:
        raise InvalidInput(
            "The start time is in the past.", "Enter a future time, or enable sign-in now.", "enabled_from"
        )
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        check_super_administrator(caller, row)
        if row.serves != USERS:
            if status == ENABLED or at is not None:
                operator_sso.check_own_way(connection, caller, source.id)
            if status == DISABLED:
                operator_sso.check_nobody_is_locked_out(connection, source.id)
        if status != DISABLED or at is not None:
            if lacking := missing(connection, row):
                raise InvalidInput(
                    f"Missing: {', '.join(lacking)}.", "Enter the values on the Sign-in tab.", "status"
                )
            if status == PILOT and not row.settings.get("pilot"):
                raise InvalidInput(
                    "The pilot group is missing.", "Enter the group whose members can sign in.", "pilot"
                )
            if row.verified_at is None and confirm != source.label:
                hint = (
                    f"Run a test sign-in first, or type the name of the source, '{source.label}', to confirm."
                )
                raise NeedsConfirmation("These settings have not been tested yet.", hint, "confirm")
        connection.execute(
            update(t.source_sign_in)
            .where(t.source_sign_in.c.source_id == source.id)
            .values(status=status, enabled_from=at)
        )
        if status == DISABLED:
            # Anyone who is signed in by it is not any more.
            connection.execute(delete(t.user_session).where(t.user_session.c.source_id == source.id))
            operator_sso.end_sessions(connection, source.id)
        details = {"key": key, "before": row.status, "after": status, "enabled_from": at}
        record_change(
            connection, ctx.keys, caller, "changed sign-in status", "source", source.id, now, details
        )


def apply_scheduled_activation(ctx: AppContext, now: Instant) -> None:
    """Put enabled whatever was set to be from an hour on that has come."""
    s = t.source_sign_in.c
    due = (s.enabled_from.is_not(None), s.enabled_from <= now)
    with ctx.database.reading() as connection:
        if connection.execute(select(s.source_id).where(*due).limit(1)).first() is None:
            return
    with ctx.database.writing() as connection:
        connection.execute(update(t.source_sign_in).where(*due).values(status=ENABLED, enabled_from=None))
