"""For whom an assignment is: what was asked for is resolved, and those whom it touches are found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, literal, select

from dravo.core.conditions import read_condition
from dravo.core.days import read_span
from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.core.names import fold
from dravo.core.patterns import compile_pattern
from dravo.services import masking, settings
from dravo.services.applications import role_by_key
from dravo.services.named import application_by_key, source_by_key
from dravo.services.plans import plan_by_key
from dravo.store import groups, pulled, views
from dravo.store import tables as t
from dravo.store.catalogue import extensions
from dravo.store.identifiers import new_id


@dataclass(frozen=True)
class Wish:
    """An assignment as asked for: application and role by key, and for whom: a person, a source's group, everybody, those who meet a
    rule, or the groups of a source whose names fit a pattern (then the captured part says the role).

    Attributes:
        from_at, until_at: each an instant, or a day in the organisation's time zone, the last one included.
        excludes: whether it keeps out instead of giving a role.
        newcomers_only: only for people who come after it is made.
        confirmed: ids of groups that may give the highest role by a pattern.
        plan: by key, where the application has plans with seats.
        future_users: of a rule for a source: whether users who come to meet it later get even the highest role without confirmation.
    """

    application: str
    role: str | None
    person: str | None = None
    source: str | None = None
    group: str | None = None
    from_at: str | None = None
    until_at: str | None = None
    note: str | None = None
    everybody: bool = False
    rule: str | None = None
    pattern: str | None = None
    excludes: bool = False
    newcomers_only: bool = False
    confirmed: tuple[str, ...] = ()
    plan: str | None = None
    future_users: bool = False


def resolve(connection: Connection, wish: Wish, now: Instant) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the row for an assignment that was asked for, and the names of whom it is for.

    Raises:
        InvalidInput, NotFound: whatever is named and not there, or named by two.
    """
    span = read_span(wish.from_at, wish.until_at, settings.time_zone(connection))
    if span["until_at"] and span["until_at"] <= now:
        raise InvalidInput("The assignment would have ended already.", "Give an end to come.", "until")
    subjects = [wish.person is not None, wish.group is not None, wish.everybody, wish.rule is not None, wish.pattern is not None]
    if sum(subjects) != 1:
        raise InvalidInput("An assignment is for a person, for a group, for everybody, for a rule, or for a pattern of groups.", "Give one of these.")
    if wish.future_users and (wish.rule is None or wish.source is None):
        raise InvalidInput(
            "Only a rule that names a source can be confirmed for future users.", "Name the source that reports the attributes.", "source"
        )
    application = application_by_key(connection, wish.application)
    row = {
        "id": new_id(), "application_id": application.id, "role_id": _role(connection, application, wish), "excludes": wish.excludes,
        "plan_id": _plan(connection, application, wish),
        "user_id": None, "group_id": None, "rule": None, "pattern": None, "source_id": None, "confirmed": None, "future_users": wish.future_users,
        "newcomers_since": now if wish.newcomers_only else None, "note": (wish.note or "").strip() or None, **span,
    }  # fmt: skip
    if wish.newcomers_only and wish.person is not None:
        raise InvalidInput("An assignment to a person cannot be for newcomers only.", "Leave one of the two away.", "newcomers_only")
    if wish.person is not None:
        user = find_person(connection, wish.person)
        return {**row, "user_id": user.id}, {"person": user.display_name}
    if wish.group is not None:
        group = find_group(connection, wish.group, wish.source)
        return {**row, "group_id": group.id}, {"group": group.display_name, "source": group.source_key or ""}
    if wish.rule is not None:
        condition = read_condition(wish.rule, extensions(connection))
        if wish.source is None:
            return {**row, "rule": condition.text}, {"rule": condition.text}
        source = source_by_key(connection, wish.source, "source")
        named = {"rule": condition.text, "source": source.key, **({"future_users": True} if wish.future_users else {})}
        return {**row, "rule": condition.text, "source_id": source.id}, named
    if wish.pattern is not None:
        if not wish.source:
            raise InvalidInput("A pattern is for the groups of one source.", "Name the source: any other could have groups of such names.", "source")
        compile_pattern(wish.pattern)
        source = source_by_key(connection, wish.source, "source")
        return {**row, "pattern": wish.pattern, "source_id": source.id, "confirmed": list(wish.confirmed) or None}, {
            "pattern": wish.pattern,
            "source": source.key,
        }
    return row, {"everybody": True}


