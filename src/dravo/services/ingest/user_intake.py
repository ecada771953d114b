"""Ingests users one at a time: read a snapshot, plan with the core, apply in one short write."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.errors import NotFound, StalePreview
from dravo.core.identity.matching import Binding, bind
from dravo.core.identity.records import INBOUND_SCIM, UserRecord, searchable
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserSnapshot
from dravo.core.planning import plan_user, with_record
from dravo.core.scim.patches import Operation, apply_patch
from dravo.core.scim.resources import check_immutable, unique_values
from dravo.core.scim.versions import entity_tag
from dravo.services.ingest.attempts import IngestAttempts
from dravo.services.ingest.inbound import scim_conflicts
from dravo.services.ingest.inbound.matching import match_record
from dravo.services.ingest.inbound.stored_users import StoredUsers
from dravo.services.ingest.types import DEFAULT_OPTIONS, NOBODY, IngestChange, IngestOptions, IngestResult
from dravo.store import (
    clock,
    groups,
    memberships,
    records,
)
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.plan_writer import UserRewrite, apply_outcomes
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision
from dravo.store.snapshots.users import RecordAndUser, RecordWithTies


class UserIntake(IngestAttempts):
    """Ingests what one connection type of a source reports about its users, one request at a time."""

    def create_user(
        self,
        source_id: str,
        data: dict[str, Any],
        manner: IngestOptions = DEFAULT_OPTIONS,
        direct: Callable[[str], Sequence[Assignment]] = lambda _: (),
    ) -> IngestResult:
        """Ingest a new user.

        Args:
            source_id: the source.
            data: a SCIM User as `read_resource` returns it.
            manner: the options.
            direct: returns the assignments of the new user, by user ID; `manner.trace` writes them.

        Raises:
            ScimError: 409 uniqueness, if the source has a user with this userName.
        """
        now = clock.now()
        unique = unique_values(data, manner.shapes.user)
        record_id, new_user = new_id(), new_id()

        def attempt() -> IngestResult:
            catalogue = self.catalogue.latest(self.database)
            self._check_not_retired(catalogue, source_id)
            inbound = self.connection_type == INBOUND_SCIM
            if inbound and (source_id in catalogue.inbound or source_id in catalogue.erased):
                return self.stored.create(source_id, record_id, data, manner)
            binding = bind(None, new_user)
            with self.database.reading() as connection:
                others = self._others(connection, source_id, data)
                if others:
                    matched = match_record(connection, source_id, data, others, new_user)
                    if isinstance(matched, Binding):
                        binding = matched
                known = None if binding.new else user_snapshots.users(connection, [binding.user_id])
            undecided = binding.new and bool(others)
            record = UserRecord(
                record_id, source_id, self.connection_type, data, binding.user_id, undecided=undecided
            )
            after = (
                UserSnapshot(binding.user_id, None, (record,), direct=tuple(direct(binding.user_id)))
                if known is None
                else with_record(known[binding.user_id], record)
            )
            outcome = plan_user(after, catalogue, now)
            done = IngestChange(
                "user", binding.user_id, None, data, [outcome], catalogue, linked=not binding.new
            )
            write_trace = manner.prepare(done)
            with self.database.writing() as connection:
                check_revision(connection, catalogue.revision)
                if self._others(connection, source_id, data) != others:
                    raise StalePreview(
                        "A user with this name or email was created or deleted in the meantime."
                    )
                apply_outcomes(connection, [outcome], now, rewrite=UserRewrite.NAMES, seen=catalogue.revision)
                records.insert_record(connection, record, now)
                if undecided:
                    scim_conflicts.note(connection, source_id, record_id, data, others, now)
                if unique:
                    records.claim(connection, record_id, source_id, unique)
                write_trace(connection)
            return IngestResult(record_id, data, 1, now, now)

        return self._apply(attempt, lambda: self._check_unique(source_id, data, None, manner.shapes))

    def replace_user(
        self, source_id: str, record_id: str, data: dict[str, Any], manner: IngestOptions = DEFAULT_OPTIONS
    ) -> IngestResult:
        """Replace a user (RFC 7644, section 3.5.1).

        Raises:
            NotFound: if the source has no such user.
            ScimError: 409 uniqueness, 412 for a failed condition, 400 mutability.
        """

        def change(before: dict[str, Any]) -> dict[str, Any]:
            check_immutable(before, data, manner.shapes.user)
            return data

        return self._change_user(source_id, record_id, change, manner)

    def patch_user(
        self,
        source_id: str,
        record_id: str,
        operations: Sequence[Operation],
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> IngestResult:
        """Patch a user (RFC 7644, section 3.5.2); raises as `replace_user` and `apply_patch`."""
        return self._change_user(
            source_id,
            record_id,
            lambda before: apply_patch(before, list(operations), manner.shapes.user).resource,
            manner,
        )

    def remove_user(self, source_id: str, record_id: str, manner: IngestOptions = DEFAULT_OPTIONS) -> None:
        """Delete a user: the memberships end, and the user stays as a leaver.

        Raises:
            NotFound: if the source has no such user.
            ScimError: 412 for a failed condition.
        """
        self._change_user(source_id, record_id, lambda before: before, manner, gone=True)

    def _change_user(
        self,
        source_id: str,
        record_id: str,
        change: Callable[[dict[str, Any]], dict[str, Any]],
        manner: IngestOptions,
        *,
        gone: bool = False,
    ) -> IngestResult:
        data: dict[str, Any] = {}

        def remember(before: dict[str, Any]) -> dict[str, Any]:
            nonlocal data
            data = change(before)
            return data

        def attempt() -> IngestResult:
            latest = self.catalogue.latest(self.database)
            seen = None if self._asks_policy(latest, source_id) else self._look_at(source_id, record_id)
            if seen is None or not seen[0].as_sent:
                return self.stored.change(source_id, record_id, remember, manner, gone=gone)
            row, _, listed = seen
            if manner.condition:
                manner.condition.check(entity_tag(row.version, listed))
            if remember(row.data) == row.data and not gone:
                return IngestResult(record_id, data, row.version, row.created_at, row.modified_at, listed)
            looked_at = RecordAndUser(row, seen[1])
            now = self._change_counting(latest, source_id, looked_at, data, manner, gone=gone)
            return IngestResult(record_id, data, row.version + 1, row.created_at, now, listed)

        return self._apply(attempt, lambda: self._check_unique(source_id, data, record_id, manner.shapes))

    def _change_counting(
        self,
        catalogue: ConfigSnapshot,
        source_id: str,
        looked_at: RecordAndUser,
        data: dict[str, Any],
        manner: IngestOptions,
        *,
        gone: bool,
    ) -> Instant:
        """Plan and write the change of a record that counts as the source sent it; return its time."""
        now, shape = clock.now(), manner.shapes.user
        row, user = looked_at.record, looked_at.user
        # An operator's decision holds as long as the values that were in conflict stay the same.
        asks = not gone and (row.undecided or scim_conflicts.differ(data, row.data))
        with self.database.reading() as connection:
            others = self._others(connection, source_id, data, row.user_id) if asks else NOBODY
        # A rename by the source does not lock out a user who has access: the conflict is only listed.
        undecided = (
            bool(others) and (row.undecided or not (user.access or user.accounts)) if asks else row.undecided
        )
        record = UserRecord(row.id, source_id, self.connection_type, data, row.user_id, gone, undecided)
        after = with_record(user, record)
        if gone:
            # With one record, all groups of the user end; with several, only those of this record.
            after = replace(
                after,
                groups=self._groups_without(row.user_id, row.id) if len(after.records) > 1 else (),
            )
        outcome = plan_user(after, catalogue, now)
        # A user with one record equals that record; with several, a change can select another record's
        # values.
        alone = len(user.records) == 1
        before = row.data if alone else catalogue.merged(user.records).attributes
        renamed = searchable(data if alone else outcome.merged.attributes) != searchable(before)
        renamed |= data.get("externalId") != row.data.get("externalId")
        write_trace = manner.prepare(
            IngestChange("user", row.user_id, row.data, None if gone else data, [outcome], catalogue)
        )
        with self.database.writing() as connection:
            if not records.update_record(connection, row, data, now, gone=gone):
                raise StalePreview("The record changed in the meantime.")
            if asks:
                if self._others(connection, source_id, data, row.user_id) != others:
                    raise StalePreview(
                        "A user with this name or email was created or deleted in the meantime."
                    )
                if others:
                    scim_conflicts.note(connection, source_id, row.id, data, others, now)
            if undecided != row.undecided:
                records.decided(connection, row.id, undecided=undecided)
            if (asks and not others) or gone:
                stored_conflicts.end_conflicts(connection, source_id, "user", [row.id])
            if gone:
                memberships.end_memberships_of_record(connection, row.id, now)
            if outcome.merged.gone:
                memberships.end_memberships_of_user(connection, row.user_id, now)
            if shape.unique and (gone or unique_values(data, shape) != unique_values(row.data, shape)):
                records.claim(connection, row.id, source_id, [] if gone else unique_values(data, shape))
            rewrite = UserRewrite.NAMES if renamed else UserRewrite.ATTRIBUTES
            apply_outcomes(
                connection,
                [outcome],
                now,
                rewrite=rewrite,
                seen=catalogue.revision,
                cleared=manner.cleared,
            )
            write_trace(connection)
        return now

    @cached_property
    def stored(self) -> StoredUsers:
        """Users of sources whose policy decides."""
        return StoredUsers(self.database, self.catalogue, self.keys)

    def _asks_policy(self, catalogue: ConfigSnapshot, source_id: str) -> bool:
        return self.connection_type == INBOUND_SCIM and source_id in catalogue.inbound

    def _others(
        self, connection: Connection, source_id: str, data: Mapping[str, Any], but: str | None = None
    ) -> frozenset[str]:
        """Return the IDs of possible users of a SCIM record; as `scim_conflicts.others`."""
        if self.connection_type != INBOUND_SCIM:
            return NOBODY
        return scim_conflicts.others(connection, source_id, data, but)

    def _look_at(
        self, source_id: str, record_id: str
    ) -> tuple[RecordWithTies, UserSnapshot, Sequence[tuple[str, str]]] | None:
        """Return a record's row, its user, and (ID, name) of its groups; a user without groups and access
        costs one query. None for a record without a user.
        """
        glanced = user_snapshots.at_a_glance(
            self.database.glancing(), source_id, self.connection_type, record_id
        )
        if glanced is not None:
            return glanced.record, glanced.user, ()
        with self.database.reading() as connection:
            found = user_snapshots.of_record(connection, source_id, self.connection_type, record_id)
            if found is None and self.connection_type == INBOUND_SCIM:
                return None
            if found is None:
                raise NotFound(f"This source has no user with the ID '{record_id}'.")
            row, user = found.record, found.user
            return row, user, groups.groups_of_record(connection, record_id) if user.groups else ()

    def _groups_without(self, user_id: str, record_id: str) -> tuple[str, ...]:
        with self.database.reading() as connection:
            others = [each for each in records.ids_of_user(connection, user_id) if each != record_id]
            found = groups.groups_of_records(connection, others, counting=True)
            local = groups.groups_of_user(connection, user_id)
        return tuple(
            dict.fromkeys((*(group_id for listed in found.values() for group_id, _ in listed), *local))
        )
