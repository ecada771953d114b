"""Users who match rules now: counted, and listed by name while a rule is written."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any

from sqlalchemy import Connection

from dravo.core.access import evaluation as access_evaluation
from dravo.core.access.conditions import Condition, read_entered_condition, seen
from dravo.core.access.types import Assignment, UserFacts
from dravo.core.identity.records import UserRecord
from dravo.core.plan_types import ConfigSnapshot
from dravo.services.context import AppContext
from dravo.store.access import rules as stored
from dravo.store.access.rules import ActiveUser
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import UserRef, user_ref
from dravo.store.queries.users import users_by_id
from dravo.store.snapshots.config import assignment_of, condition_of, extensions, labels, role_expression_of

SHOWN = 20


@dataclass
class MatchingUsers:
    """The users who match a rule."""

    rule: str
    matching_users: int
    users: list[UserRef]


def try_rule(ctx: AppContext, text: str) -> MatchingUsers:
    """Return how many users match a rule now, and the first of them by name; nothing is changed.

    Raises:
        InvalidInput: for an invalid condition, with the position.
    """
    with ctx.database.reading() as connection:
        condition = read_entered_condition(text, extensions(connection))
        catalogue = ctx.catalogue.get(connection)
        reach = 0
        first: list[UserRef] = []
        for row, user in _everyone(connection, catalogue, [condition]):
            if condition.holds(user):
                reach += 1
                if len(first) < SHOWN:
                    first.append(user_ref(row))
    return MatchingUsers(rule=condition.text, matching_users=reach, users=first)


def count(
    connection: Connection, catalogue: ConfigSnapshot, rules: Sequence[Assignment]
) -> dict[str, tuple[int, int]]:
    """Return by rule how many active users have its role by it, and how many wait for a confirmation; all
    are counted in one pass.
    """
    found = {each.id: (0, 0) for each in rules}
    for facts, _ in _facts(connection, catalogue, rules):
        for rule in rules:
            if rule.roles_of is not None:
                reached, waiting = found[rule.id]
                reached += any(True for _ in access_evaluation.produced(facts, rule))
                top = access_evaluation.meets(facts, rule) and facts.user_id not in (rule.only or ())
                found[rule.id] = (reached, waiting + top)
            elif access_evaluation.meets(facts, rule):
                reached, waiting = found[rule.id]
                found[rule.id] = (
                    (reached + 1, waiting)
                    if access_evaluation.is_confirmed(facts, rule)
                    else (reached, waiting + 1)
                )
    return found


def matching(connection: Connection, catalogue: ConfigSnapshot, row: Any) -> list[str]:
    """Return the ids of the active users who meet a rule, by name, confirmed or not; of an expression, those
    who would get the highest role.

    Args:
        row: with the columns of the assignment's table.
    """
    condition = condition_of(row.rule, extensions(connection)) if row.rule is not None else None
    rule = assignment_of(row, condition, role_expression_of(row, catalogue.roles.values()))
    return [
        facts.user_id
        for facts, _ in _facts(connection, catalogue, [rule])
        if access_evaluation.meets(facts, rule)
    ]


def confirmed(connection: Connection, catalogue: ConfigSnapshot, row: dict[str, Any]) -> dict[str, Any]:
    """Return the row of a new assignment; for a rule with the highest role, and for an expression, only
    current matches are confirmed for that role.
    """
    if row["expression"] is not None:
        return {**row, "confirmed": sorted(matching(connection, catalogue, SimpleNamespace(**row)))}
    top = catalogue.highest.get(row["application_id"])
    if row["rule"] is None or row["role_id"] is None or row["role_id"] != top or row["future_users"]:
        return row
    return {**row, "confirmed": sorted(matching(connection, catalogue, SimpleNamespace(**row)))}


def listed(connection: Connection, user_ids: Sequence[str], page_request: PageRequest) -> Page[UserRef]:
    """Return a page of some users, in their order."""
    start = (
        next((place + 1 for place, each in enumerate(user_ids) if each == page_request.after), 0)
        if page_request.after
        else 0
    )
    some = list(user_ids[start : start + page_request.count])
    found = users_by_id(connection, some)
    following = some[-1] if start + len(some) < len(user_ids) and some else None
    return Page([found[each] for each in some if each in found], len(user_ids), following)


def _facts(
    connection: Connection, catalogue: ConfigSnapshot, rules: Sequence[Assignment]
) -> Iterator[tuple[UserFacts, ActiveUser]]:
    """Yield active users by name as rules see them: by all attributes, and by those of the sources that rules
    name.
    """
    reported: defaultdict[str, defaultdict[str, list[UserRecord]]] = defaultdict(lambda: defaultdict(list))
    named = {each.source_id for each in rules if each.source_id is not None}
    for record in stored.records_of_sources(connection, named) if named else ():
        if record.active:
            reported[record.user_id or ""][record.source_id].append(record)
    conditions = [each.condition for each in rules if each.condition is not None]
    for row, user in _everyone(connection, catalogue, conditions):
        by_source = (
            {
                source_id: {
                    **user,
                    **seen(
                        catalogue.merged(records).attributes, user.get("groups", ()), user.get("source", ())
                    ),
                }
                for source_id, records in reported[row.id].items()
            }
            if row.id in reported
            else {}
        )
        yield UserFacts(True, seen=user, by_source=by_source, user_id=row.id), row


def _everyone(
    connection: Connection, catalogue: ConfigSnapshot, conditions: Sequence[Condition]
) -> Iterator[tuple[ActiveUser, dict[str, Any]]]:
    """Yield active users by name, each as conditions see them."""
    sources = stored.sources_of_users(connection)
    direct: dict[str, list[str]] = {}
    named: dict[str, dict[str, Any]] = {}
    if any(each.asks_groups for each in conditions):
        direct = stored.groups_of_users(connection)
        named = {
            each.id: {"value": each.id, "display": each.name, "source": each.source_key}
            for each in labels(connection, None).values()
        }
    for row in stored.active_users(connection):
        within = access_evaluation.memberships(direct.get(row.id, ()), catalogue.parents) if direct else ()
        yield (
            row,
            seen(
                row.attributes,
                [named[each.group_id] for each in within if each.group_id in named],
                [catalogue.sources[each] for each in sources.get(row.id, ())],
            ),
        )