def _role(connection: Connection, application: Any, wish: Wish) -> str | None:
    if wish.excludes and (wish.role or wish.pattern is not None):
        raise InvalidInput("Who is kept out gets no role.", "Leave the role away; for a pattern, keep its groups out one by one.", "role")
    if wish.pattern is not None:
        if wish.role:
            raise InvalidInput("A pattern says the role by its captured part.", "Leave the role away, or map the groups one by one.", "role")
        return None
    return str(role_by_key(connection, application, wish.role).id) if wish.role else None


def _plan(connection: Connection, application: Any, wish: Wish) -> str | None:
    if not wish.plan:
        return None
    if wish.excludes or (wish.role is None and wish.pattern is None):
        raise InvalidInput("A plan comes with a role.", "Say the role too, or leave the plan away.", "plan")
    return str(plan_by_key(connection, application, wish.plan).id)


def other_plan(connection: Connection, row: Any, key: str) -> str | None:
    """Return the id of the plan that an assignment is to come with; an empty key takes its plan away.

    Raises:
        NotFound; InvalidInput if the assignment gives no role.
    """
    if not key:
        return None
    if row.excludes or (row.role_id is None and row.pattern is None):
        raise InvalidInput("A plan comes with a role.", "This assignment gives none.", "plan")
    application = connection.execute(select(t.application).where(t.application.c.id == row.application_id)).one()
    return str(plan_by_key(connection, application, key).id)


def find_person(connection: Connection, name: str) -> Any:
    """Return the one user of an id, user name, e-mail or external id.

    Raises:
        NotFound: if there is none.
        InvalidInput: if there are several.
    """
    return find_people(connection, [name])[0]


def find_people(connection: Connection, names: Sequence[str]) -> list[Any]:
    """Return the one user of each name, as `find_person` does, by few queries."""
    named = views.people_named(connection, names, by_attributes=not masking.hidden())
    return [_the_one(name, _decided(connection, named[name])) for name in names]


def _decided(connection: Connection, found: Sequence[Any]) -> Sequence[Any]:
    """Return users without those who wait for a decision, if there are others: a source must not make an existing name ambiguous."""
    if len(found) < 2:
        return found
    undecided = pulled.undecided_users(connection, [row.id for row in found])
    return [row for row in found if row.id not in undecided] or found


def _the_one(name: str, found: Sequence[Any]) -> Any:
    if not found:
        kinds = "id or user name" if masking.hidden() else "id, user name, e-mail or external id"
        raise NotFound(f"Nobody has the {kinds} '{name}'.", "Look for a part of the name in the list of people.", "person")
    present = [row for row in found if row.gone_at is None] or found
    if len(present) > 1:
        ids = ", ".join(row.id for row in present[:10])
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


def row_of(connection: Connection, assignment_id: str) -> Any:
    """Return an assignment's row.

    Raises:
        NotFound: if there is none, or it was taken away.
    """
    row = connection.execute(select(t.assignment).where(t.assignment.c.id == assignment_id, t.assignment.c.removed_at.is_(None))).first()
    if row is None:
        raise NotFound(f"There is no assignment with the id '{assignment_id}'.", "It may have been taken away; see the list.")
    return row


def application_of(connection: Connection, assignment_id: str) -> str | None:
    """Return the key of the application that an assignment is of, or None."""
    a, p = t.assignment.c, t.application.c
    key: str | None = connection.execute(select(p.key).join(t.assignment, a.application_id == p.id).where(a.id == assignment_id)).scalar()
    return key


def touched(row: Any, *columns: Any) -> Select[Any]:
    """Return the select of everybody whom an assignment can touch, by user id and further columns.

    Args:
        row: the columns of the assignment's table.
    """
    if row["user_id"] is not None:
        return select(t.user.c.id, *columns).where(t.user.c.id == row["user_id"])
    if row["group_id"] is not None:
        found: Select[Any] = groups.users_within(row["group_id"], *columns)
        return found
    if row["pattern"] is not None:
        in_groups: Select[Any] = groups.users_in_groups_of((row["source_id"],), *columns)
        return in_groups
    everybody: Select[Any] = groups.everybody(*columns)
    return everybody


def mark(connection: Connection, row: Any, now: Instant, cleared: tuple[str, str] | None = None) -> None:
    """Mark everybody whom an assignment can touch, to be worked out anew; `cleared` as in `mark_selected`."""
    groups.mark_selected(connection, touched(row, literal(now)), cleared)
