"""Ingests many groups at once: new groups, new names and members. Memberships are written in portions, so
that other writes need not wait.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.matching import GROUP_NAME
from dravo.core.identity.names import fold
from dravo.core.instants import Instant
from dravo.core.planning import plan_user, with_groups
from dravo.protocols.directory.reader import GroupEntry
from dravo.services.context import AppContext
from dravo.services.ingest.bulk_leavers import write_lines
from dravo.services.ingest.bulk_users import LET, BulkUsers
from dravo.services.ingest.intake import Intake
from dravo.store import clock, groups, memberships, provisioned_groups, recompute_marks, records
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import groups as imported_groups
from dravo.store.imports import matching as record_matching
from dravo.store.imports.records import Known
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import raise_revision

# Number of groups created, and of memberships written, in one transaction.
AT_ONCE = 100
PORTION = 1_000
NEW_GROUPS, CHANGED_GROUPS, LEFT_GROUPS, JOINED, DROPPED, STRANGERS = (
    "groups_new",
    "groups_changed",
    "groups_deleted",
    "memberships_new",
    "memberships_ended",
    "members_unknown",
)


@dataclass
class _Portion:
    """A part of the changes of a group's members. `digest` goes with the last part; `told` is the run
    entry.
    """

    group_id: str
    name: str
    users: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    end: list[str] = field(default_factory=list)
    nesting: bool = False
    last: bool = False
    digest: str | None = None
    told: str = ""

    @property
    def size(self) -> int:
        return len(self.users) + len(self.groups) + len(self.end) + 1


class BulkGroups:
    """Ingests the groups that one run reports, after its users."""

    def __init__(self, ctx: AppContext, users: BulkUsers, *, preview: bool = False) -> None:
        self.ctx, self.users, self.preview = ctx, users, preview
        self.source, self.policy, self.run_id, self.connection_type = (
            users.source,
            users.policy,
            users.run_id,
            users.connection_type,
        )
        self.counts: Counter[str] = Counter()
        self.seen: set[str] = set()
        with ctx.database.reading() as connection:
            # There are few groups compared with users: all are looked up, also in an import of changes.
            self.known = imported_groups.known_groups(
                connection, self.source.id, connection_type=self.connection_type
            )
            self._names = imported_groups.names_of_groups(connection, self.source.id, self.connection_type)
            self._conflicted = stored_conflicts.with_conflicts(connection, self.source.id, "group")
        self._salt = f"{self.policy.digest} groups"
        self._absent: frozenset[str] = frozenset()
        self._ends = True

    @property
    def present(self) -> int:
        """The number of groups that the source has, as far as known."""
        return sum(1 for each in self.known.values() if not each.gone)

    def choose(self, entries: Iterable[GroupEntry]) -> list[GroupEntry]:
        """Return the groups that the policy accepts and that changed."""
        chosen: list[GroupEntry] = []
        for entry in entries:
            if not entry.made and not self.policy.groups.takes(entry.name, entry.native_id, entry.reference):
                continue
            self.seen.add(entry.native_id)
            known = self.known.get(entry.native_id)
            if (
                known is None
                or known.gone
                or known.digest is None
                or known.digest != entry.digest(self._salt)
            ):
                chosen.append(entry)
        return chosen

    def take(self, entries: Sequence[GroupEntry], *, ends: bool = True) -> None:
        """Ingest groups: first the groups, so that nested ones are known, then their members.

        Args:
            ends: whether unlisted memberships end; otherwise they stay until a run in which everything was
                readable.
        """
        self._ends = ends
        allowed = self._without_clashes(entries)
        # Missing users leave their groups when they become leavers, not before.
        self._absent = (
            frozenset(self.users.known[each].id for each in self.users.missing())
            if self.users.whole
            else frozenset()
        )
        for start in range(0, len(allowed), AT_ONCE):
            self._name_some(allowed[start : start + AT_ONCE])
        if self.preview:
            self._weigh(allowed)
            return
        with self.ctx.database.reading() as connection:
            wanted = (
                None
                if self.users.whole
                else list(dict.fromkeys(member for each in allowed for member in each.members))
            )
            of_users, of_groups = record_matching.locators(
                connection, self.source.id, wanted, self.connection_type
            )
        waiting: list[_Portion] = []
        size = 0
        for entry in allowed:
            for portion in self._list(entry, of_users, of_groups):
                waiting.append(portion)
                size += portion.size
                if size >= PORTION:
                    self._write(waiting)
                    waiting, size = [], 0
        self._write(waiting)

    def _weigh(self, entries: Sequence[GroupEntry]) -> None:
        """Count what users would gain and lose by changed groups."""
        users, now = self.users, clock.now()
        with self.ctx.database.reading() as connection:
            catalogue = self.ctx.catalogue.get(connection)
            of_users, _ = record_matching.locators(
                connection, self.source.id, connection_type=self.connection_type
            )
            joined: dict[str, list[str]] = {}
            left: dict[str, list[str]] = {}
            for entry in entries:
                known = self.known.get(entry.native_id)
                if known is None or known.gone or not catalogue.concerns(known.id):
                    # No assignment can name a group that is created here.
                    continue
                if not catalogue.authority.counts(self.source.id, known.id, self.connection_type):
                    continue
                listed = groups.listed_records(connection, known.id)
                wanted = {of_users[member] for member in entry.members if member in of_users}
                for member in {member for member in entry.members if member in users.new}:
                    users.new[member] = with_groups(users.new[member], added=[known.id])
                dropped = listed - wanted - self._absent if self._ends else set()
                for record_ids, found in ((wanted - listed, joined), (dropped, left)):
                    for record_id in record_ids:
                        found.setdefault(record_id, []).append(known.id)
            user_of = user_snapshots.users_of_records(connection, [*joined, *left])
            after = {
                **user_snapshots.users(connection, {*user_of.values()} - users.after.keys()),
                **users.after,
            }
        for record_id, user_id in user_of.items():
            after[user_id] = with_groups(
                after[user_id], added=joined.get(record_id, ()), removed=left.get(record_id, ())
            )
        users.weigh(plan_user(user, catalogue, now) for user in (*after.values(), *users.new.values()))

    def _without_clashes(self, entries: Sequence[GroupEntry]) -> list[GroupEntry]:
        """Return the groups whose name no other group of the source has; the others become conflicts."""
        by_name = {fold(name): own_id for own_id, (name, _) in self._names.items()}
        now = clock.now()
        allowed, clashing = [], []
        with self.ctx.database.reading() as connection:
            ids = [each.native_id for each in entries if each.native_id in self._conflicted]
            decided = stored_conflicts.decisions(connection, self.source.id, "group", ids) if ids else {}
        for entry in entries:
            known = self.known.get(entry.native_id)
            holder = by_name.get(fold(entry.name))
            decision = decided.get(entry.native_id)
            if (
                holder is None
                or (known is not None and holder == known.id)
                or (decision is not None and decision.decision == LET)
            ):
                by_name.setdefault(fold(entry.name), known.id if known else entry.native_id)
                allowed.append(entry)
            else:
                clashing.append(entry)
        message = "Another group of this source has the same name."
        conflicts = [
            {
                "native_id": each.native_id,
                "kind": GROUP_NAME,
                "name": each.name,
                "message": message,
                "entry": {"reference": each.reference, "members": len(each.members)},
                "candidates": [],
            }
            for each in clashing
        ]
        if clashing:
            self.counts["conflict"] += len(clashing)
            with self.ctx.database.writing() as connection:
                if not self.preview:
                    stored_conflicts.note_conflicts(connection, self.source.id, "group", conflicts, now)
                write_lines(connection, [self._line("conflict", each.name, message) for each in clashing])
        return allowed

    def _name_some(self, entries: Sequence[GroupEntry]) -> None:
        now = clock.now()
        made: list[tuple[str, GroupEntry]] = []
        named: list[tuple[str, GroupEntry]] = []
        lines = []
        catalogue = self.ctx.catalogue.latest(self.ctx.database)
        for entry in entries:
            known = self.known.get(entry.native_id)
            if known is None:
                made.append((new_id(), entry))
                lines.append(self._line("group_new", entry.name, f"{len(entry.members):,} members"))
            elif known.gone or self._names.get(known.id) != (entry.name, entry.reference):
                named.append((known.id, entry))
                before = self._names.get(known.id, ("", None))[0]
                if before != entry.name:
                    lines.append(
                        self._line(
                            "group_renamed",
                            entry.name,
                            f"The former name is {before}." if before else "The group exists again.",
                        )
                    )
        self.counts[NEW_GROUPS] += len(made)
        self.counts[CHANGED_GROUPS] += len(named)
        with self.ctx.database.writing() as connection:
            write_lines(connection, lines)
            if self.preview:
                return
            imported_groups.make_groups(connection, self.source.id, made, now, self.connection_type)
            imported_groups.name_groups(connection, named, now)
            by_name = catalogue.named_by_its_name(self.source.id) or catalogue.asks_groups
            if named or (made and by_name):
                raise_revision(connection)
            for group_id, _ in named:
                provisioned_groups.wake_group(connection, group_id, now)
                if by_name:
                    recompute_marks.mark_users_within(connection, group_id, now, self.run_id)
            settled = [entry.native_id for _, entry in (*made, *named) if entry.native_id in self._conflicted]
            if settled:
                stored_conflicts.end_conflicts(connection, self.source.id, "group", settled)
        self.known.update(
            {entry.native_id: Known(group_id, None, gone=False) for group_id, entry in (*made, *named)}
        )

    def _list(self, entry: GroupEntry, of_users: dict[str, str], of_groups: dict[str, str]) -> list[_Portion]:
        group_id = self.known[entry.native_id].id
        with self.ctx.database.reading() as connection:
            listed_records, listed_groups = (
                groups.listed_records(connection, group_id),
                groups.listed_groups(connection, group_id),
            )
        users, inner, strangers = set(), set(), 0
        for member in entry.members:
            if (record_id := of_users.get(member)) is not None:
                users.add(record_id)
            elif (inner_id := of_groups.get(member)) is not None and inner_id != group_id:
                inner.add(inner_id)
            else:
                strangers += 1
        # An unknown member may be known at the next import, while the member list stays the same: the group
        # is processed again then.
        absent = (listed_records - users) & self._absent
        # The same for listed members who were not in the import.
        uncertain = not self._ends or bool(strangers) or not users.isdisjoint(self._absent)
        digest = None if uncertain else entry.digest(self._salt)
        self.counts[STRANGERS] += strangers
        add_users, add_groups = sorted(users - listed_records), sorted(inner - listed_groups)
        end = sorted(listed_records - users - absent) if self._ends else []
        end_groups = sorted(listed_groups - inner) if self._ends else []
        joined, dropped = len(add_users) + len(add_groups), len(end) + len(end_groups)
        self.counts[JOINED] += joined
        self.counts[DROPPED] += dropped
        portions = [
            _Portion(
                group_id,
                entry.name,
                groups=add_groups,
                end=end_groups,
                nesting=bool(add_groups or end_groups),
            )
        ]
        portions += [
            _Portion(group_id, entry.name, users=add_users[at : at + PORTION])
            for at in range(0, len(add_users), PORTION)
        ]
        portions += [
            _Portion(group_id, entry.name, end=end[at : at + PORTION]) for at in range(0, len(end), PORTION)
        ]
        kept = [each for each in portions if each.size > 1] or portions[:1]
        if not uncertain:
            self.users.listed_now.append(group_id)
        kept[-1].last, kept[-1].digest, kept[-1].told = True, digest, _told(joined, dropped, strangers)
        return kept

    def _write(self, portions: Sequence[_Portion]) -> None:
        if not portions:
            return
        now = clock.now()
        with self.ctx.database.writing() as connection:
            # The configuration may have changed: the affected users are selected within the transaction that
            # writes.
            catalogue = self.ctx.catalogue.get(connection)
            for each in portions:
                concerned = catalogue.concerns(each.group_id)
                if concerned and each.nesting:
                    recompute_marks.mark_users_within(connection, each.group_id, now, self.run_id)
                elif concerned:
                    self._mark(connection, [*each.users, *each.end], now)
                memberships.end_members(connection, each.group_id, each.end, now)
                memberships.add_members(connection, each.group_id, each.users, each.groups, now)
                if concerned and each.nesting:
                    recompute_marks.mark_users_within(connection, each.group_id, now, self.run_id)
            if any(each.nesting for each in portions):
                raise_revision(connection)
            imported_groups.note_digests(
                connection, [(each.group_id, each.digest) for each in portions if each.last]
            )
            write_lines(
                connection,
                [self._line("members", each.name, each.told) for each in portions if each.last and each.told],
            )

    def _mark(self, connection: Connection, record_ids: Sequence[str], now: Instant) -> None:
        for start in range(0, len(record_ids), 500):
            users = records.users_of_records(record_ids[start : start + 500])
            recompute_marks.mark_users(connection, users, now, run_id=self.run_id)

    def of_one(self, record_id: str, entries: Sequence[GroupEntry], among: Callable[[str], bool]) -> None:
        """Ingest the groups of one user: those that are known, and no others of this source.

        Args:
            among: whether the run knows the members of a group, by native ID; the others stay as they are.
        """
        with self.ctx.database.reading() as connection:
            listed = dict(groups.groups_of_record(connection, record_id))
        now_in = {
            self.known[each.native_id].id
            for each in entries
            if each.native_id in self.known and not self.known[each.native_id].gone
        }
        told = {each.id for native_id, each in self.known.items() if among(native_id)}
        for group_id, (name, _) in self._names.items():
            if group_id not in told or (group_id in now_in) == (group_id in listed):
                continue
            # The other members are as imported last: the group is processed again at the next import.
            joins = group_id in now_in
            self.counts[JOINED if joins else DROPPED] += 1
            portion = _Portion(
                group_id,
                name,
                users=[record_id] if joins else [],
                end=[] if joins else [record_id],
                last=True,
            )
            portion.told = _told(int(joins), int(not joins), 0)
            self._write([portion])

    def missing(self) -> list[str]:
        """Return the native IDs of groups that the run did not report, or that the policy no longer
        accepts.
        """
        return [
            native_id
            for native_id, each in self.known.items()
            if not each.gone and native_id not in self.seen
        ]

    def leave(self, native_ids: Sequence[str]) -> None:
        """Mark groups as deleted, and end their memberships."""
        intake = Intake(self.ctx.database, self.ctx.catalogue, self.connection_type, run_id=self.run_id)
        for native_id in native_ids:
            group_id = self.known[native_id].id
            name = self._names.get(group_id, (native_id, None))[0]
            if not self.preview:
                intake.remove_group(self.source.id, group_id)
            with self.ctx.database.writing() as connection:
                write_lines(connection, [self._line("group_deleted", name)])
            self.counts[LEFT_GROUPS] += 1

    def _line(self, kind: str, name: str, message: str | None = None) -> dict[str, Any]:
        return {
            "run_id": self.run_id,
            "kind": kind,
            "user_id": None,
            "name": name,
            "changes": None,
            "message": message,
        }


def _told(joined: int, dropped: int, strangers: int) -> str:
    parts = [
        f"{number:,} {what}"
        for number, what in ((joined, "joined"), (dropped, "left"), (strangers, "are not known"))
        if number
    ]
    return f"{', '.join(parts)}." if joined or dropped else ""
