"""Links between records and people, made and undone by hand: what a record says was meant of somebody else; looked at first."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import InvalidInput, NotFound, WorldMoved
from dravo.core.identity.records import LOCAL, PersonRecord
from dravo.core.instants import Instant
from dravo.core.planning import Catalogue, Outcome, Person, with_groups, with_record, work_out
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNSURE, Change, Sure
from dravo.services.context import House
from dravo.services.lookups import find_person
from dravo.services.security.audit_log import record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, groups, imported_records, memberships
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.plan_writer import Cleared, Rewrite, apply_outcomes
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import check_revision

TRIES = 8


@dataclass(frozen=True)
class Move:
    """A record that goes from one person to another; to somebody new if `taker` is not there yet."""

    row: Any
    giver: Person
    taker: Person
    giver_after: Person
    taker_after: Person
    catalogue: Catalogue

    def after(self, person: Person) -> Person:
        """Return what becomes of one person."""
        return {self.giver.user_id: self.giver_after, self.taker.user_id: self.taker_after}.get(person.user_id, person)


def preview(house: House, record_id: str, to: str | None) -> dict[str, Any]:
    """Return what it would do if a record belonged to another person, or (None) to somebody new; nothing is changed.

    Raises:
        NotFound, InvalidInput.
    """
    with house.database.reading() as connection:
        return changes_preview.shown(connection, _change(_planned(house, connection, record_id, to)))


def move(house: House, caller: Caller, record_id: str, to: str | None, sure: Sure = UNSURE) -> str:
    """Link a record to another user, or to a new one; return the user's ID.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, WorldMoved.
    """
    with house.database.reading() as connection:
        cleared = changes_preview.check(connection, _change(_planned(house, connection, record_id, to)), caller, sure)
    return link(house, caller, record_id, to, cleared)


def link(house: House, caller: Caller, record_id: str, to: str | None, cleared: tuple[str, str] | None = None) -> str:
    """Have a record belong to another user, or to a new one, without asking for confirmation; return the user's id.

    Args:
        cleared: the removals that an operator confirmed, as `previewing.check` returns them.

    Raises:
        NotFound, InvalidInput; WorldMoved.
    """
    for remaining in range(TRIES, 0, -1):
        try:
            return _apply(house, caller, record_id, to, cleared)
        except (WorldMoved, IntegrityError):
            if remaining == 1:
                raise
    raise AssertionError("unreachable")


def _change(move: Move) -> Change:
    ids = [person.user_id for person in (move.giver, move.taker) if person.revision is not None]
    name = str(move.giver.records[0].data.get("userName", ""))
    return Change(None, (select(t.user.c.id).where(t.user.c.id.in_(ids)),), move.catalogue, move.after, name)


def _planned(house: House, connection: Connection, record_id: str, to: str | None) -> Move:
    r = t.record.c
    row = connection.execute(select(t.record).where(r.id == record_id, r.gone_at.is_(None))).first()
    if row is None:
        raise NotFound("There is no such record any more.", "Look at the person again.")
    if row.channel == LOCAL:
        raise InvalidInput("This is what operators entered here.", "Change the person instead.", "record")
    giver = user_snapshots.people(connection, [row.user_id])[row.user_id]
    taker = _taker(connection, row, giver, to)
    record = PersonRecord(row.id, row.source_id, row.channel, row.data, taker.user_id)
    theirs = [group_id for group_id, _ in groups.groups_of_record(connection, record_id)]
    remaining = tuple(each for each in giver.records if each.id != record_id)
    if remaining:
        listed = groups.groups_of_records(connection, [each.id for each in remaining])
        kept = {group_id for some in listed.values() for group_id, _ in some} | set(groups.groups_of_user(connection, giver.user_id))
        giver_after = replace(giver, records=remaining, groups=tuple(each for each in giver.groups if each in kept))
    else:
        # Of whom nothing is said any more, nothing remains but the memory.
        giver_after = replace(with_record(giver, replace(record, user_id=giver.user_id, gone=True)), groups=())
    return Move(row, giver, taker, giver_after, with_groups(with_record(taker, record), added=theirs), house.catalogue.get(connection))


def _taker(connection: Connection, row: Any, giver: Person, to: str | None) -> Person:
    if to is None:
        if len(giver.records) == 1:
            raise InvalidInput("This is the only record of this person.", "Say whose it is.", "to")
        return Person(new_id(), None, ())
    found = find_person(connection, to)
    if found.id == giver.user_id:
        raise InvalidInput(f"It is {found.display_name}'s already.", "Choose somebody else.", "to")
    taker = user_snapshots.people(connection, [found.id])[found.id]
    if any((each.source_id, each.channel) == (row.source_id, row.channel) and not each.gone for each in taker.records):
        raise InvalidInput(f"This source says something of {found.display_name} already.", "Two of its records cannot be one person.", "to")
    return taker


def _apply(house: House, caller: Caller, record_id: str, to: str | None, cleared: tuple[str, str] | None) -> str:
    now = clock.now()
    with house.database.reading() as connection:
        planned = _planned(house, connection, record_id, to)
    outcomes = [work_out(planned.giver_after, planned.catalogue, now), work_out(planned.taker_after, planned.catalogue, now)]
    confirmed: Cleared = {(planned.giver.user_id, cleared[0]): cleared[1]} if cleared else {}
    with house.database.writing() as connection:
        _write(connection, planned, outcomes, confirmed, now)
        details = {"record": record_id, "from": planned.giver.user_id, "to": planned.taker.user_id}
        record_change(connection, house.keys, caller, "moved a record", "user", planned.taker.user_id, now, details)
    return planned.taker.user_id


def _write(connection: Connection, planned: Move, outcomes: list[Outcome], cleared: Cleared, now: Instant) -> None:
    check_revision(connection, planned.catalogue.revision)
    apply_outcomes(connection, outcomes, now, rewrite=Rewrite.NAMES, seen=planned.catalogue.revision, cleared=cleared)
    r = t.record.c
    where = (r.id == planned.row.id, r.version == planned.row.version, r.user_id == planned.giver.user_id, r.gone_at.is_(None))
    if connection.execute(update(t.record).where(*where).values(user_id=planned.taker.user_id, undecided=False, modified_at=now)).rowcount != 1:
        raise WorldMoved("The record has changed meanwhile.")
    if planned.row.undecided:
        imported_records.end_conflicts(connection, planned.row.source_id, "person", [planned.row.id])
    if outcomes[0].user.gone:
        memberships.end_memberships_of_user(connection, planned.giver.user_id, now)
