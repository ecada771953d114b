"""Priority of sources, where several report one user; previewed before it is changed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity.records import LOCAL
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import source_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import membership_authority, sources
from dravo.services.sources.membership_authority import AuthorityShift
from dravo.services.sources.sources import SourceLine
from dravo.store import clock, recompute_marks
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import sources as source_rows

MOST = 1_000
NAMES = ("priority", "deactivation_wins", "updates", "members_from")


def change(
    ctx: AppContext, caller: Caller, key: str, given: dict[str, Any], sure: Confirmation = UNCONFIRMED
) -> SourceLine:
    """Change the priority of a source; users with records of this and another source are recomputed.

    Args:
        ctx: the data folder.
        caller: who changes it.
        key: the key of the source.
        given: "priority" (the lowest number wins), "deactivation_wins" (an inactive record here deactivates
            the user), "updates" (whether it may change users of other sources), "members_from"
            (who decides about the members of its groups); None keeps a value.
        sure: the confirmation.

    Raises:
        InvalidInput, NotFound; NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        planned, shift = _planned(ctx, connection, key, given)
        cleared = changes_preview.check(connection, planned, caller, sure)
    with ctx.database.writing() as connection:
        row = source_by_key(connection, key)
        values = {name: value for name, value in _checked(given).items() if getattr(row, name) != value}
        if values:
            for each in planned.touched:
                recompute_marks.mark_selected(connection, each, now, cleared)
            membership_authority.write(connection, shift, now)
            source_rows.update_source(connection, row.id, **values)
            raise_revision(connection)
            details = {"key": key, "before": {name: getattr(row, name) for name in values}, "after": values}
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("changed priority", "source", row.id, details=details),
            )
    process_marks(ctx, USERS_PER_CHUNK)
    return sources.one(ctx, key)


def preview(ctx: AppContext, key: str, given: dict[str, Any]) -> Preview:
    """Return the effects of another priority; nothing is changed."""
    with ctx.database.reading() as connection:
        return changes_preview.shown(connection, _planned(ctx, connection, key, given)[0])


def _planned(
    ctx: AppContext, connection: Connection, key: str, given: dict[str, Any]
) -> tuple[PlannedChange, AuthorityShift]:
    row = source_by_key(connection, key)
    values = _checked(given)
    catalogue = ctx.catalogue.get(connection)
    authority = values.get("members_from", row.members_from)
    if row.connection_type == LOCAL and authority != row.members_from:
        raise InvalidInput(
            "Local groups have no other authority than Dravo.",
            "Choose a source that reports groups.",
            "members_from",
        )
    shift = membership_authority.of_source(connection, catalogue, row.id, authority)
    by_source = {**catalogue.authority.by_source, row.id: authority}
    then = replace(
        catalogue,
        parents=shift.parents,
        authority=replace(catalogue.authority, by_source=by_source),
        priority={**catalogue.priority, row.id: values.get("priority", row.priority)},
        vetoing=_with(catalogue.vetoing, row.id, values.get("deactivation_wins", row.deactivation_wins)),
        quiet=_with(catalogue.quiet, row.id, not values.get("updates", row.updates)),
    )
    touched = shift.touched
    if values.keys() - {"members_from"}:
        touched = (source_rows.users_of_several_sources(row.id), *touched)
    return PlannedChange(None, touched, then, shift.after, row.label), shift


def _with(some: frozenset[str], one: str, present: bool) -> frozenset[str]:
    return some | {one} if present else some - {one}


def _checked(given: dict[str, Any]) -> dict[str, Any]:
    values = {name: given[name] for name in NAMES if given.get(name) is not None}
    if "members_from" in values:
        membership_authority.checked(values["members_from"])
    place = values.get("priority")
    if place is not None and not 0 <= place <= MOST:
        raise InvalidInput(
            f"{place} is not a valid priority.",
            f"Enter a number from 0 to {MOST:,}. The lowest number wins.",
            "priority",
        )
    return values
