"""Leavers of a run: users that a source no longer reports."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import StalePreview
from dravo.core.identity.records import IMPORT, UserRecord
from dravo.core.identity.source_policy import SourcePolicy
from dravo.core.plan_types import UserPlan, UserSnapshot
from dravo.core.planning import plan_user, with_record
from dravo.protocols.directory.reader import Entry
from dravo.services.context import AppContext
from dravo.services.ingest.run_log import STANDARD_RUN, RunOptions
from dravo.store import clock, groups, memberships
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import records as imported_records
from dravo.store.plan_writer import ConfirmedRemovals, UserRewrite, apply_outcomes
from dravo.store.queries import runs as run_queries
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision
from dravo.store.sources.sources import Source

BATCH = 250
TRIES = 8
NEW, CHANGED, BACK, LEFT, REFUSED, OUTSIDE, UNKNOWN, CONFLICT, UNCHANGED = (
    "new",
    "changed",
    "back",
    "left",
    "refused",
    "outside",
    "ignored",
    "conflict",
    "unchanged",
)


def write_lines(connection: Connection, lines: Sequence[Mapping[str, Any]]) -> None:
    """Write what a run did to users and groups; without a run, the lines are returned to the caller."""
    run_queries.insert_entries(connection, [each for each in lines if each["run_id"] is not None])


class BulkLeavers:
    """Finds and removes the users that a run did not report."""

    def __init__(
        self,
        ctx: AppContext,
        source: Source,
        policy: SourcePolicy,
        run_id: str | None,
        options: RunOptions = STANDARD_RUN,
        connection_type: str = IMPORT,
    ) -> None:
        self.ctx, self.source, self.policy, self.run_id = ctx, source, policy, run_id
        self.preview, self.whole = options.preview, bool(options.whole)
        self.connection_type = connection_type
        with ctx.database.reading() as connection:
            # In an import of changes, users are looked up one batch at a time.
            self.known = (
                imported_records.known_users(connection, source.id, connection_type=connection_type)
                if self.whole
                else {}
            )
            self._present = (
                0 if self.whole else imported_records.how_many(connection, source.id, connection_type)
            )
            self._conflicted = stored_conflicts.with_conflicts(connection, source.id, "user")
        self.seen: set[str] = set()
        self.outside: set[str] = set()
        self.counts: Counter[str] = Counter()
        self.gained: Counter[tuple[str, str]] = Counter()
        self.lost: Counter[tuple[str, str]] = Counter()
        # Groups that this import has processed: missing users are not members of them.
        self.listed_now: list[str] = []
        self._put_off: list[Entry] = []
        # Without a run, the result of each user, for the waiting caller.
        self.told: list[dict[str, Any]] = []
        # With a pilot group: the references of its members. Other users stay unchanged.
        self.pilots: frozenset[str] | None = None
        # The references of users in the groups of the scope; None if it asks for none.
        self.members: frozenset[str] | None = None
        # Native IDs of the present batch that belong to erased users.
        self._erased_in_batch: frozenset[str] = frozenset()
        # In a preview: names and addresses of users that would be created, so that duplicates are reported.
        self._planned: dict[str, str] = {}
        # And the planned users before their groups are known: existing ones by user ID, new ones by
        # reference.
        self.after: dict[str, UserSnapshot] = {}
        self.new: dict[str, UserSnapshot] = {}

    @property
    def ignored_erased(self) -> bool:
        """Whether the last batch had records of erased users."""
        return bool(self._erased_in_batch)

    @property
    def present(self) -> int:
        """The number of users that the source has, as far as known."""
        return sum(1 for each in self.known.values() if not each.gone) if self.whole else self._present

    def _line(
        self,
        kind: str,
        user_id: str | None,
        name: str,
        differs: Mapping[str, Any] | None = None,
        message: str | None = None,
    ) -> dict[str, Any]:
        # A user that would be created has no ID yet.
        shown = None if self.preview and kind == NEW else user_id
        return {
            "run_id": self.run_id,
            "kind": kind,
            "user_id": shown,
            "name": name,
            "changes": differs or None,
            "message": message,
        }

    def lines_only(self, lines: Iterable[tuple[str, str, str]]) -> None:
        """Write entries that concern no user, as (kind, name, message)."""
        made = [self._line(kind, None, name, message=message) for kind, name, message in lines]
        self.counts.update(kind for kind, _, _ in lines)
        with self.ctx.database.writing() as connection:
            write_lines(connection, made)

    def weigh(self, outcomes: Iterable[UserPlan]) -> None:
        """Count what users would gain and lose, by role."""
        for outcome in outcomes:
            self.gained.update(
                (change.application_id, change.role_id) for change in outcome.access if change.id is None
            )
            self.lost.update(
                (change.application_id, change.role_id) for change in outcome.access if change.closed
            )

    def missing(self) -> list[str]:
        """Return the native IDs of users that the run did not report, or that are out of scope now."""
        return [
            native_id
            for native_id, each in self.known.items()
            if not each.gone and (native_id not in self.seen or native_id in self.outside)
        ]

    def leave(self, native_ids: Sequence[str], cleared: ConfirmedRemovals | None = None) -> None:
        """Mark users as left: their memberships end, and the user stays as a leaver."""
        for start in range(0, len(native_ids), BATCH):
            some = native_ids[start : start + BATCH]
            for remaining in range(TRIES, 0, -1):
                try:
                    self._leave_some(some, cleared)
                except StalePreview:
                    if remaining == 1:
                        raise
                    continue
                break
            for native_id in some:
                self.known[native_id] = replace(self.known[native_id], gone=True)

    def _leave_some(self, native_ids: Sequence[str], cleared: ConfirmedRemovals | None) -> None:
        now = clock.now()
        with self.ctx.database.reading() as connection:
            catalogue = self.ctx.catalogue.get(connection)
            found = [
                row
                for row in imported_records.rows(
                    connection, [self.known[each].id for each in native_ids]
                ).values()
                if row.deleted_at is None
            ]
            users = user_snapshots.users(connection, [row.user_id for row in found])
            others = [each.id for row in found for each in users[row.user_id].records if each.id != row.id]
            listed = groups.groups_of_records(connection, others, counting=True) if others else {}
            outcomes, lines = [], []
            for row in found:
                user = users[row.user_id]
                after = with_record(
                    user,
                    UserRecord(
                        row.id, self.source.id, self.connection_type, row.data, row.user_id, gone=True
                    ),
                )
                kept = [
                    group_id
                    for each in user.records
                    if each.id != row.id
                    for group_id, _ in listed.get(each.id, ())
                ]
                local = (
                    groups.groups_of_user(connection, row.user_id) if kept or len(user.records) > 1 else []
                )
                outcome = plan_user(
                    replace(after, groups=tuple(dict.fromkeys((*kept, *local)))), catalogue, now
                )
                outcomes.append(outcome)
                lines.append(self._line(LEFT, row.user_id, imported_groups.shown_name(row.data)))
        self.counts[LEFT] += len(found)
        if self.preview:
            self.weigh(outcomes)
            with self.ctx.database.writing() as connection:
                write_lines(connection, lines)
            return
        with self.ctx.database.writing() as connection:
            check_revision(connection, catalogue.revision)
            # Groups that still list them are processed again at the next import, because they may return.
            imported_records.forget_digests(
                connection, [row.id for row in found if row.native_id in self.seen]
            )
            imported_records.forget_digests(
                connection, [row.id for row in found if row.native_id not in self.seen], self.listed_now
            )
            for row, outcome in zip(found, outcomes, strict=True):
                memberships.end_memberships_of_record(connection, row.id, now)
                if outcome.merged.gone:
                    memberships.end_memberships_of_user(connection, row.user_id, now)
            if not imported_records.leave(connection, {row.id: row.version for row in found}, now):
                raise StalePreview("A record changed in the meantime.")
            apply_outcomes(
                connection, outcomes, now, rewrite=UserRewrite.NAMES, seen=catalogue.revision, cleared=cleared
            )
            if self.run_id is not None:
                run_queries.add_ended(connection, self.run_id, outcomes)
            write_lines(connection, lines)
