"""Runs that read a source: asked for, by schedule, carried out in the worker, stopped, and looked at afterwards.

What was read is taken in batch by batch, each whole in itself, so that a run that ends in the middle leaves nothing half done. That
somebody has left is concluded only at the end of a whole and plausible reading.
"""

from __future__ import annotations

import time
from collections import Counter, deque
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import chain, islice
from typing import Any

import structlog
from sqlalchemy import Connection, and_, delete, insert, or_, select, update

from dravo.core import schedules
from dravo.core.days import day_of
from dravo.core.errors import AlreadyThere, DravoError, InvalidInput, NotFound
from dravo.core.instants import Instant, later, seconds_between
from dravo.core.names import fold
from dravo.protocols.directory.reading import BadLine, DirectoryTrouble, Entry, GroupEntry, Reader, StopAsked, is_made, made_entries
from dravo.services import events, guarding, pull_settings
from dravo.services import settings as house_settings
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.intake_groups import GroupsIn
from dravo.services.intake_people import BATCH, PeopleIn, write_lines
from dravo.services.named import pushing_source
from dravo.services.permissions import Caller
from dravo.store import clock, pulled, views
from dravo.store import tables as t
from dravo.store.applying import EVERY_APPLICATION, Cleared
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

PULL = "pull"
ASKED, RUNNING, FINISHED, HELD, FAILED, STOPPED = "asked", "running", "done", "held", "failed", "stopped"
# How often a run says how far it is, and looks whether it is asked to stop.
TELL_SECONDS = 0.5
# Lines and entries that could not be read, such as an entry without its ID.
UNREADABLE = "unreadable"
MOST_BAD_LINES = 1_000
SWEPT_AT_ONCE = 5_000
# After so many crashes of the worker during a run, the run is not started again.
MOST_BREAKS = 2

log = structlog.get_logger("worker")


# Asking for runs


def ask_for(
    house: House, caller: Caller, key: str, *, look_only: bool = False, whole: bool = False, let_leave: bool = False, confirmed: str | None = None
) -> dict[str, Any]:
    """Have a source be read; returns the run.

    Args:
        look_only: show what it would do, and change nothing.
        whole: read everybody, also where only changes would do.
        let_leave: whoever is missing may leave, however many they are; the source's label, typed, confirms.

    Raises:
        NotFound; InvalidInput if it is in preparation; AlreadyThere if a run is under way; NeedsConfirmation.
    """
    now = clock.now()
    with house.database.writing() as connection:
        source, row = pull_settings.of_source(connection, key)
        if not look_only and not row.in_force:
            raise InvalidInput(f"'{source.label}' is in preparation.", "Look at what a run would do, then put it in force.", "look_only")
        if let_leave:
            _check_label(source.label, confirmed)
        if _under_way(connection, source.id):
            raise AlreadyThere(f"A run of '{source.label}' is under way.", "Wait for its end, or stop it.")
        run_id = _ask(connection, source.id, caller.name, now, look_only=look_only, whole=whole or look_only or let_leave, let_leave=let_leave)
        details = {"key": key, "look_only": look_only, "let_leave": let_leave}
        record_change(connection, house.keys, caller, "asked for a run", "source", source.id, now, details)
    return one_run(house, run_id)


def _check_label(label: str, confirmed: str | None) -> None:
    if confirmed != label:
        raise guarding.NeedsConfirmation("This is grave and was not confirmed.", f"Type the name of the source, '{label}', to confirm.", "confirm")


def _under_way(connection: Connection, source_id: str) -> bool:
    r = t.run.c
    return connection.execute(select(r.id).where(r.source_id == source_id, r.ended_at.is_(None)).limit(1)).first() is not None


def _ask(
    connection: Connection,
    source_id: str,
    asked_by: str,
    now: Instant,
    *,
    look_only: bool = False,
    whole: bool | None = None,
    let_leave: bool = False,
    broke_off: int = 0,
) -> str:
    run_id = new_id()
    row = {
        "id": run_id, "kind": PULL, "source_id": source_id, "state": ASKED, "asked_by": asked_by, "asked_at": now, "progress": 0,
        "stop_asked": False, "whole": whole, "look_only": look_only, "let_leave": let_leave, "broke_off": broke_off,
    }  # fmt: skip
    connection.execute(insert(t.run).values(**row))
    return run_id


