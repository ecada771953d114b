"""Ingests many users at once: a run is planned in batches, and each batch is written in one short
transaction.

Links are permanent. A record that could belong to an existing user waits until the run is through, because
names may have changed, and then becomes a conflict.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import StalePreview
from dravo.core.identity.matching import RENAMED, Binding, Conflict, match
from dravo.core.identity.names import fold
from dravo.core.identity.records import UserRecord, changes
from dravo.core.identity.source_policy import Refused
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan, UserSnapshot
from dravo.core.planning import plan_user, with_record
from dravo.protocols.directory.reader import Entry
from dravo.services.ingest.bulk_leavers import (
    BACK,
    BATCH,
    CHANGED,
    CONFLICT,
    NEW,
    OUTSIDE,
    REFUSED,
    TRIES,
    UNCHANGED,
    UNKNOWN,
    BulkLeavers,
    write_lines,
)
from dravo.services.ingest.erasure import is_erased
from dravo.services.ingest.parsed_entries import ParsedEntry
from dravo.store import clock, recompute_marks
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import matching as record_matching
from dravo.store.imports import records as imported_records
from dravo.store.imports.records import Known, NewRecord
from dravo.store.plan_writer import UserRewrite, apply_outcomes
from dravo.store.queries import runs as run_queries
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision

NO_PILOT = "not_in_pilot"
LINK, MAKE, LEAVE_OUT, LET = "link", "create", "ignore", "accept"


@dataclass
class Batch:
    """The plan for some users, to be written or shown."""

    now: Instant
    catalogue: ConfigSnapshot
    outcomes: list[UserPlan] = field(default_factory=list)
    made: list[NewRecord] = field(default_factory=list)
    written: list[NewRecord] = field(default_factory=list)
    renamed: list[str] = field(default_factory=list)
    touched: list[NewRecord] = field(default_factory=list)
    conflicts: list[dict[str, Any]] = field(default_factory=list)
    lines: list[dict[str, Any]] = field(default_factory=list)
    put_off: list[Entry] = field(default_factory=list)
    counts: Counter[str] = field(default_factory=Counter)
    known: dict[str, Known] = field(default_factory=dict)
    outside: list[str] = field(default_factory=list)
    settled: list[str] = field(default_factory=list)
    # Looked-up names and addresses with their users; they are checked again before the write.
    names: set[str] = field(default_factory=set)
    emails: set[str] = field(default_factory=set)
    had_by: frozenset[str] = frozenset()


class BulkUsers(BulkLeavers):
    """Applies what one run of a source reports about its users.

    Args:
        ctx: the data folder.
        source: the row of the source.
        policy: the source policy for the connection type.
        run_id: the run that collects the entries; None for one user at a time.
        options: how the run works; `whole` has to be decided.
        connection_type: the connection type of the records.
    """

    def take(self, entries: Sequence[Entry]) -> None:
        """Ingest a batch; users who cannot be decided yet wait for `finish`."""
        if self.pilots is not None:
            apart = [each for each in entries if each.reference not in self.pilots]
            self.seen.update(each.native_id for each in apart)
            self.counts[NO_PILOT] += len(apart)
            entries = [each for each in entries if each.reference in self.pilots]
        if self.members is not None:
            outside = [each.native_id for each in entries if each.reference not in self.members]
            self.seen.update(outside)
            self.outside.update(outside)
            self.counts[OUTSIDE] += len(outside)
            entries = [each for each in entries if each.reference in self.members]
        self._put_off += self._through(entries, last=False)

    def finish(self) -> None:
        """Ingest the waiting users as far as they can be decided; the others become conflicts."""
        while self._put_off:
            waiting, self._put_off = self._put_off, []
            for start in range(0, len(waiting), BATCH):
                some = waiting[start : start + BATCH]
                self._put_off += self._through(some, last=True)
            if len(self._put_off) >= len(waiting):
                break

    def _through(self, entries: Sequence[Entry], *, last: bool) -> list[Entry]:
        for remaining in range(TRIES, 0, -1):
            batch = self._plan(entries, last=last)
            try:
                if self.preview:
                    self._note(batch)
                else:
                    self._write(batch)
            except (StalePreview, IntegrityError):
                # Another change reached a user, or took a name, between reading and writing: plan again.
                if remaining == 1:
                    raise
                continue
            break
        put_off = {each.native_id for each in batch.put_off}
        self.seen.update(each.native_id for each in entries if each.native_id not in put_off)
        self.known.update(batch.known)
        self.outside.update(batch.outside)
        self.counts.update(batch.counts)
        if self.run_id is None:
            self.told += batch.lines
        return batch.put_off

    # Planning

    def _plan(self, entries: Sequence[Entry], *, last: bool) -> Batch:
        with self.ctx.database.reading() as connection:
            batch = Batch(clock.now(), self.ctx.catalogue.get(connection))
            if not self.whole:
                self.known.update(
                    imported_records.known_users(
                        connection, self.source.id, [each.native_id for each in entries], self.connection_type
                    )
                )
            fresh = self._read(connection, entries, batch)
            self._decide(connection, fresh, batch, last=last)
        return batch

    def _read(self, connection: Connection, entries: Sequence[Entry], batch: Batch) -> list[ParsedEntry]:
        """Return the entries that changed, parsed; the others are counted."""
        salt = self.policy.digest
        fresh: list[ParsedEntry] = []
        for entry in entries:
            known = self.known.get(entry.native_id)
            digest = entry.digest(salt)
            if known is not None and known.digest == digest and not known.gone:
                batch.counts[UNCHANGED] += 1
                continue
            try:
                data = self.policy.user(entry.attributes)
            except Refused as wrong:
                batch.counts[REFUSED] += 1
                batch.lines.append(
                    self._line(
                        REFUSED, None, entry.reference, message=f"{wrong.message} {wrong.hint}".strip()
                    )
                )
                continue
            if not self.policy.lets_in(data, self.source.key):
                batch.counts[OUTSIDE] += 1
                if known is not None and not known.gone:
                    batch.outside.append(entry.native_id)
                continue
            fresh.append(ParsedEntry(entry, data, digest, known))
        found = imported_records.rows(connection, [each.known.id for each in fresh if each.known is not None])
        return [replace(each, row=found.get(each.known.id)) if each.known else each for each in fresh]

    def _decide(
        self, connection: Connection, fresh: Sequence[ParsedEntry], batch: Batch, *, last: bool
    ) -> None:
        wanted = [each for each in fresh if each.asks_for_name]
        self._erased_in_batch = self._erased(connection, fresh, batch)
        candidates = self._could_be(connection, wanted, batch)
        ids = [each.entry.native_id for each in wanted if each.entry.native_id in self._conflicted]
        decided = stored_conflicts.decisions(connection, self.source.id, "user", ids) if ids else {}
        # Names that users of this batch give up are free.
        leaving = {each.row.id for each in wanted if each.row is not None}
        holders = record_matching.holders(
            connection,
            self.source.id,
            [each.found.user_name_key for each in wanted if each.row is not None],
            self.connection_type,
        )
        taken: set[str] = set()
        bindings: list[tuple[ParsedEntry, str, bool]] = []
        for each in fresh:
            keys = each.keys if each.asks_for_name else set()
            if not taken.isdisjoint(keys):
                # Two users with one name: the second one is processed after the first one is written.
                batch.put_off.append(each.entry)
                continue
            result = self._whose(each, candidates, decided.get(each.entry.native_id), holders, leaving)
            if isinstance(result, Conflict) and not last:
                batch.put_off.append(each.entry)
            elif isinstance(result, Conflict):
                self._note_conflict(each, result, batch)
            elif result is None:
                batch.counts[UNKNOWN] += 1
            else:
                taken |= keys
                bindings.append((each, *result))
        self._work_out(connection, bindings, batch)

    def _erased(self, connection: Connection, fresh: Sequence[ParsedEntry], batch: Batch) -> frozenset[str]:
        """Return the native IDs of new records that belong to erased users."""
        if self.source.id not in batch.catalogue.erased:
            return frozenset()
        keys, new = self.ctx.keys, [each for each in fresh if each.row is None]
        return frozenset(
            each.entry.native_id
            for each in new
            if is_erased(connection, keys, self.source.id, each.data, each.entry.native_id)
        )

    def _could_be(
        self, connection: Connection, wanted: Sequence[ParsedEntry], batch: Batch
    ) -> dict[str, list[Any]]:
        batch.names = {name for each in wanted for name in each.names}
        batch.emails = {fold(each.found.email) for each in wanted if each.found.email and each.row is None}
        found = (
            record_matching.candidates(
                connection, self.source.id, batch.names, batch.emails, self.connection_type
            )
            if batch.names
            else {}
        )
        batch.had_by = frozenset(one.user_id for some in found.values() for one in some)
        return found

    def _whose(
        self,
        each: ParsedEntry,
        candidates: Mapping[str, Sequence[Any]],
        decided: Any,
        holders: Mapping[str, str],
        leaving: set[str],
    ) -> tuple[str, bool] | Conflict | None:
        """Return (user ID, whether the user is new), a conflict, or None if the entry is out of scope."""
        named = [one for name in each.names for one in candidates.get(f"name:{name}", ())]
        if each.row is not None:
            if not each.asks_for_name or (decided is not None and decided.decision == LET):
                return each.row.user_id, False
            holder = holders.get(each.found.user_name_key)
            others = [
                one
                for one in named
                if one.user_id != each.row.user_id
                and (not one.here or (holder is not None and holder not in leaving))
            ]
            if (holder is not None and holder != each.row.id and holder not in leaving) or others:
                message = f"The user name changed to '{each.found.user_name}', which another user has or had."
                return Conflict(RENAMED, tuple(one.user_id for one in others), message)
            return each.row.user_id, False
        if each.entry.native_id in self._erased_in_batch:
            return None
        if decided is not None:
            return {LINK: (decided.user_id, False), MAKE: (new_id(), True)}.get(decided.decision)
        email = each.found.email
        everyone = {
            one.user_id: one
            for one in (*named, *(candidates.get(f"email:{fold(email)}", ()) if email else ()))
        }
        if self.preview and (
            other := next((self._planned[key] for key in each.keys if key in self._planned), None)
        ):
            return Conflict(
                "two_records", (), f"'{other}' in the same run has the same user name or email address."
            )
        binding = match(each.data, list(everyone.values()), self.policy, new_id())
        if isinstance(binding, Binding):
            return (binding.user_id, binding.new) if self.policy.makes or not binding.new else None
        return binding

    def _work_out(
        self, connection: Connection, bindings: Sequence[tuple[ParsedEntry, str, bool]], batch: Batch
    ) -> None:
        users = user_snapshots.users(
            connection, [user_id for each, user_id, new in bindings if not new and not each.same]
        )
        used: set[str] = set()
        for each, user_id, _ in bindings:
            if each.same:
                batch.touched.append(each.record(each.row.id, user_id))
                batch.counts[UNCHANGED] += 1
                batch.known[each.entry.native_id] = Known(each.row.id, each.digest, gone=False)
                continue
            if user_id in used:
                batch.put_off.append(each.entry)
                continue
            used.add(user_id)
            self._one(each, user_id, users.get(user_id), batch)

    def _one(self, each: ParsedEntry, user_id: str, user: UserSnapshot | None, batch: Batch) -> None:
        record_id = each.row.id if each.row is not None else new_id()
        record = UserRecord(record_id, self.source.id, self.connection_type, each.data, user_id)
        after = with_record(user, record) if user is not None else UserSnapshot(user_id, None, (record,))
        if self.preview and user is not None:
            self.after[user_id] = after
        batch.outcomes.append(plan_user(after, batch.catalogue, batch.now))
        name = each.found.display_name
        if each.row is None:
            batch.made.append(each.record(record_id, user_id))
            kind, differs = NEW, None
            message = None if user is None else "Linked to an existing user."
            if self.preview:
                self._planned.update(dict.fromkeys(each.keys, name))
                if user is None:
                    self.new[each.entry.reference] = after
        else:
            batch.written.append(each.record(record_id, user_id))
            if each.asks_for_name:
                batch.renamed.append(record_id)
            gone = each.row.deleted_at is not None
            kind, differs, message = BACK if gone else CHANGED, changes(each.row.data, each.data), None
        batch.counts[kind] += 1
        batch.known[each.entry.native_id] = Known(record_id, each.digest, gone=False)
        if each.entry.native_id in self._conflicted:
            batch.settled.append(each.entry.native_id)
        batch.lines.append(self._line(kind, user_id, name, differs, message))

    def _note_conflict(self, each: ParsedEntry, found: Conflict, batch: Batch) -> None:
        name = imported_groups.shown_name(each.data)
        batch.counts[CONFLICT] += 1
        batch.lines.append(self._line(CONFLICT, None, name, message=found.message))
        entry = {"reference": each.entry.reference, "attributes": each.entry.attributes, "user": each.data}
        batch.conflicts.append(
            {
                "native_id": each.entry.native_id,
                "kind": found.kind,
                "name": name,
                "message": found.message,
                "entry": entry,
                "candidates": list(found.candidates),
            }
        )

    # Writing

    def _write(self, batch: Batch) -> None:
        with self.ctx.database.writing() as connection:
            check_revision(connection, batch.catalogue.revision)
            # Another source may have created a user with this name in between.
            if record_matching.who_has(connection, batch.names, batch.emails) != batch.had_by:
                raise StalePreview("A user was created in the meantime.")
            apply_outcomes(
                connection,
                batch.outcomes,
                batch.now,
                rewrite=UserRewrite.NAMES,
                seen=batch.catalogue.revision,
            )
            if self.run_id is not None:
                run_queries.add_ended(connection, self.run_id, batch.outcomes)
            else:
                # Their groups follow; nothing is provisioned for them before that.
                recompute_marks.mark_users(
                    connection, [each.user.user_id for each in batch.outcomes], batch.now
                )
            imported_records.make(connection, self.source.id, batch.made, batch.now, self.connection_type)
            if not imported_records.write(connection, batch.written, batch.renamed, batch.now):
                raise StalePreview("A record changed in the meantime.")
            imported_records.touch(connection, batch.touched)
            stored_conflicts.note_conflicts(
                connection, self.source.id, "user", batch.conflicts, batch.now, self.connection_type
            )
            if batch.settled:
                stored_conflicts.end_conflicts(connection, self.source.id, "user", batch.settled)
            write_lines(connection, batch.lines)
        self._conflicted.update(each["native_id"] for each in batch.conflicts)

    def _note(self, batch: Batch) -> None:
        """Write the entries of a preview, and nothing else."""
        with self.ctx.database.writing() as connection:
            write_lines(connection, batch.lines)

    # Leavers
