"""Previews: plans that are shown and not applied. The same planning as for a change that is made, on what would be declared then."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from types import SimpleNamespace
from typing import Any

from sqlalchemy import Connection, Select

from dravo.core.access import Assignment
from dravo.core.days import read_span
from dravo.core.errors import WorldMoved
from dravo.core.planning import Catalogue, Outcome, Person, work_out
from dravo.services import reaching, seating, settings, waiting
from dravo.services.guarding import NeedsConfirmation, weigh
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.services.subjects import Wish, other_plan, resolve, row_of, touched
from dravo.store import clock, snapshots
from dravo.store.applying import EVERY_APPLICATION
from dravo.store.catalogue import assignment_of, condition_of, extensions, labels, matched
from dravo.store.views import attributes_ref

# So many lines are told at the most; whatever is beyond is counted.
SHOWN = 5_000


@dataclass(frozen=True)
class Sure:
    """What an operator said with a change: the application's label, typed, where it is grave; and (gained, lost, changed) as they
    saw them in the preview."""

    confirm: str | None = None
    expect: tuple[int, int, int] | None = None


UNSURE = Sure()


@dataclass(frozen=True)
class Change:
    """A change that is only thought of.

    Attributes:
        application_id: where it matters; None if it may matter everywhere.
        touched: select, together, the ids of everybody whom it can touch.
        catalogue: what would be declared.
        person: what would be of one person before they are worked out.
        name: what is typed to confirm it, where that is not the application's label.
        grave: why it has to be confirmed, whatever it does now.
    """

    application_id: str | None
    touched: tuple[Select[Any], ...]
    catalogue: Catalogue
    person: Callable[[Person], Person] = lambda person: person
    name: str = ""
    grave: str = ""

    @property
    def typed(self) -> str:
        """What is typed to confirm it."""
        return self.name if self.application_id is None else self.catalogue.applications[self.application_id].label

    def concerns(self, application_id: str) -> bool:
        """Whether what becomes of an application is shown."""
        return self.application_id in (None, application_id)


def preview_adding(house: House, wish: Wish) -> dict[str, Any]:
    """Return what making an assignment would do; nothing is changed.

    Raises:
        InvalidInput, NotFound: as making it would.
    """
    with house.database.reading() as connection:
        catalogue = house.catalogue.get(connection)
        row = reaching.confirmed(connection, catalogue, resolve(connection, wish, clock.now())[0])
        return shown(connection, adding(connection, catalogue, [row]))


def preview_removing(house: House, assignment_id: str) -> dict[str, Any]:
    """Return what taking an assignment away would do."""
    with house.database.reading() as connection:
        row = row_of(connection, assignment_id)
        return shown(connection, removing(house.catalogue.get(connection), row))


def preview_changing(
    house: House, assignment_id: str, from_: str | None, until: str | None, confirmed: list[str] | None, plan: str | None = None
) -> dict[str, Any]:
    """Return what other dates, other confirmed groups, or another plan of an assignment would do."""
    with house.database.reading() as connection:
        return shown(connection, changing(connection, house.catalogue.get(connection), assignment_id, from_, until, confirmed, plan))


def changing(
    connection: Connection,
    catalogue: Catalogue,
    assignment_id: str,
    from_: str | None,
    until: str | None,
    confirmed: list[str] | None,
    plan: str | None = None,
) -> Change:
    """Return the change that other dates, other confirmed groups, or another plan of an assignment would be; what is None of the latter stays.

    Raises:
        NotFound, InvalidInput.
    """
    row = row_of(connection, assignment_id)
    values = {**row._mapping, **read_span(from_, until, settings.time_zone(connection))}
    if confirmed is not None:
        values["confirmed"] = confirmed
    if plan is not None:
        values["plan_id"] = other_plan(connection, row, plan)
    without = removing(catalogue, row)
    then = replace(adding(connection, without.catalogue, [values]), grave="")
    return replace(then, person=lambda person: then.person(without.person(person)))


def adding(connection: Connection, catalogue: Catalogue, rows: Sequence[dict[str, Any]]) -> Change:
    """Return the change that making assignments would be; all are of one application, and of several none is for a person.

    Args:
        rows: with the columns of the assignment's table.
    """
    by_group = dict(catalogue.by_group)
    general = list(catalogue.general)
    direct: list[Assignment] = []
    patterned = set(catalogue.patterned)
    for values in rows:
        row = SimpleNamespace(**values)
        if values["pattern"] is not None:
            patterned.add(values["source_id"])
            for group_id, assignment in matched(connection, [row], catalogue.roles):
                by_group[group_id] = (*by_group.get(group_id, ()), assignment)
            continue
        condition = condition_of(values["rule"], extensions(connection)) if values["rule"] is not None else None
        assignment = assignment_of(row, condition)
        if assignment.user_id is not None:
            direct.append(assignment)
        elif assignment.group_id is not None:
            by_group[assignment.group_id] = (*by_group.get(assignment.group_id, ()), assignment)
        else:
            general.append(assignment)
    then = replace(catalogue, by_group=by_group, general=tuple(general), patterned=frozenset(patterned))
    if then.asks_groups and not catalogue.asks_groups:
        then = replace(then, labels=labels(connection, None))
    everybody = tuple(touched(values) for values in rows)
    grave = "Every user who meets this rule in future gets the role without confirmation." if any(each.get("future_users") for each in rows) else ""
    return Change(
        rows[0]["application_id"],
        everybody,
        then,
        lambda person: replace(person, direct=(*person.direct, *direct)) if direct else person,
        grave=grave,
    )


def removing(catalogue: Catalogue, row: Any) -> Change:
    """Return the change that taking an assignment away would be."""
    by_group = {group_id: left for group_id, given in catalogue.by_group.items() if (left := tuple(each for each in given if each.id != row.id))}
    general = tuple(each for each in catalogue.general if each.id != row.id)
    then = replace(catalogue, by_group=by_group, general=general)
    return Change(
        row.application_id, (touched(row._mapping),), then,
        lambda person: replace(person, direct=tuple(each for each in person.direct if each.id != row.id)),
    )  # fmt: skip


def outcomes(connection: Connection, change: Change) -> Iterator[Outcome]:
    """Yield what would become of everybody whom a change can touch, some hundred at a time in memory."""
    now = clock.now()
    ids = list(dict.fromkeys(user_id for each in change.touched for user_id in connection.execute(each).scalars()))
    for start in range(0, len(ids), snapshots.CHUNK):
        for person in snapshots.people(connection, ids[start : start + snapshots.CHUNK]).values():
            yield work_out(change.person(person), change.catalogue, now)
        waiting.tell(min(start + snapshots.CHUNK, len(ids)), len(ids))


def shown(connection: Connection, change: Change, most: int = SHOWN) -> dict[str, Any]:
    """Return a plan as it is shown: counts, then people with their roles in each application that it concerns, before and after."""
    counts = {"gained": 0, "lost": 0, "changed": 0, "unchanged": 0, "accounts": 0}
    taken: Counter[str] = Counter()
    top_gained: Counter[str] = Counter()
    asks: Counter[str] = Counter()
    top = set(change.catalogue.highest.values())
    people: list[dict[str, Any]] = []
    for outcome in outcomes(connection, change):
        lines = list(_lines(outcome, change))
        counts["unchanged"] += not lines
        for line in lines:
            counts[line["what"]] += 1
        people.extend(lines[: most - len(people)])
        taken.update({each.application_id for each in outcome.access if each.closed and change.concerns(each.application_id)})
        top_gained.update({each.application_id for each in outcome.access if each.id is None and each.role_id in top})
        asks.update(plan_id for application_id, plan_id in outcome.seating.asks if change.concerns(application_id))
        counts["accounts"] += sum(change.concerns(each.application_id) for each in outcome.accounts)
    of = change.application_id
    applications = change.catalogue.applications
    concerned = sorted({*taken, *top_gained}, key=lambda each: applications[each].label) if of is None else [of]
    weighed = [(each, weigh(connection, each, taken[each], top_gained[each])) for each in concerned]
    return {
        **counts,
        "taken": sum(taken.values()),
        "top_gained": sum(top_gained[each] for each in concerned),
        "application": _named(change.catalogue, of) if of is not None else None,
        "type_to_confirm": change.typed,
        "people": people,
        "seats": [_seats(connection, change.catalogue, plan_id, number) for plan_id, number in asks.items()],
        "confirm": " ".join([*([change.grave] if change.grave else []), *(_where(change, each, told) for each, told in weighed if told)]),
    }


def _seats(connection: Connection, catalogue: Catalogue, plan_id: str, asked: int) -> dict[str, Any]:
    """Return how far the free seats of a plan go for so many who would need one."""
    plan = catalogue.plans[plan_id]
    free = None if plan.seats is None else max(0, plan.seats - seating.taken(connection, plan_id) - seating.waiting(connection, plan_id))
    application = _named(catalogue, plan.application_id)
    wait = 0 if free is None else max(0, asked - free)
    return {"plan": {"key": plan.key, "label": plan.label}, "application": application, "asked": asked, "free": free, "wait": wait}


def _named(catalogue: Catalogue, application_id: str) -> dict[str, str]:
    application = catalogue.applications[application_id]
    return {"key": application.key, "label": application.label}


def _where(change: Change, application_id: str, told: str) -> str:
    """Return what is grave about a change, with the application where more than one is concerned."""
    return told if change.application_id is not None else f"{change.catalogue.applications[application_id].label}: {told}"


def check(connection: Connection, change: Change, caller: Caller, sure: Sure) -> tuple[str, str] | None:
    """Make sure that an operator's change is what they saw, and that a grave one was confirmed.

    Returns:
        (application id, or `EVERY_APPLICATION`, and the operator's name) if the removals that follow need not wait for the guard.

    Raises:
        WorldMoved: if it would do other than was seen.
        NeedsConfirmation: if it is grave, and the name of what it concerns was not typed.
    """
    found = shown(connection, change, most=0)
    if sure.expect is not None and sure.expect != (found["gained"], found["lost"], found["changed"]):
        told = f"{found['gained']:,} gain, {found['lost']:,} lose and {found['changed']:,} change role now"
        raise WorldMoved(f"The world has moved since you looked: {told}.", "Look at it again, and then do it.")
    if not found["confirm"]:
        return None
    if sure.confirm != change.typed:
        what = "the application" if change.application_id is not None else "what you change"
        raise NeedsConfirmation(found["confirm"], f"Type the name of {what}, '{change.typed}', to confirm.", "confirm")
    return change.application_id or EVERY_APPLICATION, caller.name


def _lines(outcome: Outcome, change: Change) -> Iterator[dict[str, Any]]:
    """Yield a line for each application in which somebody gains, loses or changes roles."""
    roles, applications = change.catalogue.roles, change.catalogue.applications
    touched = {each.application_id for each in outcome.access if (each.closed or each.id is None) and change.concerns(each.application_id)}
    for of in sorted(touched, key=lambda each: applications[each].label):
        before = [held.role_id for held in outcome.person.access if held.application_id == of]
        lost = {each.role_id for each in outcome.access if each.closed and each.application_id == of}
        gained = [each.role_id for each in outcome.access if each.id is None and each.application_id == of]
        after = [role_id for role_id in before if role_id not in lost] + gained
        yield {
            "what": "gained" if not before else "lost" if not after else "changed",
            "person": attributes_ref(outcome.person.user_id, outcome.user.attributes),
            "application": _named(change.catalogue, of),
            "before": [roles[role_id].label for role_id in before if role_id in roles],
            "after": [roles[role_id].label for role_id in after if role_id in roles],
        }
