"""One import run: reads the source in batches, ingests them, and decides who is missing."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterator, Sequence
from itertools import chain, islice
from typing import Any

import structlog

from dravo.core.days import day_of
from dravo.core.errors import DravoError
from dravo.core.identity.names import fold
from dravo.core.identity.source_policy import EVERY, NAMED, GroupChoice
from dravo.protocols.directory.reader import (
    BadLine,
    DirectoryTrouble,
    Entry,
    GroupEntry,
    Reader,
    StopAsked,
    made_entries,
)
from dravo.services import events
from dravo.services import settings as organization_settings
from dravo.services.changes import removal_limits
from dravo.services.context import AppContext
from dravo.services.imports import config as import_config
from dravo.services.ingest.bulk_groups import BulkGroups
from dravo.services.ingest.bulk_leavers import BATCH, write_lines
from dravo.services.ingest.bulk_users import BulkUsers
from dravo.services.ingest.run_log import RunOptions, end
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import records as imported_records
from dravo.store.plan_writer import EVERY_APPLICATION, ConfirmedRemovals
from dravo.store.queries import runs as run_queries
from dravo.store.queries.runs import FAILED, FINISHED, HELD, STOPPED, Run
from dravo.store.sources import settings as stored
from dravo.store.sources import sources as source_rows
from dravo.store.sources.settings import SourceImport
from dravo.store.sources.sources import Source

# Seconds between updates of the progress and checks for a request to stop.
TELL_SECONDS = 0.5
# Lines and entries that could not be read, such as an entry without its ID.
UNREADABLE = "unreadable"
MOST_BAD_LINES = 1_000

log = structlog.get_logger("worker")


# Carrying out a run


def carry_out(ctx: AppContext, run_id: str) -> None:
    """Carry out a run: read the users, then the groups, then conclude who has left."""
    with ctx.database.writing() as connection:
        run = run_queries.start(connection, run_id, clock.now())
        if run is None or run.source_id is None:
            # An operator stopped it before it started.
            return
        source = source_rows.by_id(connection, run.source_id)
        row = stored.import_of(connection, source.id)
    if row is None:
        end(ctx, run_id, FAILED, message="The import was removed.")
        return
    try:
        ImportRun(ctx, run, source, row).carry_out()
    except StopAsked:
        end(ctx, run_id, STOPPED, message="The run was stopped. Changes made so far remain.")
    except DravoError as wrong:
        end(ctx, run_id, FAILED, message=wrong.message, hint=wrong.hint)


class ImportRun:
    """One run while it is carried out."""

    def __init__(self, ctx: AppContext, run: Run, source: Source, row: SourceImport) -> None:
        self.ctx, self.run, self.source, self.row = ctx, run, source, row
        self.policy = source_policies.import_policy(source, row.kind)
        with ctx.database.reading() as connection:
            self._values = organization_settings.read(connection)
        self.whole = self._is_whole()
        self.users = BulkUsers(ctx, source, self.policy, run.id, RunOptions(bool(run.preview), self.whole))
        self.groups = BulkGroups(ctx, self.users, preview=bool(run.preview))
        self._read = 0
        self._bad = 0
        self._told_at = 0.0
        # Groups from user attributes: by folded name, the name and its members.
        self._made: dict[str, tuple[str, list[str]]] = {}

    def _is_whole(self) -> bool:
        """Whether to read all users: the changes are not enough, or the last full run is too old."""
        if self.policy.makes_groups or self.policy.pilot or self.policy.member_of.which != EVERY:
            # The members of groups decide, and they are complete only if all users are read.
            return True
        if self.run.whole or not self.row.change_marker or not self.row.full_at:
            return True
        zone = self._values["time_zone"]
        return day_of(self.row.full_at, zone) != day_of(clock.now(), zone)

    def carry_out(self) -> None:
        """Read and ingest; raises as readers do."""
        reader = import_config.reader_of(self.ctx, self.source, self.row, self.policy)
        try:
            since = None if self.whole else self.row.change_marker
            if self.policy.pilot or self.policy.member_of.which != EVERY:
                self._read_memberships()
            users = self._each(reader.users(since))
            while batch := list(islice(users, BATCH)):
                self.users.take(batch)
                self._tell()
            self.users.finish()
            groups = self.groups.choose(chain(self._groups_of(reader, since), made_entries(self._made)))
            # A missing member may be in an unreadable line.
            self.groups.take(groups, ends=not self._bad)
            self._tell(at_once=True)
            held = self._conclude() if self.whole else None
            mark = reader.mark()
        finally:
            reader.close()
        self._finish(mark, held)

    def _read_memberships(self) -> None:
        """Read in advance, by a separate reader, who is in the pilot group and in the groups of the scope.

        Raises:
            DirectoryTrouble: if the groups cannot be read, or none of them exists.
        """
        reader = import_config.reader_of(self.ctx, self.source, self.row, self.policy)
        try:
            # Some sources report groups only with the users.
            deque(reader.users(), maxlen=0)
            entries = [each for each in reader.groups() if isinstance(each, GroupEntry)]
        finally:
            reader.close()
        if self.policy.pilot:
            self.users.pilots = _members(entries, GroupChoice(NAMED, (self.policy.pilot,)), "for the pilot")
        if self.policy.member_of.which != EVERY:
            self.users.members = _members(entries, self.policy.member_of, "of which users must be members")

    def _each(self, entries: Iterator[Entry | BadLine]) -> Iterator[Entry]:
        for each in entries:
            self._read += 1
            if isinstance(each, BadLine):
                self._note_bad(each)
            else:
                if self.policy.makes_groups:
                    for name in self.policy.made_groups(each.attributes):
                        self._made.setdefault(fold(name), (name, []))[1].append(each.reference)
                yield each

    def _groups_of(self, reader: Reader, since: str | None) -> Iterator[GroupEntry]:
        for each in reader.groups(since):
            if isinstance(each, BadLine):
                self._note_bad(each)
            else:
                self._tell()
                yield each

    def _note_bad(self, bad: BadLine) -> None:
        self._bad += 1
        if self._bad <= MOST_BAD_LINES:
            self.users.lines_only([(UNREADABLE, bad.where, f"{bad.message} {bad.hint}".strip())])
        else:
            self.users.counts[UNREADABLE] += 1

    def _tell(self, *, at_once: bool = False) -> None:
        """Write the progress now and then; raises `StopAsked` if an operator asked to stop."""
        present = time.monotonic()
        if present - self._told_at < TELL_SECONDS and not at_once:
            return
        self._told_at = present
        with self.ctx.database.writing() as connection:
            run_queries.update_run(connection, self.run.id, progress=self._read, counts=self._counts())
            if run_queries.is_stop_requested(connection, self.run.id):
                raise StopAsked

    def _counts(self) -> dict[str, Any]:
        return {
            "read": self._read,
            "expected": self.users.present,
            **dict(self.users.counts + self.groups.counts),
        }

    def _conclude(self) -> str | None:
        """Mark missing users as left; return why that is not done if something was unreadable or the result
        is implausible.
        """
        missing, missing_groups = self.users.missing(), self.groups.missing()
        held = self._unreadable(missing, missing_groups) or (
            None if self.run.allow_removals else self._implausible(missing, missing_groups)
        )
        if held:
            self._note_missing(missing)
            return held
        self.users.leave(missing, self._cleared(missing) if self.run.allow_removals else None)
        self.groups.leave(missing_groups)
        return None

    def _cleared(self, missing: list[str]) -> ConfirmedRemovals:
        """Return the confirmation of removals, so that the removal limit does not hold them."""
        ids = [self.users.known[each].id for each in missing]
        with self.ctx.database.reading() as connection:
            users = [row.user_id for row in imported_records.rows(connection, ids).values()]
        return {(user_id, EVERY_APPLICATION): self.run.requested_by for user_id in users}

    def _note_missing(self, native_ids: list[str]) -> None:
        ids = [self.users.known[each].id for each in native_ids]
        with self.ctx.database.reading() as connection:
            rows = imported_records.rows(connection, ids[:MOST_BAD_LINES])
        lines = [
            {
                "run_id": self.run.id,
                "kind": "missing",
                "user_id": row.user_id,
                "name": imported_groups.shown_name(row.data),
                "changes": None,
                "message": None,
            }
            for row in rows.values()
        ]
        with self.ctx.database.writing() as connection:
            write_lines(connection, lines)
            if not self.run.preview:
                # They stay members of groups that no longer list them: these groups are processed again at
                # the next import.
                imported_records.forget_digests(connection, ids)

    def _unreadable(self, missing: list[str], missing_groups: list[str]) -> str | None:
        if not self._bad or not (missing or missing_groups):
            return None
        return (
            f"{_could_not_be_read(self._bad)} Dravo removed nothing, although {len(missing):,} "
            f"users and {len(missing_groups):,} groups are missing."
        )

    def _implausible(self, missing: list[str], missing_groups: list[str]) -> str | None:
        limit = removal_limits.limits(self._values)
        for what, number, population in (
            ("users", len(missing), self.users.present),
            ("groups", len(missing_groups), self.groups.present),
        ):
            # An empty result is never accepted, however few users there were.
            if number and (number > limit.allowed(population) or number == population):
                return (
                    f"Run held: {number:,} of {population:,} {what} are missing, above the removal "
                    "limit. Nothing was removed."
                )
        return None

    def _finish(self, mark: str | None, held: str | None) -> None:
        now = clock.now()
        message = hint = None
        if self._bad:
            message = held or _could_not_be_read(self._bad)
            hint = "Correct the lines or entries that the run lists, and run the import again."
        elif held:
            message, hint = (
                held,
                "Check the missing entries. If they are right, run the import again with removals allowed.",
            )
        values = {
            "status": HELD if held else FINISHED,
            "ended_at": now,
            "progress": self._read,
            "counts": self._counts(),
            "message": message,
            "hint": hint,
        }
        values["whole"] = self.whole
        if self.run.preview:
            values["counts"] = {**self._counts(), "access": self._effects()}
        events.note(
            events.RUN,
            HELD if held else FINISHED,
            source=self.source.key,
            run=self.run.id,
            read=self._read,
            counts=values["counts"],
            preview=bool(self.run.preview),
            reason=message,
        )
        with self.ctx.database.writing() as connection:
            run_queries.update_run(connection, self.run.id, **values)
            if not self.run.preview:
                # If something was not read, the next run reads all users.
                after: dict[str, Any] = {
                    "change_marker": mark,
                    **({"full_at": None if held or self._bad else now} if self.whole or self._bad else {}),
                }
                # If the settings changed meanwhile, the position belongs to the old ones and is not stored.
                if source_rows.stored_policy(connection, self.source.id) == self.source.policy:
                    stored.update_unchanged_import(connection, self.row, **after)

    def _effects(self) -> list[dict[str, Any]]:
        """Return what a preview run would give and remove: for each role the number of users."""
        with self.ctx.database.reading() as connection:
            catalogue = self.ctx.catalogue.get(connection)
        found = []
        for key in sorted({*self.users.gained, *self.users.lost}):
            application, role = catalogue.applications.get(key[0]), catalogue.roles.get(key[1])
            if application is not None and role is not None:
                found.append(
                    {
                        "application": application.label,
                        "role": role.label,
                        "gained": self.users.gained[key],
                        "lost": self.users.lost[key],
                    }
                )
        return sorted(found, key=lambda each: (each["application"], each["role"]))


def _could_not_be_read(number: int) -> str:
    return (
        "1 line or entry could not be read."
        if number == 1
        else f"{number:,} lines or entries could not be read."
    )


def _members(entries: Sequence[GroupEntry], chosen: GroupChoice, purpose: str) -> frozenset[str]:
    """Return the locators of the members of some groups, by any nesting.

    Raises:
        DirectoryTrouble: if none of the groups exists; nobody would be accepted by mistake.
    """
    waiting = [each for each in entries if chosen.takes(each.name, each.native_id, each.reference)]
    if not waiting:
        named = f"that matches {chosen.pattern}" if chosen.pattern else f"'{', '.join(chosen.names)}'"
        raise DirectoryTrouble(
            f"The source has no group {named} {purpose}.", "Choose an existing group, or clear the field."
        )
    by_locator = {each.reference: each for each in entries}
    found: set[str] = set()
    while waiting:
        fresh = set(waiting.pop().members) - found
        found |= fresh
        waiting += [by_locator[each] for each in fresh if each in by_locator]
    return frozenset(found)
