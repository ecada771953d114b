"""Plans what the policy of a source's inbound SCIM does with stored records."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import Connection

from dravo.core.identity.acceptance import (
    UNKNOWN_USER,
    InboundPolicy,
    Standing,
    StoredStanding,
    standing,
)
from dravo.core.identity.matching import Binding
from dravo.core.identity.names import fold
from dravo.core.identity.records import INBOUND_SCIM, UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan, UserSnapshot
from dravo.core.planning import plan_user, with_groups, with_record
from dravo.services.ingest.inbound import scim_conflicts
from dravo.services.ingest.inbound.matching import match_record
from dravo.store import groups
from dravo.store.ids import new_id
from dravo.store.received import made_groups, members
from dravo.store.received import records as received
from dravo.store.received.records import ReceivedRecord
from dravo.store.snapshots import users as user_snapshots

PLAIN = InboundPolicy()


@dataclass(frozen=True)
class RecordPlan:
    """What the policy does with one record.

    Attributes:
        row: the record as stored.
        standing: how it counts from now on.
        user_id: its user, or None.
        outcome: the plan of its user; None if the user does not change.
        linked: whether a new record belongs to an existing user.
        undecided: whether a conflict about its user is open.
        others: the users to whom it could belong; None if that was not asked.
        joined, parted: the IDs of groups, made of attributes, that the record joins and parts from.
    """

    row: ReceivedRecord
    standing: Standing
    user_id: str | None
    outcome: UserPlan | None = None
    linked: bool = False
    undecided: bool = False
    others: frozenset[str] | None = None
    joined: frozenset[str] = frozenset()
    parted: frozenset[str] = frozenset()

    @property
    def ended(self) -> bool:
        """Whether the source deleted the record, and the deletion counts."""
        return self.row.deleted_at is not None and self.standing.waiting is None


@dataclass(frozen=True)
class RecordPlans:
    """What the policy does with some records of a source.

    Attributes:
        plans: the plans, as far as something changes.
        put_off: the IDs of records that have to wait for another one of the same user.
        new_groups: names by ID of groups to make.
    """

    source_id: str
    plans: list[RecordPlan]
    put_off: list[str]
    new_groups: Mapping[str, str]


def plan_records(
    connection: Connection,
    catalogue: ConfigSnapshot,
    source_id: str,
    record_ids: Sequence[str],
    now: Instant,
) -> RecordPlans:
    """Return what the policy does with some records of a source."""
    rows = received.records(connection, record_ids)
    inbound = catalogue.inbound.get(source_id, PLAIN)
    source_key = catalogue.sources.get(source_id, "")
    ids = [row.id for row in rows]
    listed = members.groups_by_record(connection, ids, catalogue.parents) if inbound.needs_groups else {}
    made = MadeGroups(connection, source_id, inbound, ids)
    planner = _Planner(connection, catalogue, source_id, made, now)
    judged: list[tuple[ReceivedRecord, Standing]] = []
    for row in rows:
        before = StoredStanding(
            row.user if row.user_id is not None else None, row.left_out, row.deleted_at is not None
        )
        judged.append((row, standing(inbound, source_key, row.data, listed.get(row.id, ()), before)))
    # Most records do not change, and their users are not read.
    changed = {row.user_id for row, found in judged if row.user_id and planner.changes_user(row, found)}
    users = user_snapshots.users(connection, changed)
    plans: list[RecordPlan] = []
    put_off: list[str] = []
    taken: set[str] = set()
    for row, found in judged:
        plan = planner.plan(row, found, users.get(row.user_id) if row.user_id is not None else None)
        if plan is None:
            continue
        if plan.user_id is not None and plan.user_id in taken:
            put_off.append(row.id)
            continue
        if plan.user_id is not None:
            taken.add(plan.user_id)
        plans.append(plan)
    return RecordPlans(source_id, plans, put_off, made.new)


class MadeGroups:
    """The groups that a policy makes of attributes, with those of some records."""

    def __init__(
        self, connection: Connection, source_id: str, inbound: InboundPolicy, record_ids: Sequence[str]
    ) -> None:
        self.inbound = inbound
        self.new: dict[str, str] = {}
        self._of_records = made_groups.of_records(connection, record_ids)
        needed = inbound.policy.makes_groups
        self._by_name = made_groups.by_name(connection, source_id) if needed else {}

    def change(self, row: ReceivedRecord, *, counts: bool) -> tuple[frozenset[str], frozenset[str]]:
        """Return the IDs of the groups that a record joins, and of those that it parts from."""
        wanted: set[str] = set()
        if counts and self.inbound.policy.makes_groups:
            for name in self.inbound.policy.made_groups(row.data):
                wanted.add(self._id(name))
        held = self._of_records.get(row.id, set())
        return frozenset(wanted - held), frozenset(held - wanted)

    def _id(self, name: str) -> str:
        key = fold(name)
        if key not in self._by_name:
            self._by_name[key] = new_id()
            self.new[self._by_name[key]] = name
        return self._by_name[key]


class _Planner:
    """Plans one record after the other, from one state of the data."""

    def __init__(
        self,
        connection: Connection,
        catalogue: ConfigSnapshot,
        source_id: str,
        made: MadeGroups,
        now: Instant,
    ) -> None:
        self._connection, self._catalogue, self._now = connection, catalogue, now
        self._source_id, self._inbound, self._made = source_id, made.inbound, made

    def plan(self, row: ReceivedRecord, found: Standing, user: UserSnapshot | None) -> RecordPlan | None:
        """Return the plan of a record, or None if nothing changes.

        Args:
            user: the user of a record for which `changes_user` holds.
        """
        if row.user_id is None:
            return self._unlinked(row, found)
        if user is not None:
            return self._linked(row, found, user)
        same = (found.in_use, found.left_out, found.waiting) == (row.in_use, row.left_out, row.waiting)
        return None if same else RecordPlan(row, found, row.user_id, undecided=row.undecided)

    def changes_user(self, row: ReceivedRecord, found: Standing) -> bool:
        """Whether the user of a linked record is planned again; otherwise only the record is written."""
        if found.waiting is not None:
            return False
        counts = found.left_out is None and row.deleted_at is None
        data = row.data if found.in_use is None else found.in_use
        if data != row.user or counts != row.counts or row.waiting is not None:
            return True
        return any(self._made.change(row, counts=counts))

    def _unlinked(self, row: ReceivedRecord, found: Standing) -> RecordPlan | None:
        if row.deleted_at is not None:
            return None
        if found.left_out is not None:
            return None if found.left_out == row.left_out else RecordPlan(row, found, None)
        data = found.in_use or row.data
        others = scim_conflicts.others(self._connection, self._source_id, data)
        binding = Binding(new_id(), new=True)
        if others:
            matched = match_record(self._connection, self._source_id, data, others, binding.user_id)
            binding = matched if isinstance(matched, Binding) else binding
        if binding.new and not others and not self._inbound.policy.makes:
            out = Standing(
                found.in_use, UNKNOWN_USER, None, "No known user matches, and new users are not created."
            )
            return None if row.left_out == UNKNOWN_USER else RecordPlan(row, out, None)
        undecided = binding.new and bool(others)
        known = (
            UserSnapshot(binding.user_id, None, ())
            if binding.new
            else user_snapshots.users(self._connection, [binding.user_id])[binding.user_id]
        )
        record = UserRecord(row.id, self._source_id, INBOUND_SCIM, data, binding.user_id, undecided=undecided)
        joined, parted = self._made.change(row, counts=True)
        added = (*self._groups_of(row.id), *self._counting(joined))
        after = with_groups(with_record(known, record), added=added)
        outcome = plan_user(with_groups(after, removed=parted), self._catalogue, self._now)
        linked = not binding.new
        return RecordPlan(row, found, binding.user_id, outcome, linked, undecided, others, joined, parted)

    def _linked(self, row: ReceivedRecord, found: Standing, user: UserSnapshot) -> RecordPlan | None:
        data = row.data if found.in_use is None else found.in_use
        counts = found.left_out is None and row.deleted_at is None
        joined, parted = self._made.change(row, counts=counts)
        asks = counts and (row.undecided or scim_conflicts.differ(data, row.user))
        others = scim_conflicts.others(self._connection, self._source_id, data, row.user_id) if asks else None
        # A rename by the source does not lock out a user who has access: the conflict is only listed.
        undecided = row.undecided
        if others is not None:
            undecided = bool(others) and (row.undecided or not (user.access or user.accounts))
        record = UserRecord(row.id, self._source_id, INBOUND_SCIM, data, user.user_id, not counts, undecided)
        after = with_record(user, record)
        if not counts:
            after = replace(after, groups=self._groups_without(user, row.id))
        elif not row.counts:
            after = with_groups(after, added=self._groups_of(row.id))
        after = with_groups(after, added=self._counting(joined), removed=parted)
        outcome = plan_user(after, self._catalogue, self._now)
        return RecordPlan(
            row,
            found,
            user.user_id,
            outcome,
            undecided=undecided,
            others=others,
            joined=joined,
            parted=parted,
        )

    def _counting(self, group_ids: Iterable[str]) -> list[str]:
        """Return the groups whose members inbound SCIM decides about."""
        authority = self._catalogue.authority
        return [each for each in group_ids if authority.counts(self._source_id, each, INBOUND_SCIM)]

    def _groups_of(self, record_id: str) -> list[str]:
        listed = groups.ids_of_record(self._connection, record_id)
        out = groups.left_out(self._connection, listed)
        return [group_id for group_id in listed if group_id not in out]

    def _groups_without(self, user: UserSnapshot, record_id: str) -> tuple[str, ...]:
        """Return the groups of a user by other records, and local ones unless the user leaves."""
        counting = [each.id for each in user.records if each.id != record_id and not each.gone]
        listed = groups.groups_of_records(self._connection, counting, counting=True)
        out = groups.left_out(self._connection, [one for some in listed.values() for one, _ in some])
        local = groups.groups_of_user(self._connection, user.user_id) if counting else []
        found = [one for some in listed.values() for one, _ in some if one not in out]
        return tuple(dict.fromkeys((*found, *local)))
