"""Applies the policy of a source's inbound SCIM to the records that it sent: to some, or to all marked ones.

What a source sends is stored first; then its policy decides whether the record counts, for which user, and
with which values. Both steps can be repeated: the result depends only on what is stored.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import DravoError, StalePreview
from dravo.core.identity.acceptance import Standing
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot
from dravo.services.ingest.inbound import scim_conflicts
from dravo.services.ingest.inbound.record_plans import RecordPlan, RecordPlans, plan_records
from dravo.services.ingest.types import DEFAULT_OPTIONS, IngestChange, IngestOptions
from dravo.store import clock, memberships, recompute_marks
from dravo.store.database import Database
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.plan_writer import UserRewrite, apply_outcomes
from dravo.store.received import made_groups
from dravo.store.received import records as received
from dravo.store.snapshots.config import ConfigCache, check_revision, raise_revision

CHUNK = 250
TRIES = 8

log = structlog.get_logger("ingest")


class PolicyApplication:
    """Applies policies to stored records."""

    def __init__(self, database: Database, catalogue: ConfigCache) -> None:
        self.database, self.catalogue = database, catalogue

    def apply(self, source_id: str, record_ids: Sequence[str]) -> None:
        """Apply the policy of a source to some records, in chunks.

        Raises:
            StalePreview: if concurrent changes outran it again and again; the marks remain.
        """
        for start in range(0, len(record_ids), CHUNK):
            self._apply_some(source_id, record_ids[start : start + CHUNK])

    def apply_one(
        self,
        source_id: str,
        record_id: str,
        before: Mapping[str, Any] | None,
        after: Mapping[str, Any] | None,
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> None:
        """Apply the policy to one record that a request changed, and write the trace of the request.

        Args:
            before, after: what the source reported before, and reports now.
        """

        def traced(plans: Sequence[RecordPlan], catalogue: ConfigSnapshot) -> IngestChange:
            plan = plans[0] if plans else None
            outcomes = [plan.outcome] if plan and plan.outcome else []
            return IngestChange(
                "user",
                (plan.user_id if plan else None) or record_id,
                before,
                after,
                outcomes,
                catalogue,
                linked=bool(plan and plan.linked),
                note=note_of(plan.standing) if plan else "",
            )

        self._apply_some(source_id, [record_id], manner, traced)

    def apply_marked(self) -> int:
        """Apply policies to a chunk of marked records; return their number.

        A record whose policy cannot be applied because of an error in Dravo is logged and left for the next
        change.
        """
        with self.database.reading() as connection:
            marked = received.marked(connection, CHUNK)
        if not marked:
            return 0
        source_id, ids = marked[0][1], [record_id for record_id, _ in marked]
        try:
            self._apply_some(source_id, ids)
        except DravoError:
            raise
        except Exception:  # noqa: BLE001 (whose mistake it is shows below, and is logged there)
            for record_id in ids:
                self._apply_alone(source_id, record_id)
        return len(ids)

    def _apply_alone(self, source_id: str, record_id: str) -> None:
        try:
            self._apply_some(source_id, [record_id])
        except DravoError:
            raise
        except Exception:
            log.error("the policy could not be applied to a record", record=record_id, exc_info=True)
            with self.database.writing() as connection:
                received.remove_marks(connection, [record_id])

    def _apply_some(
        self,
        source_id: str,
        record_ids: Sequence[str],
        manner: IngestOptions = DEFAULT_OPTIONS,
        traced: Callable[[Sequence[RecordPlan], ConfigSnapshot], IngestChange] | None = None,
    ) -> None:
        waiting = list(record_ids)
        for remaining in range(TRIES * max(1, len(waiting)), 0, -1):
            now = clock.now()
            with self.database.reading() as connection:
                catalogue = self.catalogue.get(connection)
                batch = plan_records(connection, catalogue, source_id, waiting, now)
            write_trace = manner.prepare(traced(batch.plans, catalogue)) if traced else lambda _: None
            try:
                with self.database.writing() as connection:
                    check_revision(connection, catalogue.revision)
                    write_plans(connection, batch, catalogue, now, manner)
                    done = [each for each in waiting if each not in batch.put_off]
                    received.remove_marks(connection, done)
                    write_trace(connection)
            except (StalePreview, IntegrityError):
                if remaining == 1:
                    raise
                continue
            waiting = batch.put_off
            if not waiting:
                return


def note_of(found: Standing) -> str:
    """Return in a sentence that a record does not count as the source sent it, or an empty text."""
    if found.waiting is not None:
        return f"The {found.waiting} waits. {found.message}".strip()
    return found.message if found.left_out is not None else ""


def write_plans(
    connection: Connection,
    batch: RecordPlans,
    catalogue: ConfigSnapshot,
    now: Instant,
    manner: IngestOptions = DEFAULT_OPTIONS,
) -> None:
    """Write plans in the caller's transaction.

    Raises:
        StalePreview: if a record or a user changed since it was read.
    """
    source_id = batch.source_id
    made_groups.make(connection, source_id, batch.new_groups, now)
    outcomes = [each.outcome for each in batch.plans if each.outcome is not None]
    apply_outcomes(
        connection,
        outcomes,
        now,
        rewrite=UserRewrite.NAMES,
        seen=catalogue.revision,
        cleared=manner.cleared,
    )
    for plan in batch.plans:
        row = plan.row
        for group_id in sorted(plan.joined):
            memberships.add_members(connection, group_id, [row.id], [], now)
        for group_id in sorted(plan.parted):
            memberships.end_members(connection, group_id, [row.id], now)
        written = received.write_standing(
            connection, row, plan.standing, plan.user_id, undecided=plan.undecided
        )
        if not written:
            raise StalePreview("The record changed in the meantime.")
        if plan.others is not None:
            _write_conflict(connection, plan, source_id, now)
        if plan.ended:
            memberships.end_memberships_of_record(connection, row.id, now)
            stored_conflicts.end_conflicts(connection, source_id, "user", [row.id])
        if plan.outcome is not None and plan.outcome.merged.gone and plan.user_id is not None:
            memberships.end_memberships_of_user(connection, plan.user_id, now)
    if batch.new_groups:
        # An assignment by pattern, or a rule, can match the name of a new group.
        raise_revision(connection)
        if catalogue.named_by_its_name(source_id):
            for group_id in batch.new_groups:
                recompute_marks.mark_users_within(connection, group_id, now)


def _write_conflict(connection: Connection, plan: RecordPlan, source_id: str, now: Instant) -> None:
    data = plan.row.data if plan.standing.in_use is None else plan.standing.in_use
    own = plan.row.user_id
    if scim_conflicts.others(connection, source_id, data, own) != plan.others:
        raise StalePreview("A user with this name or email was created or deleted in the meantime.")
    if plan.others and not plan.linked:
        scim_conflicts.note(connection, source_id, plan.row.id, data, plan.others, now)
    elif not plan.others:
        stored_conflicts.end_conflicts(connection, source_id, "user", [plan.row.id])
