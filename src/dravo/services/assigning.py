"""Assignments: an operator declares that a user or a group gets a role in an application."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, func, insert, literal, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.access import Assignment
from dravo.core.errors import AlreadyThere, InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.planning import Catalogue, Outcome, Person, work_out
from dravo.core.records import fold
from dravo.services import applications
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.named import application_by_key, source_by_key
from dravo.services.permissions import Caller
from dravo.services.recalculating import CHUNK, work_through
from dravo.store import clock, groups, snapshots, views
from dravo.store import tables as t
from dravo.store.catalogue import raise_revision
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

SHOWN = 50


@dataclass(frozen=True)
class Wish:
    """An assignment as asked for: application and role by key, and either a person or a source's group."""

    application: str
    role: str
    person: str | None = None
    source: str | None = None
    group: str | None = None
    from_at: Instant | None = None
    until_at: Instant | None = None
    note: str | None = None


def add(house: House, caller: Caller, wish: Wish) -> dict[str, Any]:
    """Make an assignment; those whom it touches are worked out, many of them by the worker.

    Raises:
        InvalidInput, NotFound, AlreadyThere.
    """
    now = clock.now()
    with house.database.reading() as connection:
        row, named = _resolve(connection, wish, now)
    try:
        with house.database.writing() as connection:
            connection.execute(insert(t.assignment).values(**row, created_at=now, created_by=caller.name))
            raise_revision(connection)
            _mark(connection, row["user_id"], row["group_id"], now)
            record_change(
                connection, house.keys, caller, "added assignment", "assignment", row["id"], now,
                {"application": wish.application, "role": wish.role, **({} if row["user_id"] else named)},
                named if row["user_id"] else None,
            )  # fmt: skip
    except IntegrityError:
        raise AlreadyThere("That role is given there already by an assignment.", "Change the one that there is.") from None
    work_through(house, CHUNK)
    return one(house, row["id"])


def change(house: House, caller: Caller, assignment_id: str, from_at: Instant | None, until_at: Instant | None, note: str | None) -> dict[str, Any]:
    """Change from when until when an assignment counts, and its note."""
    _check_span(from_at, until_at)
    now = clock.now()
    with house.database.writing() as connection:
        row = _row(connection, assignment_id)
        values = {"from_at": from_at, "until_at": until_at, "note": note}
        connection.execute(update(t.assignment).where(t.assignment.c.id == assignment_id).values(**values))
        raise_revision(connection)
        _mark(connection, row.user_id, row.group_id, now)
        record_change(
            connection, house.keys, caller, "changed assignment", "assignment", assignment_id, now,
            {"before": {name: getattr(row, name) for name in values}, "after": values},
        )  # fmt: skip
    work_through(house, CHUNK)
    return one(house, assignment_id)


def remove(house: House, caller: Caller, assignment_id: str) -> None:
    """Take an assignment away.

    Raises:
        NotFound.
    """
    now = clock.now()
    with house.database.writing() as connection:
        row = _row(connection, assignment_id)
        connection.execute(update(t.assignment).where(t.assignment.c.id == assignment_id).values(removed_at=now))
        raise_revision(connection)
        _mark(connection, row.user_id, row.group_id, now)
        record_change(
            connection, house.keys, caller, "removed assignment", "assignment", assignment_id, now,
            {"application": row.application_id, "role": row.role_id, "group": row.group_id},
        )  # fmt: skip
    work_through(house, CHUNK)


def _mark(connection: Connection, user_id: str | None, group_id: str | None, now: Instant) -> None:
    if group_id:
        groups.mark_people_within(connection, group_id, now)
    else:
        groups.mark_selected(connection, select(t.user.c.id, literal(now)).where(t.user.c.id == user_id))


def _row(connection: Connection, assignment_id: str) -> Any:
    row = connection.execute(select(t.assignment).where(t.assignment.c.id == assignment_id, t.assignment.c.removed_at.is_(None))).first()
    if row is None:
        raise NotFound(f"There is no assignment with the id '{assignment_id}'.", "It may have been taken away; see the list.")
    return row


def _check_span(from_at: Instant | None, until_at: Instant | None) -> None:
    if from_at and until_at and until_at <= from_at:
        raise InvalidInput("The assignment would end before it begins.", "Give an end behind the beginning.", "until")


