"""Ingests one user or group: read a snapshot, plan with the core, apply in one short write; again if the
data changed meanwhile.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.access.evaluation import Assignment
from dravo.core.errors import NotFound, StalePreview
from dravo.core.identity.matching import EMAIL_KNOWN, LOOKS_ALIKE, NAME_KNOWN, bind
from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import UserRecord, searchable
from dravo.core.instants import Instant
from dravo.core.planning import ConfigSnapshot, UserPlan, UserSnapshot, plan_user, with_groups, with_record
from dravo.core.scim.errors import ScimError, invalid_value
from dravo.core.scim.filters import element_matches
from dravo.core.scim.patches import MemberChange, Operation, apply_patch
from dravo.core.scim.resources import check_immutable, unique_values
from dravo.core.scim.schemas import SchemaSet
from dravo.core.scim.versions import entity_tag
from dravo.services.ingest.types import (
    DEFAULT_OPTIONS,
    INBOUND_SCIM,
    NOBODY,
    IngestChange,
    IngestOptions,
    IngestResult,
    MemberPlan,
    Result,
)
from dravo.store import (
    clock,
    groups,
    memberships,
    provisioned_groups,
    recompute_marks,
    records,
)
from dravo.store.database import Database
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import matching as record_matching
from dravo.store.plan_writer import UserRewrite, apply_outcomes
from dravo.store.queries import users as user_queries
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import ConfigCache, check_revision, raise_revision
from dravo.store.snapshots.users import RecordWithTies

# How long a request is retried when concurrent requests change the same data first.
PATIENCE_SECONDS = 20.0
# Up to this number of users are recomputed within the request; more are marked for the worker.
AT_ONCE = 1_000


class Intake:
    """Ingests what one connection type of a source reports about its users and groups, one request at a
    time.
    """

    def __init__(
        self, database: Database, catalogue: ConfigCache, connection_type: str = INBOUND_SCIM
    ) -> None:
        self.database = database
        self.catalogue = catalogue
        self.connection_type = connection_type

    # Users

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
            binding = bind(None, new_user)
            with self.database.reading() as connection:
                others = self._others(connection, source_id, data)
            record = UserRecord(
                record_id, source_id, self.connection_type, data, binding.user_id, undecided=bool(others)
            )
            outcome = plan_user(
                UserSnapshot(binding.user_id, None, (record,), direct=tuple(direct(binding.user_id))),
                catalogue,
                now,
            )
            write_trace = manner.prepare(
                IngestChange("user", binding.user_id, None, data, [outcome], catalogue)
            )
            with self.database.writing() as connection:
                check_revision(connection, catalogue.revision)
                if self._others(connection, source_id, data) != others:
                    raise StalePreview(
                        "A user with this name or email was created or deleted in the meantime."
                    )
                apply_outcomes(connection, [outcome], now, rewrite=UserRewrite.NAMES, seen=catalogue.revision)
                records.insert_record(connection, record, now)
                if others:
                    self._note_conflict(connection, source_id, record_id, data, others, now)
                if unique:
                    records.claim(connection, record_id, source_id, unique)
                write_trace(connection)
            return IngestResult(record_id, data, 1, now, now)

        return self._until_it_stands(
            attempt, lambda: self._check_unique(source_id, data, None, manner.shapes)
        )

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
        shape = manner.shapes.user

        def attempt() -> IngestResult:
            nonlocal data
            now = clock.now()
            row, user, listed = self._look_at(source_id, record_id)
            if manner.condition:
                manner.condition.check(entity_tag(row.version, listed))
            data = change(row.data)
            if data == row.data and not gone:
                return IngestResult(record_id, data, row.version, row.created_at, row.modified_at, listed)
            catalogue = self.catalogue.latest(self.database)
            # An operator's decision holds as long as the values that were in conflict stay the same.
            asks = not gone and (row.undecided or _matched_values(data) != _matched_values(row.data))
            with self.database.reading() as connection:
                others = self._others(connection, source_id, data, row.user_id) if asks else NOBODY
            # A rename by the source does not lock out a user who has access: the conflict is only listed.
            undecided = (
                bool(others) and (row.undecided or not (user.access or user.accounts))
                if asks
                else row.undecided
            )
            record = UserRecord(
                record_id, source_id, self.connection_type, data, row.user_id, gone, undecided
            )
            after = with_record(user, record)
            if gone:
                # With one record, all groups of the user end; with several, only those of this record.
                after = replace(
                    after,
                    groups=self._groups_without(row.user_id, record_id) if len(after.records) > 1 else (),
                )
            outcome = plan_user(after, catalogue, now)
            # A user with one record equals that record; with several, a change can select another record's
            # values.
            alone = len(user.records) == 1
            before = row.data if alone else catalogue.merged(user.records).attributes
            renamed = searchable(data if alone else outcome.merged.attributes) != searchable(before)
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
                        self._note_conflict(connection, source_id, record_id, data, others, now)
                if undecided != row.undecided:
                    records.decided(connection, record_id, undecided=undecided)
                if (asks and not others) or gone:
                    stored_conflicts.end_conflicts(connection, source_id, "user", [record_id])
                if gone:
                    memberships.end_memberships_of_record(connection, record_id, now)
                if outcome.merged.gone:
                    memberships.end_memberships_of_user(connection, row.user_id, now)
                if shape.unique and (gone or unique_values(data, shape) != unique_values(row.data, shape)):
                    records.claim(
                        connection, record_id, source_id, [] if gone else unique_values(data, shape)
                    )
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
            return IngestResult(record_id, data, row.version + 1, row.created_at, now, listed)

        return self._until_it_stands(
            attempt, lambda: self._check_unique(source_id, data, record_id, manner.shapes)
        )

    def _others(
        self, connection: Connection, source_id: str, data: Mapping[str, Any], but: str | None = None
    ) -> frozenset[str]:
        """Return the IDs of users to whom a SCIM record could belong: same or similar user name, or same
        email.

        Args:
            but: the ID of the record's own user, which does not count.
        """
        return (
            record_matching.elsewhere(connection, source_id, *_matched_values(data), but=but)
            if self.connection_type == INBOUND_SCIM
            else NOBODY
        )

    def _note_conflict(
        self,
        connection: Connection,
        source_id: str,
        record_id: str,
        data: Mapping[str, Any],
        others: frozenset[str],
        now: Instant,
    ) -> None:
        """Record that an operator has to decide which user a SCIM record belongs to."""
        found = searchable(data)
        kind, what = self._what_conflicts(connection, data, others)
        conflict = {
            "native_id": record_id,
            "kind": kind,
            "name": found.display_name,
            "message": f"{what} This user has no access until an operator decides.",
            "entry": {"reference": found.user_name, "attributes": {}, "user": data},
            "candidates": sorted(others),
        }
        # An earlier decision was about another user name or email.
        stored_conflicts.end_conflicts(connection, source_id, "user", [record_id], decided_only=True)
        stored_conflicts.note_conflicts(connection, source_id, "user", [conflict], now, INBOUND_SCIM)

    def _what_conflicts(
        self, connection: Connection, data: Mapping[str, Any], others: frozenset[str]
    ) -> tuple[str, str]:
        """Return the kind of a conflict with some users, and a sentence on it."""
        found, (_, _, alike) = searchable(data), _matched_values(data)
        names = user_queries.user_name_keys(connection, others)
        if found.user_name_key in names:
            return NAME_KNOWN, f"Another source already has a user with the user name '{found.user_name}'."
        if alike in names:
            return LOOKS_ALIKE, f"The user name '{found.user_name}' looks like that of another user."
        return EMAIL_KNOWN, f"Another source already has a user with the email address '{found.email}'."

    def _look_at(
        self, source_id: str, record_id: str
    ) -> tuple[RecordWithTies, UserSnapshot, Sequence[tuple[str, str]]]:
        """Return a record's row, its user, and (ID, name) of its groups; a user without groups and access
        costs one query.
        """
        glanced = user_snapshots.at_a_glance(
            self.database.glancing(), source_id, self.connection_type, record_id
        )
        if glanced is not None:
            return glanced.record, glanced.user, ()
        with self.database.reading() as connection:
            found = user_snapshots.of_record(connection, source_id, self.connection_type, record_id)
            if found is None:
                raise NotFound(f"This source has no user with the ID '{record_id}'.")
            row, user = found.record, found.user
            return row, user, groups.groups_of_record(connection, record_id) if user.groups else ()

    def _groups_without(self, user_id: str, record_id: str) -> tuple[str, ...]:
        with self.database.reading() as connection:
            others = [each for each in records.ids_of_user(connection, user_id) if each != record_id]
            found = groups.groups_of_records(connection, others)
            local = groups.groups_of_user(connection, user_id)
        return tuple(
            dict.fromkeys((*(group_id for listed in found.values() for group_id, _ in listed), *local))
        )

    def _check_unique(
        self, source_id: str, data: dict[str, Any], own_id: str | None, shapes: SchemaSet
    ) -> None:
        key = searchable(data).user_name_key
        with self.database.reading() as connection:
            taken = records.has_user_name(connection, source_id, self.connection_type, key, own_id or "")
            other = records.whose(connection, source_id, unique_values(data, shapes.user), own_id or "")
        if taken:
            raise ScimError(
                409,
                f"This source already has a user with the userName '{data.get('userName')}'. Find this "
                "user with a filter on userName "
                "and update the existing user.",
                "uniqueness",
            )
        if other:
            raise ScimError(
                409, f"Another user of this source already has '{other[1]}' as {other[0]}.", "uniqueness"
            )

    # Groups

    def create_group(
        self,
        source_id: str,
        data: dict[str, Any],
        members: Sequence[str],
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
                plan = self._resolve(connection, source_id, group_id, list(members))
            catalogue = self.catalogue.latest(self.database)
            # No assignment can name a group that is created here, but a pattern or a rule can match its name.
            named = catalogue.named_by_its_name(source_id)
            write_trace = manner.prepare(
                IngestChange("group", group_id, None, data, added=len(members), marked=named)
            )
            with self.database.writing() as connection:
                check_revision(connection, catalogue.revision)
                groups.make(connection, group_id, source_id, self.connection_type, data, now)
                memberships.add_members(connection, group_id, plan.users_added, plan.groups_added, now)
                if plan.nesting or named or catalogue.asks_groups:
                    raise_revision(connection)
                if named or catalogue.asks_groups:
                    recompute_marks.mark_users_within(connection, group_id, now)
                write_trace(connection)
            return IngestResult(group_id, data, 1, now, now)

        return self._until_it_stands(attempt)

    def replace_group(
        self,
        source_id: str,
        group_id: str,
        data: dict[str, Any],
        members: Sequence[str],
        manner: IngestOptions = DEFAULT_OPTIONS,
    ) -> IngestResult:
        """Replace a group with its members (RFC 7644, section 3.5.1); raises as `patch_group`."""

        def change(before: dict[str, Any]) -> tuple[dict[str, Any], list[MemberChange]]:
            check_immutable(before, data, manner.shapes.group)
            return data, [MemberChange("replace", tuple(members))]

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
                plan = self._member_plan(connection, source_id, group_id, changes)
                if data == row.data and not plan and not gone:
                    return IngestResult(group_id, data, row.version, row.created_at, row.modified_at)
                catalogue = self.catalogue.get(connection)
                renamed = data["displayName"] != row.data["displayName"]
                by_name = renamed and catalogue.named_by_its_name(source_id)
                concerned = by_name or catalogue.concerns(group_id)
                in_full = concerned and not by_name and not plan.nesting and len(plan.users) <= AT_ONCE
                outcomes = self._outcomes(connection, catalogue, group_id, plan, now) if in_full else []
            added, removed = (
                len(plan.users_added | plan.groups_added),
                len(plan.users_removed | plan.groups_removed),
            )
            waits = concerned and not in_full
            done = IngestChange(
                "group",
                group_id,
                row.data,
                None if gone else data,
                outcomes,
                catalogue,
                added,
                removed,
                marked=waits,
            )
            write_trace = manner.prepare(done)
            with self.database.writing() as connection:
                check_revision(connection, catalogue.revision)
                if not groups.write(connection, group_id, row.version, data, now, gone=gone):
                    raise StalePreview("The group changed in the meantime.")
                self._write_members(connection, group_id, plan, now, mark=waits)
                if gone:
                    groups.end_group(connection, group_id, now)
                apply_outcomes(
                    connection, outcomes, now, rewrite=UserRewrite.NOTHING, seen=catalogue.revision
                )
                if plan.nesting or renamed or gone:
                    raise_revision(connection)
                    provisioned_groups.wake_group(connection, group_id, now)
                write_trace(connection)
            return IngestResult(group_id, data, row.version + 1, row.created_at, now)

        return self._until_it_stands(attempt)

    def _outcomes(
        self, connection: Connection, catalogue: ConfigSnapshot, group_id: str, plan: MemberPlan, now: Instant
    ) -> list[UserPlan]:
        user_of = user_snapshots.users_of_records(connection, plan.users)
        users = user_snapshots.users(connection, user_of.values())
        outcomes = []
        for record_ids, added in ((plan.users_added, True), (plan.users_removed, False)):
            for record_id in sorted(record_ids):
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
            recompute_marks.mark_users_within(connection, group_id, now)
        memberships.end_members(connection, group_id, [*plan.users_removed, *plan.groups_removed], now)
        memberships.add_members(
            connection, group_id, sorted(plan.users_added), sorted(plan.groups_added), now
        )
        if mark:
            recompute_marks.mark_users_within(connection, group_id, now)

    def _member_plan(
        self, connection: Connection, source_id: str, group_id: str, changes: Iterable[MemberChange]
    ) -> MemberPlan:
        """Return the member changes of some operations together."""
        wanted: dict[str, bool] = {}
        for change in changes:
            match change.kind:
                case "add":
                    wanted.update(dict.fromkeys(change.ids, True))
                case "remove":
                    wanted.update(dict.fromkeys(change.ids, False))
                case _:
                    listed = {
                        *groups.listed_records(connection, group_id),
                        *groups.listed_groups(connection, group_id),
                    }
                    present = {*listed.difference(each for each, stay in wanted.items() if not stay)}
                    present.update(each for each, stay in wanted.items() if stay)
                    if change.kind == "replace":
                        wanted.update(dict.fromkeys(present, False))
                        wanted.update(dict.fromkeys(change.ids, True))
                    else:
                        wanted.update(
                            dict.fromkeys(self._matching(connection, group_id, change, present), False)
                        )
        listed_now = groups.which_are_listed(connection, group_id, list(wanted))
        added = [each for each, stay in wanted.items() if stay and each not in listed_now]
        plan = self._resolve(connection, source_id, group_id, added)
        leaving = [each for each, stay in wanted.items() if not stay and each in listed_now]
        users_leaving, groups_leaving = groups.which_exist(
            connection, source_id, self.connection_type, leaving
        )
        return replace(plan, users_removed=frozenset(users_leaving), groups_removed=frozenset(groups_leaving))

    def _matching(
        self, connection: Connection, group_id: str, change: MemberChange, present: set[str]
    ) -> list[str]:
        assert change.matching is not None
        elements = (
            {"value": row[0], "type": row[1], "display": row[2]}
            for row in groups.members(connection, group_id)
        )
        return [
            each["value"]
            for each in elements
            if each["value"] in present and element_matches(change.matching, each)
        ]

    def _resolve(self, connection: Connection, source_id: str, group_id: str, ids: list[str]) -> MemberPlan:
        users, inner = groups.which_exist(connection, source_id, self.connection_type, ids)
        unknown = [each for each in ids if each not in users and each not in inner]
        if unknown:
            raise invalid_value(
                f"No user or group of this source has the ID '{unknown[0]}'"
                + (f" (and {len(unknown) - 1} more)" if len(unknown) > 1 else "")
                + "; create it first and use the ID from the response."
            )
        if group_id in inner:
            raise invalid_value("A group cannot be a member of itself.")
        return MemberPlan(users_added=frozenset(users), groups_added=frozenset(inner))

    def _until_it_stands(
        self, attempt: Callable[[], Result], explain: Callable[[], None] | None = None
    ) -> Result:
        """Try until the plan is still valid when it is written.

        Args:
            attempt: reads, plans and writes.
            explain: raises the error for a violated constraint; returns if there is no reason for it.
        """
        until = time.monotonic() + PATIENCE_SECONDS
        with contextlib.ExitStack() as turn:
            waits = False
            while True:
                try:
                    return attempt()
                except StalePreview:
                    if time.monotonic() > until:
                        raise
                    with self.database.reading() as connection:
                        self.catalogue.get(connection)
                except IntegrityError:
                    if explain is not None:
                        explain()
                    if time.monotonic() > until:
                        raise
                if not waits:
                    # From the second attempt on, requests wait for each other: otherwise they could conflict
                    # again and again.
                    turn.enter_context(self.database.overtaken)
                    waits = True


def _matched_values(data: Mapping[str, Any]) -> tuple[str, str | None, str | None]:
    """Return the values by which a SCIM User could be another user: user name, email, and a name that looks
    the same.
    """
    found = searchable(data)
    return found.user_name_key, fold(found.email) if found.email else None, lookalike_key(found.user_name)
