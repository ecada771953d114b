"""Ingests groups one at a time, with their members."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import NotFound, StalePreview
from dravo.core.identity.acceptance import DISABLED, InboundPolicy, ReceivedGroup
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan
from dravo.core.planning import plan_user, with_groups
from dravo.core.scim.patches import MemberChange, Operation, apply_patch
from dravo.core.scim.resources import check_immutable
from dravo.core.scim.versions import entity_tag
from dravo.services.ingest.inbound.member_changes import MemberChanges
from dravo.services.ingest.inbound.policy_application import PolicyApplication
from dravo.services.ingest.inbound.stored_groups import StoredGroupPlan, StoredGroups, plan_group
from dravo.services.ingest.types import (
    DEFAULT_OPTIONS,
    IngestChange,
    IngestOptions,
    IngestResult,
    MemberPlan,
)
from dravo.store import (
    clock,
    groups,
    memberships,
    provisioned_groups,
    recompute_marks,
)
from dravo.store.groups import StoredGroup
from dravo.store.ids import new_id
from dravo.store.plan_writer import UserRewrite, apply_outcomes
from dravo.store.queries import runs as run_queries
from dravo.store.received import groups as received_groups
from dravo.store.received import members
from dravo.store.received import records as received
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision, raise_revision

# Up to this number of users are recomputed within the request; more are marked for the worker.
AT_ONCE = 1_000


@dataclass(frozen=True)
class GroupPlan:
    """The plan of a changed group.

    Attributes:
        row: the group as stored.
        data: what the source sends now.
        members: the members that change.
        outcomes: the plans of the users that change.
        catalogue: the configuration it was planned with.
        marks: whether its users are marked, to be computed later.
        renamed: whether its name changes.
        decides: whether being a member decides if a record is accepted.
        gone: whether the source deletes it.
    """

    row: StoredGroup
    data: dict[str, Any]
    members: MemberPlan
    outcomes: list[UserPlan]
    catalogue: ConfigSnapshot
    marks: bool
    renamed: bool
    decides: bool
    gone: bool


class GroupIntake(MemberChanges):
    """Ingests what one connection type of a source reports about its groups, one request at a time."""

    def create_group(
        self,
        source_id: str,
        data: dict[str, Any],
        listed: Sequence[str],
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> IngestResult:
        """Create a group with its members.

        Raises:
            ScimError: 400 invalidValue, for a member that the source does not have.
        """
        group_id = new_id()

        def attempt() -> IngestResult:
            now = clock.now()
            with self.database.reading() as connection:
                plan = self.resolve(connection, source_id, group_id, list(listed))
            catalogue = self.catalogue.latest(self.database)
            self._check_not_retired(catalogue, source_id)
            inbound = self._inbound(catalogue, source_id)
            left_out = inbound.new_group_left_out(_as_received(group_id, data)) if inbound else None
            # No assignment can name a group that is created here, but a pattern or a rule can match its name.
            named = catalogue.named_by_its_name(source_id) and left_out is None
            asked = named or (catalogue.asks_groups and left_out is None)
            write_trace = manner.prepare(
                IngestChange("group", group_id, None, data, added=len(listed), marked=named)
            )
            with self.database.writing() as connection:
                check_revision(connection, catalogue.revision)
                groups.make(connection, group_id, source_id, self.connection_type, data, now)
                memberships.add_members(connection, group_id, plan.users_added, plan.groups_added, now)
                if left_out is not None:
                    groups.leave_out(connection, group_id, left_out)
                if plan.nesting or asked:
                    raise_revision(connection)
                if asked:
                    recompute_marks.mark_users_within(connection, group_id, now, self.run_id)
                if inbound is not None and inbound.decides_by(_as_received(group_id, data)):
                    received.mark_selected(connection, source_id, received.records_within([group_id]), now)
                write_trace(connection)
            return IngestResult(group_id, data, 1, now, now)

        created = self._apply(attempt)
        self._apply_policy(source_id)
        return created

    def replace_group(
        self,
        source_id: str,
        group_id: str,
        data: dict[str, Any],
        listed: Sequence[str],
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> IngestResult:
        """Replace a group with its members (RFC 7644, section 3.5.1); raises as `patch_group`."""

        def change(before: dict[str, Any]) -> tuple[dict[str, Any], list[MemberChange]]:
            check_immutable(before, data, manner.shapes.group)
            return data, [MemberChange("replace", tuple(listed))]

        return self._change_group(source_id, group_id, change, manner)

    def patch_group(
        self,
        source_id: str,
        group_id: str,
        operations: Sequence[Operation],
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> IngestResult:
        """Patch a group (RFC 7644, section 3.5.2); members that are not named are neither read nor written.

        Raises:
            NotFound: if the source has no such group.
            ScimError: as `apply_patch`, and 400 invalidValue for a member that the source does not have.
        """

        def change(before: dict[str, Any]) -> tuple[dict[str, Any], list[MemberChange]]:
            patched = apply_patch(before, list(operations), manner.shapes.group)
            return patched.resource, patched.members

        return self._change_group(source_id, group_id, change, manner)

    def rename_group(
        self, source_id: str, group_id: str, name: str, manner: IngestOptions = DEFAULT_OPTIONS
    ) -> IngestResult:
        """Rename a group; raises as `patch_group`."""
        return self._change_group(
            source_id, group_id, lambda before: ({**before, "displayName": name}, []), manner
        )

    def remove_group(self, source_id: str, group_id: str, manner: IngestOptions = DEFAULT_OPTIONS) -> None:
        """Delete a group, and end its memberships.

        Raises:
            NotFound: if the source has no such group.
        """
        self._change_group(
            source_id, group_id, lambda before: (before, [MemberChange("replace", ())]), manner, gone=True
        )

    def _change_group(
        self,
        source_id: str,
        group_id: str,
        change: Callable[[dict[str, Any]], tuple[dict[str, Any], list[MemberChange]]],
        manner: IngestOptions,
        *,
        gone: bool = False,
    ) -> IngestResult:
        def attempt() -> IngestResult:
            now = clock.now()
            with self.database.reading() as connection:
                row = groups.get(connection, source_id, self.connection_type, group_id)
                if row is None:
                    raise NotFound(f"This source has no group with the ID '{group_id}'.")
                if manner.condition:
                    manner.condition.check(entity_tag(row.version))
                data, changes = change(row.data)
                inbound = self._inbound(self.catalogue.get(connection), source_id)
                waiting = (
                    self._waiting_plan(connection, source_id, group_id, (data, changes), gone=gone)
                    if _waits(row, inbound, _as_received(group_id, data))
                    else None
                )
                if waiting is None:
                    members_plan = self.member_plan(connection, source_id, group_id, changes)
                    if data == row.data and not members_plan and not gone:
                        return IngestResult(group_id, data, row.version, row.created_at, row.modified_at)
                    planned = self._planned(connection, source_id, (row, data, members_plan), now, gone=gone)
            if waiting is not None:
                return self._stored_groups.write(waiting, manner)
            self._write(source_id, planned, manner, now)
            return IngestResult(group_id, data, row.version + 1, row.created_at, now)

        changed = self._apply(attempt)
        self._apply_policy(source_id)
        return changed

    def _planned(
        self,
        connection: Connection,
        source_id: str,
        change: tuple[StoredGroup, dict[str, Any], MemberPlan],
        now: Instant,
        *,
        gone: bool,
    ) -> GroupPlan:
        """Return the plan of a changed group, with the users that are computed at once."""
        row, data, plan = change
        catalogue = self.catalogue.get(connection)
        inbound = self._inbound(catalogue, source_id)
        renamed = data["displayName"] != row.data["displayName"]
        by_name = renamed and catalogue.named_by_its_name(source_id)
        concerned = (by_name or catalogue.concerns(row.id)) and row.left_out is None
        if not by_name and not catalogue.authority.counts(source_id, row.id, self.connection_type):
            # The source may list its members; who is one is decided elsewhere.
            concerned = False
        in_full = concerned and not by_name and not plan.nesting and len(plan.users) <= AT_ONCE
        return GroupPlan(
            row,
            data,
            plan,
            self._outcomes(connection, catalogue, row.id, plan, now) if in_full else [],
            catalogue,
            marks=concerned and not in_full,
            renamed=renamed,
            decides=inbound is not None and self._decides(connection, catalogue, inbound, row, data),
            gone=gone,
        )

    def _write(self, source_id: str, planned: GroupPlan, manner: IngestOptions, now: Instant) -> None:
        """Write a planned change with its trace.

        Raises:
            StalePreview: if the group or the configuration changed in the meantime.
        """
        group_id, plan = planned.row.id, planned.members
        done = IngestChange(
            "group",
            group_id,
            planned.row.data,
            None if planned.gone else planned.data,
            planned.outcomes,
            planned.catalogue,
            len(plan.users_added | plan.groups_added),
            len(plan.users_removed | plan.groups_removed),
            marked=planned.marks,
        )
        write_trace = manner.prepare(done)
        with self.database.writing() as connection:
            check_revision(connection, planned.catalogue.revision)
            version = planned.row.version
            if not groups.write(connection, group_id, version, planned.data, now, gone=planned.gone):
                raise StalePreview("The group changed in the meantime.")
            # Records are marked before and after the change: those that part and those that join.
            within = received.records_within([group_id, *plan.groups_removed])
            if planned.decides:
                received.mark_selected(connection, source_id, within, now)
            self._write_members(connection, group_id, plan, now, mark=planned.marks)
            if planned.decides:
                received.mark_selected(connection, source_id, within, now)
            if planned.gone:
                groups.end_group(connection, group_id, now)
            seen = planned.catalogue.revision
            apply_outcomes(connection, planned.outcomes, now, rewrite=UserRewrite.NOTHING, seen=seen)
            if self.run_id is not None:
                run_queries.add_ended(connection, self.run_id, planned.outcomes)
            if plan.nesting or planned.renamed or planned.gone:
                raise_revision(connection)
                provisioned_groups.wake_group(connection, group_id, now)
            write_trace(connection)

    # Policies of inbound SCIM

    @cached_property
    def _stored_groups(self) -> StoredGroups:
        return StoredGroups(self.database, self.catalogue)

    def _inbound(self, catalogue: ConfigSnapshot, source_id: str) -> InboundPolicy | None:
        return catalogue.inbound.get(source_id) if self.connection_type == INBOUND_SCIM else None

    def _apply_policy(self, source_id: str) -> None:
        """Apply the policy to records whose groups changed, unless there are many: those the worker does."""
        inbound = self._inbound(self.catalogue.latest(self.database), source_id)
        if inbound is None or not inbound.needs_groups:
            return
        with self.database.reading() as connection:
            marked = received.marked(connection, AT_ONCE + 1, source_id)
        if len(marked) <= AT_ONCE:
            PolicyApplication(self.database, self.catalogue).apply(source_id, [each for each, _ in marked])

    def _decides(
        self,
        connection: Connection,
        catalogue: ConfigSnapshot,
        inbound: InboundPolicy,
        row: StoredGroup,
        data: Mapping[str, Any],
    ) -> bool:
        """Whether being a member of a group, or of one around it, decides if a record is accepted."""
        if not inbound.needs_groups:
            return False
        around = [row.id]
        for each in around:
            around += [outer for outer in catalogue.parents.get(each, ()) if outer not in around]
        known = received_groups.some(connection, around)
        return any(inbound.decides_by(each) for each in (*known, _as_received(row.id, data)))

    def _waiting_plan(
        self,
        connection: Connection,
        source_id: str,
        group_id: str,
        wanted: tuple[Mapping[str, Any], Iterable[MemberChange]],
        *,
        gone: bool,
    ) -> StoredGroupPlan:
        """Return the plan of a group that waits: with the members that the source lists after the change."""
        row = received_groups.group(connection, source_id, group_id)
        assert row is not None
        data, changes = wanted
        listed = members.listed_members(connection, group_id)
        stays = self.wanted_members(connection, group_id, changes, lambda: listed)
        target = (listed | {each for each, stay in stays.items() if stay}) - {
            each for each, stay in stays.items() if not stay
        }
        self.resolve(connection, source_id, group_id, sorted(target - listed))
        found = groups.which_are_present(connection, target)
        return plan_group(connection, self.catalogue.get(connection), row, data, found, gone=gone)

    def _outcomes(
        self, connection: Connection, catalogue: ConfigSnapshot, group_id: str, plan: MemberPlan, now: Instant
    ) -> list[UserPlan]:
        user_of = user_snapshots.users_of_records(connection, plan.users)
        users = user_snapshots.users(connection, user_of.values())
        outcomes = []
        for record_ids, added in ((plan.users_added, True), (plan.users_removed, False)):
            # A record that counts for no user changes nobody.
            for record_id in sorted(record_ids & user_of.keys()):
                user = users[user_of[record_id]]
                after = (
                    with_groups(user, added=[group_id]) if added else with_groups(user, removed=[group_id])
                )
                outcomes.append(plan_user(after, catalogue, now))
        return outcomes

    def _write_members(
        self, connection: Connection, group_id: str, plan: MemberPlan, now: Instant, *, mark: bool
    ) -> None:
        if mark:
            # Users before and after the change are marked: those who leave and those who join.
            recompute_marks.mark_users_within(connection, group_id, now, self.run_id)
        memberships.end_members(connection, group_id, [*plan.users_removed, *plan.groups_removed], now)
        memberships.add_members(
            connection, group_id, sorted(plan.users_added), sorted(plan.groups_added), now
        )
        if mark:
            recompute_marks.mark_users_within(connection, group_id, now, self.run_id)


def _waits(row: StoredGroup, inbound: InboundPolicy | None, new: ReceivedGroup) -> bool:
    """Whether a group changes by way of what waits: its source is disabled, its policy changed, or the group
    is accepted from now on or no longer.
    """
    if row.waiting is not None:
        return True
    if inbound is None:
        return row.left_out is not None
    return inbound.status == DISABLED or inbound.group_left_out(new) != row.left_out


def _as_received(group_id: str, data: Mapping[str, Any]) -> ReceivedGroup:
    return ReceivedGroup(group_id, str(data["displayName"]), data.get("externalId"))