def _resolve(connection: Connection, wish: Wish, now: Instant) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the row for an assignment that was asked for, and the names of whom it is for.

    Raises:
        InvalidInput, NotFound: whatever is named and not there, or named by two.
    """
    _check_span(wish.from_at, wish.until_at)
    if wish.until_at and wish.until_at <= now:
        raise InvalidInput("The assignment would have ended already.", "Give an end to come.", "until")
    if (wish.person is None) == (wish.group is None):
        raise InvalidInput("An assignment is for a person or for a group.", "Give one of the two.")
    application = application_by_key(connection, wish.application)
    role = applications.role_by_key(connection, application, wish.role)
    user_id = group_id = None
    if wish.person is not None:
        user = find_person(connection, wish.person)
        user_id, named = user.id, {"person": user.display_name}
    else:
        assert wish.group is not None
        group = find_group(connection, wish.group, wish.source)
        group_id, named = group.id, {"group": group.display_name, "source": wish.source or ""}
    row = {
        "id": new_id(),
        "application_id": application.id,
        "role_id": role.id,
        "user_id": user_id,
        "group_id": group_id,
        "from_at": wish.from_at,
        "until_at": wish.until_at,
        "note": (wish.note or "").strip() or None,
    }
    return row, named


def find_person(connection: Connection, name: str) -> Any:
    """Return the one user of an id, user name, e-mail or external id.

    Raises:
        NotFound: if there is none.
        InvalidInput: if there are several.
    """
    found = views.people_named(connection, name)
    if not found:
        raise NotFound(
            f"Nobody has the id, user name, e-mail or external id '{name}'.", "Look for a part of the name in the list of people.", "person"
        )
    present = [row for row in found if row.gone_at is None] or found
    if len(present) > 1:
        ids = ", ".join(row.id for row in present)
        raise InvalidInput(f"'{name}' fits {len(present)} people.", f"Give the id of one of them: {ids}.", "person")
    return present[0]


def find_group(connection: Connection, name: str, source_key: str | None) -> Any:
    """Return the one group of an id, external id or name in a source; the same name in another source is another group.

    Raises:
        NotFound, InvalidInput: as `find_person`.
    """
    g, s = t.group.c, t.source.c
    statement = (
        select(t.group, s.key.label("source_key"))
        .outerjoin(t.source, s.id == g.source_id)
        .where(g.gone_at.is_(None), (g.id == name) | (g.external_id == name) | (g.display_name_key == fold(name)))
    )
    if source_key:
        statement = statement.where(s.id == source_by_key(connection, source_key, "source").id)
    found = connection.execute(statement.limit(10)).all()
    where = f" in '{source_key}'" if source_key else ""
    if not found:
        raise NotFound(
            f"There is no group with the name or id '{name}'{where}.",
            "Names are compared whole, without regard to letter case; the source must have sent the group first.",
            "group",
        )
    if len(found) > 1:
        choices = ", ".join(f"{row.id} (of {row.source_key})" for row in found)
        raise InvalidInput(f"'{name}' is the name of {len(found)} groups{where}.", f"Give the id of one of them: {choices}.", "group")
    return found[0]


def _statement() -> Any:
    a, p, r, u, g, s, x = t.assignment.c, t.application.c, t.role.c, t.user.c, t.group.c, t.source.c, t.membership.c
    reach = (
        select(func.count())
        .select_from(t.membership)
        .where(x.group_id == a.group_id, x.until_at.is_(None), x.record_id.is_not(None))
        .scalar_subquery()
    )
    return (
        select(
            a.id, a.from_at, a.until_at, a.note, a.created_at, a.created_by, a.user_id, a.group_id,
            p.key.label("application_key"), p.label.label("application_label"),
            r.key.label("role_key"), r.label.label("role_label"), r.rank,
            u.display_name.label("person_name"), u.user_name,
            g.display_name.label("group_name"), g.external_id, g.gone_at,
            s.key.label("source_key"), s.label.label("source_label"), reach.label("reach"),
        )
        .join(t.application, p.id == a.application_id)
        .join(t.role, r.id == a.role_id)
        .outerjoin(t.user, u.id == a.user_id)
        .outerjoin(t.group, g.id == a.group_id)
        .outerjoin(t.source, s.id == g.source_id)
        .where(a.removed_at.is_(None))
    )  # fmt: skip


def _line(row: Any) -> dict[str, Any]:
    return {
        "id": row.id,
        "application": {"key": row.application_key, "label": row.application_label},
        "role": {"key": row.role_key, "label": row.role_label, "rank": row.rank},
        "person": {"id": row.user_id, "display_name": row.person_name, "user_name": row.user_name} if row.user_id else None,
        "group": {"id": row.group_id, "name": row.group_name, "external_id": row.external_id, "gone": row.gone_at is not None}
        if row.group_id
        else None,
        "source": {"key": row.source_key, "label": row.source_label} if row.source_key else None,
        "reach": row.reach if row.group_id else 1,
        "from": row.from_at,
        "until": row.until_at,
        "note": row.note,
        "created_at": row.created_at,
        "created_by": row.created_by,
    }


def listing(house: House, ask: Ask, application: str | None = None, group_id: str | None = None, person_id: str | None = None) -> dict[str, Any]:
    """Return a page of assignments in the order in which they were made, each with how many people it reaches now."""
    statement = _statement()
    if application:
        statement = statement.where(t.application.c.key == application)
    if group_id:
        statement = statement.where(t.assignment.c.group_id == group_id)
    if person_id:
        statement = statement.where(t.assignment.c.user_id == person_id)
    with house.database.reading() as connection:
        return page(connection, statement, [t.assignment.c.id], ask, _line)


def one(house: House, assignment_id: str) -> dict[str, Any]:
    """Return one assignment.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        _row(connection, assignment_id)
        return _line(connection.execute(_statement().where(t.assignment.c.id == assignment_id)).one())