def ask_by_schedule(house: House, now: Instant) -> None:
    """Ask for the runs whose time has come; one that was missed while the service was down is made up once."""
    p = t.source_pull.c
    due = (p.next_at.is_not(None), p.next_at <= now)
    begins = (p.in_force_at.is_not(None), p.in_force_at <= now)
    with house.database.reading() as connection:
        if connection.execute(select(p.source_id).where(or_(and_(*due), and_(*begins))).limit(1)).first() is None:
            return
    with house.database.writing() as connection:
        zone = house_settings.time_zone(connection)
        # From its hour on it is in force, and read at once.
        connection.execute(update(t.source_pull).where(*begins).values(in_force=True, in_force_at=None, next_at=now))
        for row in connection.execute(select(t.source_pull).where(*due)).all():
            following = schedules.next_time(row.schedule, now, zone) if row.schedule and row.in_force else None
            connection.execute(update(t.source_pull).where(p.source_id == row.source_id).values(next_at=following))
            if row.in_force and not _under_way(connection, row.source_id):
                _ask(connection, row.source_id, "the schedule", now)


def go_on_after_breaking_off(house: House, *, ended_well: bool = True) -> None:
    """Close runs that were under way when the worker ended, and ask for them anew: what they took in stands, and is not read twice.

    Args:
        ended_well: whether the worker was stopped. Otherwise the run may have crashed it; a run that did so twice is not started again.
    """
    r = t.run.c
    now = clock.now()
    stopped = {"state": FAILED, "ended_at": now, "message": "The service was stopped in the middle of it.", "mend": "It begins again by itself."}
    with house.database.writing() as connection:
        for row in connection.execute(select(t.run).where(r.kind == PULL, r.state == RUNNING, r.ended_at.is_(None))).all():
            values = dict(stopped)
            broke_off = row.broke_off + (0 if ended_well else 1)
            if broke_off >= MOST_BREAKS:
                message = "The worker crashed twice during this import run, so Dravo does not retry it."
                values |= {"message": message, "mend": "Look for the cause in the service's log, then run the import again."}
                log.error("a run ended the worker twice and is given up", run=row.id, source=row.source_id)
            connection.execute(update(t.run).where(r.id == row.id).values(**values, broke_off=broke_off))
            if row.source_id and not row.stop_asked and broke_off < MOST_BREAKS:
                how = {"look_only": row.look_only, "whole": row.whole, "let_leave": row.let_leave, "broke_off": broke_off}
                _ask(connection, row.source_id, row.asked_by, now, **how)


def sweep(house: House, now: Instant, days: int) -> None:
    """Forget what runs did that ended more than so many days ago; their counts stay."""
    r, x = t.run.c, t.run_line.c
    old = select(x.id).join(t.run, r.id == x.run_id).where(r.ended_at < later(now, -86_400 * days)).limit(SWEPT_AT_ONCE)
    while True:
        with house.database.writing() as connection:
            if connection.execute(delete(t.run_line).where(x.id.in_(old.scalar_subquery()))).rowcount < SWEPT_AT_ONCE:
                return


def end_broken(house: House, source_id: str) -> None:
    """Close a source's run that broke off by a mistake of ours, so that the next one can begin."""
    values = {
        "state": FAILED,
        "ended_at": clock.now(),
        "message": "It broke off by a mistake of Dravo's own.",
        "mend": "The service's log says more.",
    }
    r = t.run.c
    with house.database.writing() as connection:
        connection.execute(update(t.run).where(r.source_id == source_id, r.state == RUNNING, r.ended_at.is_(None)).values(**values))


def next_asked(house: House, busy: set[str]) -> tuple[str, str] | None:
    """Return (run id, source id) of the run that has waited longest, of a source that none is under way for; None if there is none."""
    r = t.run.c
    with house.database.reading() as connection:
        for run_id, source_id in connection.execute(
            select(r.id, r.source_id).where(r.kind == PULL, r.state == ASKED, r.ended_at.is_(None)).order_by(r.id)
        ):
            if source_id not in busy:
                return run_id, source_id
    return None


# Carrying one out


