"""Plans a hand-over: which users match records of the new source, what follows, and the impact list."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, StillInUse
from dravo.core.identity.acceptance import DISABLED
from dravo.core.identity.names import fold
from dravo.core.identity.records import UserRecord, searchable
from dravo.core.plan_types import ConfigSnapshot, GroupLabel, UserSnapshot
from dravo.services.changes.effects import ChangeEffects, PreviewedEffects, count
from dravo.services.changes.preview import PlannedChange, shown
from dravo.services.context import AppContext
from dravo.services.lookups import check_not_retired, find_group, pushing_source
from dravo.store import groups
from dravo.store.ids import new_id
from dravo.store.imports import matching as record_matching
from dravo.store.queries import runs as run_queries
from dravo.store.sources import hand_over as stored
from dravo.store.sources import settings as source_settings
from dravo.store.sources.hand_over import GroupPair, LooseRecord, Person
from dravo.store.sources.sources import Source

MATCHED, LINKED, UNMATCHED, UNCLEAR = "matched", "linked", "unmatched", "matched_twice"
MOST_ITEMS = 200


@dataclass
class HandOverUser:
    """A user of the old source.

    Attributes:
        outcome: "matched" (the new source reports the user already), "linked" (a record of it is linked),
            "unmatched" (the user leaves), or "matched_twice".
    """

    id: str
    name: str
    outcome: str


@dataclass
class HandOverGroup:
    """A group of the old source, and whether the new one has a group of this name."""

    name: str
    counterpart: bool
    assignments: int


@dataclass
class HandOverImpact:
    """What handing over does; nothing is changed yet.

    Attributes:
        numbers: how many users by outcome.
        users: the users, those who need attention first.
        assignments: how many assignments follow.
        domains: the email domains that the new source gets.
        effects: the sentences, and the access that changes.
    """

    numbers: dict[str, int]
    users: list[HandOverUser]
    groups: list[HandOverGroup]
    assignments: int
    domains: list[str]
    effects: PreviewedEffects


@dataclass(frozen=True)
class HandOverWish:
    """What to hand over.

    Attributes:
        to: the key of the new source.
        group: the name or ID of a pilot group; None for all users.
    """

    to: str
    group: str | None = None


@dataclass
class HandOverPlan:
    """A planned hand-over."""

    old: Source
    new: Source
    group_id: str | None
    people: list[Person]
    outcomes: dict[str, str]
    links: list[tuple[LooseRecord, str]]
    pairs: list[GroupPair]
    copies: list[dict[str, Any]]
    domains: list[str]
    catalogue: ConfigSnapshot
    groups_of_links: dict[str, list[str]] = field(default_factory=dict)

    def number(self, outcome: str) -> int:
        """Return how many users have an outcome."""
        return sum(1 for each in self.outcomes.values() if each == outcome)


def planned(ctx: AppContext, connection: Connection, key: str, wish: HandOverWish) -> HandOverPlan:
    """Return the plan of a hand-over.

    Raises:
        NotFound, InvalidInput, StillInUse.
    """
    old, new = pushing_source(connection, key), pushing_source(connection, wish.to)
    _check_sources(connection, old, new)
    group_id = None
    if wish.group:
        group_id = _pilot_group(connection, old, wish.group)
    people = stored.population(connection, old.id, group_id)
    outcomes, links = _matched(connection, new, people)
    pairs = stored.group_pairs(connection, old.id, new.id)
    owned = record_matching.domains(connection)
    domains = sorted(owned.get(old.id, frozenset()) - owned.get(new.id, frozenset()))
    plan = HandOverPlan(
        old,
        new,
        group_id,
        people,
        outcomes,
        links,
        pairs,
        _copies(connection, old, new, pairs),
        domains,
        ctx.catalogue.get(connection),
    )
    listed = groups.groups_of_records(connection, [record.id for record, _ in links])
    plan.groups_of_links = {
        record_id: [group_id for group_id, _ in some] for record_id, some in listed.items()
    }
    return plan


def _pilot_group(connection: Connection, old: Source, name: str) -> str:
    """Return the ID of a group of the old source, else of any group."""
    try:
        return find_group(connection, name, old.key).id
    except NotFound:
        return find_group(connection, name, None).id


def _check_sources(connection: Connection, old: Source, new: Source) -> None:
    if old.id == new.id:
        raise InvalidInput("A source cannot be handed over to itself.", "Choose another source.", "to")
    for source in (old, new):
        check_not_retired(source)
    if source_settings.serves_operators(connection, old.id):
        raise StillInUse(f"Operators sign in through '{old.label}'.", "Set `serves` to users first.")
    if run_queries.is_open_for_source(connection, old.id):
        raise StillInUse(f"An import run of '{old.label}' is in progress.", "Wait for its end, or stop it.")


def _matched(
    connection: Connection, new: Source, people: Sequence[Person]
) -> tuple[dict[str, str], list[tuple[LooseRecord, str]]]:
    """Return the outcome of each user by ID, and the records to link.

    A record belongs to a user with exactly the same user name or email; with several such records, or several
    such users, an operator has to decide first.
    """
    reported = stored.reported_users(connection, new.id)
    by_value: dict[str, set[str]] = {}
    loose = {each.id: each for each in stored.loose_records(connection, new.id)}
    for record in loose.values():
        found = searchable(record.data)
        for value in (f"name:{found.user_name_key}", *(f"email:{fold(each)}" for each in found.emails)):
            by_value.setdefault(value, set()).add(record.id)
    outcomes: dict[str, str] = {}
    wanted: dict[str, list[str]] = {}
    for person in people:
        values = [
            f"name:{person.user_name_key}",
            *([f"email:{person.email_key}"] if person.email_key else []),
        ]
        records = {each for value in values for each in by_value.get(value, ())}
        if person.id in reported:
            outcomes[person.id] = MATCHED
        elif not records:
            outcomes[person.id] = UNMATCHED
        elif len(records) > 1:
            outcomes[person.id] = UNCLEAR
        else:
            outcomes[person.id] = LINKED
            wanted.setdefault(next(iter(records)), []).append(person.id)
    links: list[tuple[LooseRecord, str]] = []
    for record_id, user_ids in wanted.items():
        if len(user_ids) == 1:
            links.append((loose[record_id], user_ids[0]))
        else:
            outcomes |= dict.fromkeys(user_ids, UNCLEAR)
    return outcomes, links


def _copies(
    connection: Connection, old: Source, new: Source, pairs: Sequence[GroupPair]
) -> list[dict[str, Any]]:
    """Return the assignments that follow to the new source, as rows without what exists already."""
    others = {pair.id: pair.other_id for pair in pairs}
    copies: list[dict[str, Any]] = []
    for row in stored.assignments_of(connection, old.id):
        if row["group_id"] is not None and others.get(row["group_id"]) is None:
            continue
        group_id = others[row["group_id"]] if row["group_id"] is not None else None
        source_id = new.id if row["source_id"] == old.id else row["source_id"]
        copies.append({**row, "id": new_id(), "group_id": group_id, "source_id": source_id})
    known = stored.same_assignments(connection, copies) if copies else set()
    return [each for each in copies if stored.assignment_key(each) not in known]


def planned_change(plan: HandOverPlan) -> PlannedChange:
    """Return the access that changes: the old source ends for the users, and the new one counts."""
    linked = {user_id: record for record, user_id in plan.links}
    concerned = {person.id for person in plan.people}
    ended = {pair.id for pair in plan.pairs}

    def after(user: UserSnapshot) -> UserSnapshot:
        if user.user_id not in concerned:
            return user
        changed = [
            replace(each, gone=True) if each.source_id == plan.old.id else each for each in user.records
        ]
        listed = [each for each in user.groups if each not in ended]
        if (record := linked.get(user.user_id)) is not None:
            changed.append(
                UserRecord(record.id, plan.new.id, record.connection_type, record.data, user.user_id)
            )
            listed += plan.groups_of_links.get(record.id, [])
        return replace(user, records=tuple(changed), groups=tuple(dict.fromkeys(listed)))

    return PlannedChange(
        None,
        (stored.users_to_hand_over(plan.old.id, plan.group_id),),
        _with_copies(plan),
        after,
        plan.old.label,
        "Handing users over ends what the old source reports about them.",
    )


def _with_copies(plan: HandOverPlan) -> ConfigSnapshot:
    """Return the configuration with the assignments that follow."""
    by_group, labels = dict(plan.catalogue.by_group), dict(plan.catalogue.labels)
    for pair in plan.pairs:
        given = by_group.get(pair.id, ())
        if pair.other_id is None or not given:
            continue
        held = by_group.get(pair.other_id, ())
        known = {(each.application_id, each.role_id) for each in held}
        new = [
            replace(each, id=new_id(), group_id=pair.other_id)
            for each in given
            if (each.application_id, each.role_id) not in known
        ]
        by_group[pair.other_id] = (*held, *new)
        labels[pair.other_id] = GroupLabel(pair.other_id, pair.name, plan.new.key, plan.new.label)
    return replace(plan.catalogue, by_group=by_group, labels=labels)


def check_clear(plan: HandOverPlan) -> None:
    """Check that every user has one record or none at the new source.

    Raises:
        InvalidInput.
    """
    if unclear := plan.number(UNCLEAR):
        raise InvalidInput(
            f"{count(unclear, 'user matches', 'users match')} several records of '{plan.new.label}', or one "
            "that matches other users too.",
            "Correct their user names or emails at the new source, or decide its conflicts first.",
            "to",
        )
    if not plan.people:
        raise InvalidInput(
            "No user would be handed over.", "Choose another group, or leave it out for all users.", "group"
        )


def impact(connection: Connection, plan: HandOverPlan) -> HandOverImpact:
    """Return the impact list of a plan."""
    effects = ChangeEffects()
    texts = {
        MATCHED: ("user is reported by both sources", "users are reported by both sources"),
        LINKED: (
            "user is linked to a record of the new source",
            "users are linked to records of the new source",
        ),
        UNMATCHED: ("user has no record there and leaves", "users have no record there and leave"),
        UNCLEAR: (
            "user matches several records; decide this first",
            "users match several records; decide these first",
        ),
    }
    for outcome, (one, several) in texts.items():
        if number := plan.number(outcome):
            effects.add(f"{count(number, one, several)}.")
    _add_settings(connection, plan, effects)
    effects.access = shown(connection, planned_change(plan))
    order = (UNCLEAR, UNMATCHED, LINKED, MATCHED)
    people = sorted(plan.people, key=lambda each: order.index(plan.outcomes[each.id]))
    counts: dict[str, int] = {}
    for row in stored.assignments_of(connection, plan.old.id):
        if row["group_id"]:
            counts[row["group_id"]] = counts.get(row["group_id"], 0) + 1
    return HandOverImpact(
        {outcome: plan.number(outcome) for outcome in order},
        [HandOverUser(each.id, each.name, plan.outcomes[each.id]) for each in people[:MOST_ITEMS]],
        [
            HandOverGroup(
                pair.name, counterpart=pair.other_id is not None, assignments=counts.get(pair.id, 0)
            )
            for pair in plan.pairs[:MOST_ITEMS]
        ],
        len(plan.copies),
        plan.domains,
        effects.shown(),
    )


def _add_settings(connection: Connection, plan: HandOverPlan, effects: ChangeEffects) -> None:
    without = [pair for pair in plan.pairs if pair.other_id is None]
    if plan.copies:
        effects.add(
            f"{count(len(plan.copies), 'assignment follows', 'assignments follow')} to the new source."
        )
    if without:
        names = ", ".join(pair.name for pair in without[:5])
        more = " and more" if len(without) > 5 else ""
        number = count(len(without), "group has", "groups have")
        effects.add(f"{number} no counterpart of the same name: {names}{more}.")
    if plan.domains:
        effects.add(f"The new source gets the email domains {', '.join(plan.domains)}.")
    if plan.new.scim_status == DISABLED:
        effects.add("The new source is disabled: what it sends later waits until you enable it.")
    signs_in = source_settings.sign_in_of(connection, plan.old.id)
    if signs_in is not None and source_settings.sign_in_of(connection, plan.new.id) is None:
        effects.add("Users sign in through the old source. The new source has no sign-in yet.")
    if plan.group_id is None:
        effects.add(
            "The old source is retired: its tokens are revoked, its import and its sign-in are disabled."
        )
