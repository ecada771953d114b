"""Whom rules reach now: counted over everybody, and shown by name while a rule is written."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core import access
from dravo.core.conditions import Condition, read_condition, seen
from dravo.core.planning import Catalogue
from dravo.services.house import House
from dravo.store import groups
from dravo.store import tables as t
from dravo.store.catalogue import extensions, labels
from dravo.store.views import person_ref

SHOWN = 20


def try_rule(house: House, text: str) -> dict[str, Any]:
    """Return how many people a rule reaches now, and the first of them by name; nothing is changed.

    Raises:
        InvalidInput: if the condition cannot be read, with the place.
    """
    with house.database.reading() as connection:
        condition = read_condition(text, extensions(connection))
        catalogue = house.catalogue.get(connection)
        reach = 0
        first: list[dict[str, Any]] = []
        for row, person in _everybody(connection, catalogue, [condition]):
            if condition.holds(person):
                reach += 1
                if len(first) < SHOWN:
                    first.append(person_ref(row))
    return {"rule": condition.text, "reach": reach, "people": first}


def count(house: House, connection: Connection, conditions: Sequence[tuple[str, Condition]]) -> dict[str, int]:
    """Return by key how many active people meet each condition; all are counted in one pass."""
    if not conditions:
        return {}
    found = {key: 0 for key, _ in conditions}
    catalogue = house.catalogue.get(connection)
    for _, person in _everybody(connection, catalogue, [condition for _, condition in conditions]):
        for key, condition in conditions:
            found[key] += condition.holds(person)
    return found


def active_people(connection: Connection) -> int:
    """Return how many people are active."""
    return int(connection.execute(select(func.count()).select_from(t.user).where(t.user.c.active.is_(True))).scalar_one())


def _everybody(connection: Connection, catalogue: Catalogue, conditions: Sequence[Condition]) -> Iterator[tuple[Any, dict[str, Any]]]:
    """Yield active users by name, each with how conditions see them."""
    u, r = t.user.c, t.record.c
    sources: defaultdict[str, list[str]] = defaultdict(list)
    for user_id, source_id in connection.execute(select(r.user_id, r.source_id).where(r.gone_at.is_(None)).distinct()):
        sources[user_id].append(catalogue.sources[source_id])
    direct: defaultdict[str, list[str]] = defaultdict(list)
    named: dict[str, dict[str, Any]] = {}
    if any(each.asks_groups for each in conditions):
        listed = groups.listed(select(t.group.c.id).where(t.group.c.gone_at.is_(None)))
        for user_id, group_id in connection.execute(select(listed)):
            direct[user_id].append(group_id)
        named = {each.id: {"value": each.id, "display": each.name, "source": each.source_key} for each in labels(connection, None).values()}
    statement = select(u.id, u.display_name, u.user_name, u.attributes).where(u.active.is_(True)).order_by(u.display_name_key)
    for row in connection.execute(statement.execution_options(yield_per=2_000)):
        within = access.memberships(direct.get(row.id, ()), catalogue.parents) if direct else ()
        yield row, seen(row.attributes, [named[each.group_id] for each in within if each.group_id in named], sources[row.id])