def carry_out(house: House, run_id: str) -> None:
    """Carry out a run: read the people, then the groups, then conclude who has left."""
    with house.database.writing() as connection:
        begun = update(t.run).where(t.run.c.id == run_id, t.run.c.ended_at.is_(None)).values(state=RUNNING, started_at=clock.now())
        if not connection.execute(begun).rowcount:
            # Somebody stopped it before it began.
            return
        run = connection.execute(select(t.run).where(t.run.c.id == run_id)).one()
        source = connection.execute(select(t.source).where(t.source.c.id == run.source_id)).one()
        row = connection.execute(select(t.source_pull).where(t.source_pull.c.source_id == source.id)).first()
    if row is None:
        _end(house, run_id, FAILED, message="It is not read any more.")
        return
    try:
        Pull(house, run, source, row).carry_out()
    except StopAsked:
        _end(house, run_id, STOPPED, message="It was stopped; what it had taken in stands.")
    except DravoError as wrong:
        _end(house, run_id, FAILED, message=wrong.message, mend=wrong.mend)


class Pull:
    """One run while it is carried out."""

    def __init__(self, house: House, run: Any, source: Any, row: Any) -> None:
        self.house, self.run, self.source, self.row = house, run, source, row
        self.policy = pull_settings.policy_of(source, row.kind)
        with house.database.reading() as connection:
            self._values = house_settings.read(connection)
        self.whole = self._is_whole()
        self.people = PeopleIn(house, source, self.policy, run.id, look_only=bool(run.look_only), whole=self.whole)
        self.groups = GroupsIn(house, self.people, look_only=bool(run.look_only))
        self._read = 0
        self._bad = 0
        self._told_at = 0.0
        # Groups that come of what is said of people: by folded name, the name and who is in it.
        self._made: dict[str, tuple[str, list[str]]] = {}

    def _is_whole(self) -> bool:
        """Whether everybody is read: what changed would not do, or the night has passed since everybody was read last."""
        if self.policy.makes_groups:
            # Who is in a group that is made of what is said of people is known of everybody only where everybody is read.
            return True
        if self.run.whole or not self.row.mark or not self.row.full_at:
            return True
        zone = self._values["time_zone"]
        return day_of(self.row.full_at, zone) != day_of(clock.now(), zone)

    def carry_out(self) -> None:
        """Read and take in; raises as readers do."""
        reader = pull_settings.reader_of(self.house, self.source, self.row, self.policy)
        try:
            since = None if self.whole else self.row.mark
            if self.policy.pilot:
                self.people.pilots = self._pilots()
            people = self._each(reader.people(since))
            while batch := list(islice(people, BATCH)):
                self.people.take(batch)
                self._tell()
            self.people.finish()
            groups = self.groups.choose(chain(self._groups_of(reader, since), made_entries(self._made)))
            # A missing member may stand in a line that could not be read.
            self.groups.take(groups, ends=not self._bad)
            self._tell(at_once=True)
            held = self._conclude() if self.whole else None
            mark = reader.mark()
        finally:
            reader.close()
        self._finish(mark, held)

    def _pilots(self) -> frozenset[str]:
        """Return the locators of those in the pilot group, by any nesting: read beforehand, by a reader of its own.

        Raises:
            DirectoryTrouble: if it cannot be read, or there is no such group.
        """
        reader = pull_settings.reader_of(self.house, self.source, self.row, self.policy)
        try:
            # Some have their groups from the people only.
            deque(reader.people(), maxlen=0)
            entries = [each for each in reader.groups() if isinstance(each, GroupEntry)]
        finally:
            reader.close()
        key = fold(self.policy.pilot)
        waiting = [each for each in entries if key in (fold(each.name), fold(each.native_id), fold(each.locator))]
        if not waiting:
            raise DirectoryTrouble(f"It has no group '{self.policy.pilot}' for the pilot.", "Name one that it has, or end the pilot.")
        by_locator = {each.locator: each for each in entries}
        found: set[str] = set()
        while waiting:
            fresh = set(waiting.pop().members) - found
            found |= fresh
            waiting += [by_locator[each] for each in fresh if each in by_locator]
        return frozenset(found)

    def _each(self, entries: Iterator[Entry | BadLine]) -> Iterator[Entry]:
        for each in entries:
            self._read += 1
            if isinstance(each, BadLine):
                self._note_bad(each)
            else:
                if self.policy.makes_groups:
                    for name in self.policy.made_groups(each.attributes):
                        self._made.setdefault(fold(name), (name, []))[1].append(each.locator)
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
            self.people.lines_only([(UNREADABLE, bad.where, f"{bad.message} {bad.mend}".strip())])
        else:
            self.people.counts[UNREADABLE] += 1

    def _tell(self, *, at_once: bool = False) -> None:
        """Write down how far it is, now and then; StopAsked if somebody asked for that."""
        present = time.monotonic()
        if present - self._told_at < TELL_SECONDS and not at_once:
            return
        self._told_at = present
        with self.house.database.writing() as connection:
            connection.execute(update(t.run).where(t.run.c.id == self.run.id).values(progress=self._read, counts=self._counts()))
            if connection.execute(select(t.run.c.stop_asked).where(t.run.c.id == self.run.id)).scalar():
                raise StopAsked

    def _counts(self) -> dict[str, Any]:
        return {"read": self._read, "expected": self.people.present, **dict(self.people.counts + self.groups.counts)}

    def _conclude(self) -> str | None:
        """Let those leave who did not come; returns why they may not, if something could not be read or the reading is not plausible."""
        missing, missing_groups = self.people.missing(), self.groups.missing()
        held = self._unreadable(missing, missing_groups) or (None if self.run.let_leave else self._implausible(missing, missing_groups))
        if held:
            self._note_missing(missing)
            return held
        self.people.leave(missing, self._cleared(missing) if self.run.let_leave else None)
        self.groups.leave(missing_groups)
        return None

    def _cleared(self, missing: list[str]) -> Cleared:
        """Return, where leaving was confirmed, that the guard need not hold what follows from it."""
        ids = [self.people.known[each].id for each in missing]
        with self.house.database.reading() as connection:
            users = [row.user_id for row in pulled.rows(connection, ids).values()]
        return {(user_id, EVERY_APPLICATION): self.run.asked_by for user_id in users}

    def _note_missing(self, native_ids: list[str]) -> None:
        ids = [self.people.known[each].id for each in native_ids]
        with self.house.database.reading() as connection:
            rows = pulled.rows(connection, ids[:MOST_BAD_LINES])
        lines = [
            {"run_id": self.run.id, "kind": "missing", "user_id": row.user_id, "name": pulled.shown_name(row.data), "changes": None, "message": None}
            for row in rows.values()
        ]
        with self.house.database.writing() as connection:
            write_lines(connection, lines)
            if not self.run.look_only:
                # They stay in their groups, whose lists no longer name them: these are looked at again.
                pulled.forget_digests(connection, ids)

    def _unreadable(self, missing: list[str], missing_groups: list[str]) -> str | None:
        if not self._bad or not (missing or missing_groups):
            return None
        return (
            f"{_could_not_be_read(self._bad)} Dravo removed nothing, although {len(missing):,} users and {len(missing_groups):,} groups are missing."
        )

    def _implausible(self, missing: list[str], missing_groups: list[str]) -> str | None:
        limit = guarding.limits(self._values)
        for what, number, population in (("people", len(missing), self.people.present), ("groups", len(missing_groups), self.groups.present)):
            # An answer that holds nobody at all is never believed, however few there were.
            if number and (number > limit.allowed(population) or number == population):
                return f"{number:,} of {population:,} {what} did not come. Nobody was taken away: that is not plausible."
        return None

    def _finish(self, mark: str | None, held: str | None) -> None:
        now = clock.now()
        message = mend = None
        if self._bad:
            message = held or _could_not_be_read(self._bad)
            mend = "Correct the lines or entries that the run lists, and run the import again."
        elif held:
            message, mend = held, "Look at who is missing. If it is right, run it again and let them leave."
        values = {
            "state": HELD if held else FINISHED,
            "ended_at": now,
            "progress": self._read,
            "counts": self._counts(),
            "message": message,
            "mend": mend,
        }
        values["whole"] = self.whole
        if self.run.look_only:
            values["counts"] = {**self._counts(), "access": self._effects()}
        events.note(
            events.RUN, HELD if held else FINISHED, source=self.source.key, run=self.run.id, read=self._read, counts=values["counts"],
            preview=bool(self.run.look_only), reason=message,
        )  # fmt: skip
        with self.house.database.writing() as connection:
            connection.execute(update(t.run).where(t.run.c.id == self.run.id).values(**values))
            if not self.run.look_only:
                # Where something was not read, the next run reads everybody.
                after: dict[str, Any] = {"mark": mark, **({"full_at": None if held or self._bad else now} if self.whole or self._bad else {})}
                # If its settings changed meanwhile, nothing is known of a reading by the new ones.
                same = (t.source_pull.c.source_id == self.source.id, t.source_pull.c.settings == self.row.settings)
                current = connection.execute(select(t.source.c.policy).where(t.source.c.id == self.source.id)).scalar()
                if current == self.source.policy:
                    connection.execute(update(t.source_pull).where(*same).values(**after))

    def _effects(self) -> list[dict[str, Any]]:
        """Return what a run that only looked would give and take: for each role the number of people."""
        with self.house.database.reading() as connection:
            catalogue = self.house.catalogue.get(connection)
        found = []
        for key in sorted({*self.people.gained, *self.people.lost}):
            application, role = catalogue.applications.get(key[0]), catalogue.roles.get(key[1])
            if application is not None and role is not None:
                found.append({"application": application.label, "role": role.label, "gained": self.people.gained[key], "lost": self.people.lost[key]})
        return sorted(found, key=lambda each: (each["application"], each["role"]))


