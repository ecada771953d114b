"""Links between records and users, changed by operators: a record may belong to another user. Previewed
first.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.identity.records import LOCAL, UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan, UserSnapshot
from dravo.core.planning import plan_user, with_groups, with_record
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.context import AppContext
from dravo.services.lookups import find_user
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, groups, memberships, records
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.plan_writer import ConfirmedRemovals, UserRewrite, apply_outcomes
from dravo.store.records import StoredRecord
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision

TRIES = 8


@dataclass(frozen=True)
class RecordMove:
    """A record that moves from one user to another; `taker` is None for a new user."""

    row: StoredRecord
    giver: UserSnapshot
    taker: UserSnapshot
    giver_after: UserSnapshot
    taker_after: UserSnapshot
    catalogue: ConfigSnapshot

    def after(self, user: UserSnapshot) -> UserSnapshot:
        """Return the snapshot of one user after the move."""
        return {self.giver.user_id: self.giver_after, self.taker.user_id: self.taker_after}.get(
            user.user_id, user
        )


def preview(ctx: AppContext, record_id: str, to: str | None) -> Preview:
    """Return the effects of linking a record to another user, or (None) to a new one; nothing is changed.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        return changes_preview.shown(connection, _change(_planned(ctx, connection, record_id, to)))


def move(
    ctx: AppContext, caller: Caller, record_id: str, to: str | None, sure: Confirmation = UNCONFIRMED
) -> str:
    """Link a record to another user, or to a new one; return the user's ID.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, StalePreview.
    """
    with ctx.database.reading() as connection:
        cleared = changes_preview.check(
            connection, _change(_planned(ctx, connection, record_id, to)), caller, sure
        )
    return link(ctx, caller, record_id, to, cleared)


def link(
    ctx: AppContext, caller: Caller, record_id: str, to: str | None, cleared: tuple[str, str] | None = None
) -> str:
    """Link a record to another user, or to a new one, without asking for a confirmation; return the user's
    ID.

    Args:
        cleared: the removals that an operator confirmed, as `preview.check` returns them.

    Raises:
        NotFound, InvalidInput; StalePreview.
    """
    for remaining in range(TRIES, 0, -1):
        try:
            return _apply(ctx, caller, record_id, to, cleared)
        except (StalePreview, IntegrityError):
            if remaining == 1:
                raise
    raise AssertionError("unreachable")


def _change(move: RecordMove) -> PlannedChange:
    ids = [user.user_id for user in (move.giver, move.taker) if user.revision is not None]
    name = str(move.giver.records[0].data.get("userName", ""))
    return PlannedChange(None, (memberships.some_users(ids),), move.catalogue, move.after, name)


def _planned(ctx: AppContext, connection: Connection, record_id: str, to: str | None) -> RecordMove:
    row = records.by_id(connection, record_id)
    if row is None:
        raise NotFound("The source record no longer exists.", "Reload the user.")
    if row.connection_type == LOCAL:
        raise InvalidInput(
            "Local records cannot be linked to another user.", "Edit the user instead.", "record"
        )
    giver = user_snapshots.users(connection, [row.user_id])[row.user_id]
    taker = _taker(connection, row, giver, to)
    record = UserRecord(row.id, row.source_id, row.connection_type, row.data, taker.user_id)
    theirs = groups.ids_of_record(connection, record_id)
    remaining = tuple(each for each in giver.records if each.id != record_id)
    if remaining:
        listed = groups.groups_of_records(connection, [each.id for each in remaining], counting=True)
        kept = {group_id for some in listed.values() for group_id, _ in some} | set(
            groups.groups_of_user(connection, giver.user_id)
        )
        giver_after = replace(
            giver, records=remaining, groups=tuple(each for each in giver.groups if each in kept)
        )
    else:
        # A user without records becomes a leaver.
        giver_after = replace(
            with_record(giver, replace(record, user_id=giver.user_id, gone=True)), groups=()
        )
    return RecordMove(
        row,
        giver,
        taker,
        giver_after,
        with_groups(with_record(taker, record), added=theirs),
        ctx.catalogue.get(connection),
    )


def _taker(connection: Connection, row: StoredRecord, giver: UserSnapshot, to: str | None) -> UserSnapshot:
    if to is None:
        if len(giver.records) == 1:
            raise InvalidInput("This is the only record of the user.", "Choose the user to link it to.", "to")
        return UserSnapshot(new_id(), None, ())
    found = find_user(connection, to)
    if found.id == giver.user_id:
        raise InvalidInput(
            f"The record is already linked to {found.display_name}.", "Choose another user.", "to"
        )
    taker = user_snapshots.users(connection, [found.id])[found.id]
    if any(
        (each.source_id, each.connection_type) == (row.source_id, row.connection_type) and not each.gone
        for each in taker.records
    ):
        raise InvalidInput(
            f"This source already has a record of {found.display_name}.",
            "Choose another user. Two records of one source cannot belong to one user.",
            "to",
        )
    return taker


def _apply(
    ctx: AppContext, caller: Caller, record_id: str, to: str | None, cleared: tuple[str, str] | None
) -> str:
    now = clock.now()
    with ctx.database.reading() as connection:
        planned = _planned(ctx, connection, record_id, to)
    outcomes = [
        plan_user(planned.giver_after, planned.catalogue, now),
        plan_user(planned.taker_after, planned.catalogue, now),
    ]
    confirmed: ConfirmedRemovals = {(planned.giver.user_id, cleared[0]): cleared[1]} if cleared else {}
    with ctx.database.writing() as connection:
        _write(connection, planned, outcomes, confirmed, now)
        details = {"record": record_id, "from": planned.giver.user_id, "to": planned.taker.user_id}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("linked a record to another user", "user", planned.taker.user_id, details=details),
        )
    return planned.taker.user_id


def _write(
    connection: Connection,
    planned: RecordMove,
    outcomes: list[UserPlan],
    cleared: ConfirmedRemovals,
    now: Instant,
) -> None:
    check_revision(connection, planned.catalogue.revision)
    apply_outcomes(
        connection, outcomes, now, rewrite=UserRewrite.NAMES, seen=planned.catalogue.revision, cleared=cleared
    )
    giver, taker = planned.giver.user_id, planned.taker.user_id
    if not records.move_record(connection, planned.row, giver, taker, now):
        raise StalePreview("The record changed in the meantime.")
    if planned.row.undecided:
        stored_conflicts.end_conflicts(connection, planned.row.source_id, "user", [planned.row.id])
    if outcomes[0].merged.gone:
        memberships.end_memberships_of_user(connection, planned.giver.user_id, now)
