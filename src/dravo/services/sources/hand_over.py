"""Hands the users of a source over to another source: previewed as an impact list, in stages, and undone
while both sources exist.

Users keep their identity, direct assignments and history. Group mappings follow to the groups of the same
name.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, StalePreview
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, check
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources.hand_over_plan import (
    HandOverImpact,
    HandOverPlan,
    HandOverWish,
    check_clear,
    impact,
    planned,
    planned_change,
)
from dravo.store import clock, recompute_marks
from dravo.store import records as record_rows
from dravo.store.access import assignments as assignment_rows
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.plan_writer import EVERY_APPLICATION
from dravo.store.received import records as received
from dravo.store.sign_in import sessions as session_rows
from dravo.store.snapshots.config import check_revision, raise_revision
from dravo.store.sources import hand_over as stored
from dravo.store.sources import retirement as stored_retirement
from dravo.store.sources import sources as source_rows
from dravo.store.sources.hand_over import DONE, PILOT, UNDONE


@dataclass
class HandOverState:
    """The last hand-over from a source: "none", "pilot", "done" or "undone"; the rest is None without one."""

    to: str | None
    status: str
    users: int
    started_at: Instant | None
    changed_at: Instant | None
    changed_by: str | None


def state(ctx: AppContext, key: str) -> HandOverState:
    """Return the last hand-over from a source.

    Raises:
        NotFound: if there is no such source.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        found = stored.latest(connection, source.id)
        if found is None:
            return HandOverState(None, "none", 0, None, None, None)
        to = source_rows.by_id(connection, found.to_source_id)
    return HandOverState(
        to.key, found.status, found.users, found.started_at, found.changed_at, found.changed_by
    )


def preview(ctx: AppContext, key: str, wish: HandOverWish) -> HandOverImpact:
    """Return the impact of a hand-over; nothing is changed.

    Raises:
        NotFound, InvalidInput, StillInUse.
    """
    with ctx.database.reading() as connection:
        plan = planned(ctx, connection, key, wish)
        return impact(connection, plan)


def hand_over(
    ctx: AppContext, caller: Caller, key: str, wish: HandOverWish, sure: Confirmation = UNCONFIRMED
) -> HandOverState:
    """Hand users over to another source: members of a pilot group, or all of them.

    With all, the old source is retired: its tokens, keys and schedule end.

    Raises:
        NotFound; InvalidInput: if users match several records; StillInUse: if an import runs, or operators
            sign in through the old source; NeedsConfirmation: without its label; StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        plan = planned(ctx, connection, key, wish)
        check_clear(plan)
        check(connection, planned_change(plan), caller, sure)
    with ctx.database.writing() as connection:
        check_revision(connection, plan.catalogue.revision)
        _write(connection, plan, caller, now)
        status = PILOT if plan.group_id is not None else DONE
        details = {
            "key": key,
            "to": plan.new.key,
            "status": status,
            "users": len(plan.people),
            "linked": len(plan.links),
        }
        event = AuditEvent("handed over source", "source", plan.old.id, details=details)
        record_change(connection, ctx.keys, caller, now, event)
    ctx.token_revision += 1
    process_marks(ctx, USERS_PER_CHUNK)
    return state(ctx, key)


def undo(ctx: AppContext, caller: Caller, key: str) -> HandOverState:
    """Take a hand-over back: the records of the old source count again, and copied assignments end.

    Records of the new source stay linked. The import and the sign-in of the old source are enabled as before;
    its tokens stay revoked.

    Raises:
        NotFound; InvalidInput: if nothing is handed over.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        old = pushing_source(connection, key)
        found = stored.latest(connection, old.id)
        if found is None or found.status == UNDONE:
            raise InvalidInput(f"'{old.label}' is not handed over.", "Nothing has to be taken back.")
        new = source_rows.by_id(connection, found.to_source_id)
        if old.retired_at is not None:
            stored_retirement.restore(connection, old.id, old.retired_at)
            stored.enable_connections(connection, old.id, found.connections, now)
        stored.take_back(connection, old.id, now)
        stored.end_assignments(connection, found.assignments, now)
        kept = [each for each in new.domains or () if each not in found.domains]
        source_rows.update_source(connection, new.id, domains=kept)
        stored.change(connection, found.id, status=UNDONE, changed_at=now, changed_by=caller.name)
        for source_id in (old.id, new.id):
            recompute_marks.mark_users(
                connection, stored.users_of(source_id), now, (EVERY_APPLICATION, caller.name)
            )
        raise_revision(connection)
        event = AuditEvent("took back hand-over", "source", old.id, details={"key": key, "to": new.key})
        record_change(connection, ctx.keys, caller, now, event)
    process_marks(ctx, USERS_PER_CHUNK)
    return state(ctx, key)


# Writing


def _write(connection: Connection, plan: HandOverPlan, caller: Caller, now: Instant) -> None:
    cleared = (EVERY_APPLICATION, caller.name)
    for record, user_id in plan.links:
        if not stored.link(connection, record, user_id):
            raise StalePreview("A record changed in the meantime.", "Preview the hand-over again.")
        stored_conflicts.end_conflicts(connection, plan.new.id, "user", [record.id])
        if record.user_id is not None:
            # The user of a conflict never had access. If it stayed, it would count as a leaver.
            record_rows.forget_user(connection, record.user_id)
    # The policy of the new source decides about their attributes.
    sent = [record.id for record, _ in plan.links if record.connection_type == INBOUND_SCIM]
    received.mark(connection, plan.new.id, sent, now)
    stored.let_groups_count(connection, [pair.other_id for pair in plan.pairs if pair.other_id])
    for row in plan.copies:
        values = {**row, "created_at": now, "created_by": caller.name}
        assignment_rows.insert_assignment(connection, values)
    domains = [*(plan.new.domains or ()), *plan.domains]
    source_rows.update_source(connection, plan.new.id, domains=domains)
    recompute_marks.mark_users(
        connection, stored.users_to_hand_over(plan.old.id, plan.group_id), now, cleared
    )
    recompute_marks.mark_users(connection, stored.users_of(plan.new.id), now, cleared)
    before = stored.enabled_connections(connection, plan.old.id)
    if plan.group_id is not None:
        stored.leave_out(connection, plan.old.id, [each.id for each in plan.people])
    else:
        stored_retirement.retire(connection, plan.old.id, now)
        session_rows.delete_of_source(connection, plan.old.id)
    _note(connection, plan, caller, now, before)
    raise_revision(connection)


def _note(
    connection: Connection, plan: HandOverPlan, caller: Caller, now: Instant, before: Mapping[str, Any]
) -> None:
    """Write the state of the hand-over; stages of one hand-over share a row."""
    found = stored.latest(connection, plan.old.id)
    copied = [row["id"] for row in plan.copies]
    values: Mapping[str, Any] = {
        "status": PILOT if plan.group_id is not None else DONE,
        "changed_at": now,
        "changed_by": caller.name,
        "connections": before,
    }
    if found is not None and found.status == PILOT and found.to_source_id == plan.new.id:
        stored.change(
            connection,
            found.id,
            **values,
            assignments=[*found.assignments, *copied],
            domains=[*found.domains, *plan.domains],
            users=found.users + len(plan.people),
        )
        return
    stored.insert_one(
        connection,
        {
            **values,
            "id": new_id(),
            "from_source_id": plan.old.id,
            "to_source_id": plan.new.id,
            "assignments": copied,
            "domains": plan.domains,
            "users": len(plan.people),
            "started_at": now,
        },
    )