def _could_not_be_read(number: int) -> str:
    return "1 line or entry could not be read." if number == 1 else f"{number:,} lines or entries could not be read."


def _end(house: House, run_id: str, state: str, *, message: str, mend: str = "") -> None:
    values = {"state": state, "ended_at": clock.now(), "message": message, "mend": mend}
    with house.database.writing() as connection:
        connection.execute(update(t.run).where(t.run.c.id == run_id).values(**values))
        key = connection.execute(select(t.source.c.key).join(t.run, t.run.c.source_id == t.source.c.id).where(t.run.c.id == run_id)).scalar()
    events.note(events.RUN, state, source=key, run=run_id, reason=message)


def stop(house: House, caller: Caller, key: str, run_id: str) -> dict[str, Any]:
    """Have a run be stopped at its next batch.

    Raises:
        NotFound.
    """
    now = clock.now()
    with house.database.writing() as connection:
        source = pushing_source(connection, key)
        where = (t.run.c.id == run_id, t.run.c.source_id == source.id)
        row = connection.execute(select(t.run).where(*where)).first()
        if row is None:
            raise NotFound(f"'{source.label}' has no run with the id '{run_id}'.")
        if row.ended_at is None:
            values: dict[str, Any] = {"stop_asked": True}
            if row.state == ASKED:
                values |= {"state": STOPPED, "ended_at": now, "message": "It was stopped before it began."}
            connection.execute(update(t.run).where(*where).values(**values))
            record_change(connection, house.keys, caller, "stopped a run", "source", source.id, now, {"run": run_id})
    return one_run(house, run_id)