# Preview: a plan that is shown and not applied


def preview_adding(house: House, wish: Wish) -> dict[str, Any]:
    """Return what an assignment would do: who would gain, lose or change, and which accounts would be touched."""
    now = clock.now()
    with house.database.reading() as connection:
        row, _ = _resolve(connection, wish, now)
        catalogue = house.catalogue.get(connection)
        new = Assignment(row["id"], row["application_id"], row["role_id"], row["user_id"], row["group_id"], row["from_at"], row["until_at"])
        touched = _touched(connection, new)
    if new.group_id:
        catalogue = _with_group_assignments(catalogue, new.group_id, (*catalogue.by_group.get(new.group_id, ()), new))
    else:
        touched = [replace(person, direct=(*person.direct, new)) for person in touched]
    return _shown(house, [work_out(person, catalogue, now) for person in touched], catalogue, row["application_id"])


def preview_removing(house: House, assignment_id: str) -> dict[str, Any]:
    """Return what taking an assignment away would do."""
    now = clock.now()
    with house.database.reading() as connection:
        row = _row(connection, assignment_id)
        catalogue = house.catalogue.get(connection)
        touched = _touched(connection, Assignment(row.id, row.application_id, row.role_id, row.user_id, row.group_id))
    if row.group_id:
        left = tuple(each for each in catalogue.by_group.get(row.group_id, ()) if each.id != assignment_id)
        catalogue = _with_group_assignments(catalogue, row.group_id, left)
    else:
        touched = [replace(each, direct=tuple(a for a in each.direct if a.id != assignment_id)) for each in touched]
    return _shown(house, [work_out(person, catalogue, now) for person in touched], catalogue, row.application_id)


def _with_group_assignments(catalogue: Catalogue, group_id: str, assignments: tuple[Assignment, ...]) -> Catalogue:
    return replace(catalogue, by_group={**catalogue.by_group, group_id: assignments})


def _touched(connection: Connection, assignment: Assignment) -> list[Person]:
    if assignment.user_id:
        ids = [assignment.user_id]
    else:
        assert assignment.group_id is not None
        ids = groups.people_within(connection, assignment.group_id)
    return list(snapshots.people(connection, ids).values())


def _shown(house: House, outcomes: list[Outcome], catalogue: Catalogue, application_id: str) -> dict[str, Any]:
    """Return a plan as it is shown: counts, then people with their roles in the application before and after."""
    counts = {"gained": 0, "lost": 0, "unchanged": 0, "accounts": 0}
    people: list[tuple[Outcome, list[str], list[str]]] = []
    for outcome in outcomes:
        gained = [change for change in outcome.access if change.id is None]
        lost = [change for change in outcome.access if change.closed]
        counts["gained"] += bool(gained)
        counts["lost"] += bool(lost) and not gained
        counts["unchanged"] += not gained and not lost
        counts["accounts"] += len(outcome.accounts)
        if (gained or lost) and len(people) < SHOWN:
            before = [catalogue.roles[held.role_id].label for held in outcome.person.access if held.application_id == application_id]
            gone = [catalogue.roles[change.role_id].label for change in lost]
            after = [label for label in before if label not in gone] + [catalogue.roles[change.role_id].label for change in gained]
            people.append((outcome, before, after))
    with house.database.reading() as connection:
        names = views.people_by_id(connection, [outcome.person.user_id for outcome, _, _ in people])
    return {
        **counts,
        "people": [{"person": names[outcome.person.user_id], "before": before, "after": after} for outcome, before, after in people],
    }
