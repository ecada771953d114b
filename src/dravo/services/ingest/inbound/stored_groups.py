"""Groups of inbound SCIM that wait, because their source is disabled or its policy changed: what the source
sends is stored, and counts once the source is enabled.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import StalePreview
from dravo.core.identity.acceptance import CHANGE, DELETION, DISABLED, InboundPolicy, ReceivedGroup
from dravo.core.identity.names import fold
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot
from dravo.services.ingest.inbound.record_plans import PLAIN
from dravo.services.ingest.types import IngestChange, IngestOptions, IngestResult
from dravo.store import clock, groups, memberships, provisioned_groups, recompute_marks
from dravo.store.database import Database
from dravo.store.received import groups as received_groups
from dravo.store.received import members
from dravo.store.received import records as received
from dravo.store.received.groups import ReceivedGroupRow
from dravo.store.snapshots.config import ConfigCache, check_revision, raise_revision


@dataclass(frozen=True)
class StoredGroupPlan:
    """What becomes of a group that waits.

    Attributes:
        row: the group as stored.
        data: what the source sends now.
        gone: whether the source deletes it.
        records, groups: the members that the source lists now.
        counting_records, counting_groups: the members that count until now.
        catalogue: the configuration it was planned with.
    """

    row: ReceivedGroupRow
    data: Mapping[str, Any]
    gone: bool
    records: frozenset[str]
    groups: frozenset[str]
    counting_records: frozenset[str]
    counting_groups: frozenset[str]
    catalogue: ConfigSnapshot

    @property
    def inbound(self) -> InboundPolicy:
        """The policy of its source."""
        return self.catalogue.inbound.get(self.row.source_id, PLAIN)

    @property
    def listed(self) -> frozenset[str]:
        """All members that the source lists now."""
        return self.records | self.groups

    @property
    def counting(self) -> frozenset[str]:
        """All members that count until now."""
        return self.counting_records | self.counting_groups

    @property
    def group(self) -> ReceivedGroup:
        """The group as the source sends it now."""
        return ReceivedGroup(self.row.id, str(self.data["displayName"]), self.data.get("externalId"))


def plan_group(
    connection: Connection,
    catalogue: ConfigSnapshot,
    row: ReceivedGroupRow,
    data: Mapping[str, Any],
    listed: tuple[Collection[str], Collection[str]],
    *,
    gone: bool,
) -> StoredGroupPlan:
    """Return what becomes of a group.

    Args:
        listed: the IDs of the records, and of the groups, that the source lists now.
    """
    of_records, of_groups = listed
    return StoredGroupPlan(
        row,
        data,
        gone,
        frozenset(of_records),
        frozenset(of_groups),
        frozenset(groups.listed_records(connection, row.id)),
        frozenset(groups.listed_groups(connection, row.id)),
        catalogue,
    )


class StoredGroups:
    """Writes groups that wait, and lets them count."""

    def __init__(self, database: Database, catalogue: ConfigCache) -> None:
        self.database, self.catalogue = database, catalogue

    def write(self, plan: StoredGroupPlan, manner: IngestOptions) -> IngestResult:
        """Store what the source sent; let it count unless the source is disabled.

        Raises:
            StalePreview: if the group changed since it was read.
        """
        now, row = clock.now(), plan.row
        waits = plan.inbound.status == DISABLED
        note = "The source is disabled: this counts once it is enabled." if waits else ""
        done = IngestChange(
            "group",
            row.id,
            row.data,
            None if plan.gone else plan.data,
            catalogue=plan.catalogue,
            added=len(plan.listed - plan.counting),
            removed=len(plan.counting - plan.listed),
            marked=not waits,
            note=note,
        )
        write_trace = manner.prepare(done)
        with self.database.writing() as connection:
            check_revision(connection, plan.catalogue.revision)
            if waits:
                _store(connection, plan, now)
            else:
                settle(connection, plan, now, version=row.version + 1)
            write_trace(connection)
        return IngestResult(row.id, dict(plan.data), row.version + 1, row.created_at, now)

    def settle_waiting(self) -> int:
        """Let the groups count that wait at sources that are not disabled; return their number.

        All of them are done at once, before access is computed: a user who moved from one group to another
        must not lose access in between.
        """
        with self.database.reading() as connection:
            waiting = received_groups.waiting_groups(connection)
        for source_id, group_id in waiting:
            for remaining in range(8, 0, -1):
                try:
                    self._settle(source_id, group_id)
                except StalePreview:
                    if remaining == 1:
                        raise
                    continue
                break
        return len(waiting)

    def _settle(self, source_id: str, group_id: str) -> None:
        now = clock.now()
        with self.database.reading() as connection:
            catalogue = self.catalogue.get(connection)
            row = received_groups.group(connection, source_id, group_id)
            if row is None or row.waiting is None:
                return
            added, ended = members.waiting_members(connection, group_id)
            counting_records = groups.listed_records(connection, group_id)
            counting_groups = groups.listed_groups(connection, group_id)
            new_records, new_groups = groups.which_are_present(connection, added)
            gone = row.deleted_at is not None
            listed = (
                (set[str](), set[str]())
                if gone
                else ((counting_records - ended) | new_records, (counting_groups - ended) | new_groups)
            )
            plan = plan_group(connection, catalogue, row, row.data, listed, gone=gone)
        with self.database.writing() as connection:
            check_revision(connection, catalogue.revision)
            settle(connection, plan, now, version=row.version)


def _store(connection: Connection, plan: StoredGroupPlan, now: Instant) -> None:
    """Store a group of a disabled source; nothing of it counts yet."""
    row = plan.row
    name = str(plan.data["displayName"])
    in_use = row.name_in_use or row.display_name
    renamed = name != in_use and row.left_out is None
    differs = plan.gone or renamed or plan.listed != plan.counting
    columns = {
        "data": plan.data,
        "display_name": name,
        "display_name_key": fold(name),
        "external_id": plan.data.get("externalId"),
        "version": row.version + 1,
        "name_in_use": in_use if renamed else None,
        "deleted_at": now if plan.gone else None,
        "waiting": DELETION if plan.gone else CHANGE if differs else None,
    }
    _write(connection, plan, columns, now)
    members.set_waiting_members(
        connection,
        row.id,
        (plan.records - plan.counting_records, plan.groups - plan.counting_groups),
        plan.counting - plan.listed,
        now,
    )


def settle(connection: Connection, plan: StoredGroupPlan, now: Instant, version: int) -> None:
    """Let a group count as the source sent it last.

    Raises:
        StalePreview: if the group changed since it was read.
    """
    row, name = plan.row, str(plan.data["displayName"])
    left_out = plan.inbound.group_left_out(plan.group)
    columns = {
        "data": plan.data,
        "display_name": name,
        "display_name_key": fold(name),
        "external_id": plan.data.get("externalId"),
        "version": version,
        "name_in_use": None,
        "deleted_at": (row.deleted_at or now) if plan.gone else None,
        "left_out": left_out,
        "waiting": None,
    }
    # Users before and after the change are marked: those who leave and those who join.
    recompute_marks.mark_users_within(connection, row.id, now)
    if plan.inbound.needs_groups:
        received.mark_selected(connection, row.source_id, received.records_within([row.id]), now)
    _write(connection, plan, columns, now)
    members.clear_waiting_members(connection, row.id)
    memberships.end_members(connection, row.id, sorted(plan.counting - plan.listed), now)
    memberships.add_members(
        connection,
        row.id,
        sorted(plan.records - plan.counting_records),
        sorted(plan.groups - plan.counting_groups),
        now,
    )
    recompute_marks.mark_users_within(connection, row.id, now)
    if plan.inbound.needs_groups:
        received.mark_selected(connection, row.source_id, received.records_within([row.id]), now)
    if plan.gone:
        groups.end_group(connection, row.id, now)
    raise_revision(connection)
    provisioned_groups.wake_group(connection, row.id, now)


def _write(connection: Connection, plan: StoredGroupPlan, columns: Mapping[str, Any], now: Instant) -> None:
    if not received_groups.write_group(connection, plan.row, columns, now):
        raise StalePreview("The group changed in the meantime.")