# One person at once


def refresh(house: House, caller: Caller, key: str, user_id: str) -> dict[str, Any]:
    """Read one person of a source anew, now.

    Raises:
        NotFound: if the source has said nothing of this person, or has them no more.
    """
    now = clock.now()
    r = t.record.c
    with house.database.reading() as connection:
        source, row = pull_settings.of_source(connection, key)
        where = (r.source_id == source.id, r.channel == PULL, r.user_id == user_id, r.gone_at.is_(None))
        record = connection.execute(select(t.record).where(*where)).first()
        if _under_way(connection, source.id):
            raise AlreadyThere(f"A run of '{source.label}' is under way.", "It brings everybody up to date; wait for its end.")
    if record is None:
        raise NotFound(f"'{source.label}' says nothing of this person.", "Choose a source that they are known by.")
    if not row.in_force:
        raise InvalidInput(f"'{source.label}' is in preparation.", "Put it in force first.", "source")
    policy = pull_settings.policy_of(source, row.kind)
    reader = pull_settings.reader_of(house, source, row, policy)
    try:
        entry = reader.one(record.native_id)
        if entry is None:
            raise NotFound(f"'{source.label}' has them no more.", "They leave with the next run that reads everybody.")
        listed = reader.groups_of(entry)
    finally:
        reader.close()
    with small_run(house, source.id, caller.name) as run_id:
        people = PeopleIn(house, source, policy, run_id)
        people.take([entry])
        people.finish()
        groups = GroupsIn(house, people)
        made = made_entries({fold(name): (name, [entry.locator]) for name in policy.made_groups(entry.attributes)})
        if listed is not None or policy.makes_groups:
            groups.of_one(record.id, [*(listed or ()), *made], lambda native_id: listed is not None or is_made(native_id))
        note_counts(house, run_id, {"read": 1, **people.counts, **groups.counts})
    with house.database.writing() as connection:
        record_change(connection, house.keys, caller, "refreshed a person", "user", user_id, now, {"source": key})
    return one_run(house, run_id)


@contextmanager
def small_run(house: House, source_id: str, asked_by: str) -> Iterator[str]:
    """Be a run of one person, carried out here and now; gives its id. None of the source may be under way.

    Raises:
        AlreadyThere.
    """
    now = clock.now()
    with house.database.writing() as connection:
        if _under_way(connection, source_id):
            raise AlreadyThere("A run of this source is under way.", "It brings everybody up to date; wait for its end.")
        run_id = _ask(connection, source_id, asked_by, now, look_only=False, whole=False)
        connection.execute(update(t.run).where(t.run.c.id == run_id).values(state=RUNNING, started_at=now))
    try:
        yield run_id
    except DravoError as wrong:
        _end(house, run_id, FAILED, message=wrong.message, mend=wrong.mend)
        raise
    with house.database.writing() as connection:
        values = {"state": FINISHED, "ended_at": clock.now(), "progress": 1}
        connection.execute(update(t.run).where(t.run.c.id == run_id).values(**values))


def note_counts(house: House, run_id: str, counts: dict[str, int]) -> None:
    """Write down what a run came to."""
    with house.database.writing() as connection:
        connection.execute(update(t.run).where(t.run.c.id == run_id).values(counts=counts))


# Looking at runs


def runs(house: House, key: str, ask: Ask) -> dict[str, Any]:
    """Return a page of a source's runs, newest first."""
    with house.database.reading() as connection:
        source = pushing_source(connection, key)
        return page(connection, select(t.run).where(t.run.c.source_id == source.id), [t.run.c.id], ask, run_line, newest_first=True)


def one_run(house: House, run_id: str, key: str | None = None) -> dict[str, Any]:
    """Return one run; of a source, if its key is given.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        where = [t.run.c.id == run_id, t.run.c.kind == PULL]
        if key is not None:
            where.append(t.run.c.source_id == pushing_source(connection, key).id)
        row = connection.execute(select(t.run).where(*where)).first()
    if row is None:
        raise NotFound(f"There is no run with the id '{run_id}'.")
    return run_line(row)


def run_line(row: Any) -> dict[str, Any]:
    """Return a run for people: its counts by name, how quick it is and about how long it goes on."""
    counts = Counter({name: value for name, value in (row.counts or {}).items() if isinstance(value, int)})
    seconds = seconds_between(row.started_at, row.ended_at or clock.now()) if row.started_at else 0.0
    rate = row.progress / seconds if seconds > 0 else 0.0
    expected = counts.pop("expected", 0)
    goes_on = row.state == RUNNING and rate > 0 and expected > row.progress
    return {
        "id": row.id, "state": row.state, "asked_by": row.asked_by, "asked_at": row.asked_at, "started_at": row.started_at,
        "ended_at": row.ended_at, "look_only": bool(row.look_only), "whole": bool(row.whole), "progress": row.progress, "expected": expected,
        "per_second": round(rate), "seconds_left": round((expected - row.progress) / rate) if goes_on else None,
        "counts": [{"name": name, "number": number} for name, number in counts.items()],
        "access": (row.counts or {}).get("access", []), "message": row.message, "mend": row.mend,
    }  # fmt: skip


def lines(house: House, key: str, run_id: str, ask: Ask, kind: str | None = None, words: str | None = None) -> dict[str, Any]:
    """Return a page of what a run did to people and groups, in its order."""
    one_run(house, run_id, key)
    x = t.run_line.c
    statement = select(t.run_line).where(x.run_id == run_id)
    if kind:
        statement = statement.where(x.kind == kind)
    if words:
        statement = statement.where(views.has(x.name, words))
    with house.database.reading() as connection:
        return page(connection, statement, [x.id], ask, _line)


def _line(row: Any) -> dict[str, Any]:
    return {
        "id": row.id, "kind": row.kind, "person": row.user_id, "name": row.name, "changes": pull_settings.pairs(row.changes or {}),
        "message": row.message,
    }  # fmt: skip
