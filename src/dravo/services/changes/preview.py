"""Previews of changes: a plan is shown to the operator, and checked against the preview before it is
applied.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select

from dravo.core.errors import StalePreview
from dravo.core.plan_types import ConfigSnapshot, UserPlan, UserSnapshot
from dravo.core.planning import plan_user
from dravo.services import jobs
from dravo.services.changes.removal_limits import NeedsConfirmation, confirmation_reason
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.plan_writer import EVERY_APPLICATION
from dravo.store.queries import seats as seat_queries
from dravo.store.queries.references import KeyAndLabel, UserRef, attributes_ref
from dravo.store.snapshots import users as user_snapshots

# Maximum number of listed users; all others are only counted.
SHOWN = 5_000


@dataclass
class PreviewSeats:
    """The seats that a change needs."""

    plan: KeyAndLabel
    application: KeyAndLabel
    asked: int
    free: int | None
    wait: int


@dataclass
class PreviewUser:
    """A user affected by a change, with the roles before and after; `highest` if the change gives the user
    the highest role.
    """

    what: str
    user: UserRef
    application: KeyAndLabel
    before: list[str]
    after: list[str]
    highest: bool


@dataclass
class Preview:
    """The result of a change. Each user is counted once per application."""

    application: KeyAndLabel | None
    type_to_confirm: str
    gained: int
    lost: int
    changed: int
    unchanged: int
    accounts: int
    taken: int
    top_gained: int
    confirm: str
    seats: list[PreviewSeats]
    users: list[PreviewUser]


@dataclass(frozen=True)
class Confirmation:
    """What an operator confirms with a change: the typed label of the application, and (gained, lost,
    changed) of the preview.
    """

    confirm: str | None = None
    expect: tuple[int, int, int] | None = None


UNCONFIRMED = Confirmation()


@dataclass(frozen=True)
class PlannedChange:
    """A planned change that is not applied yet.

    Attributes:
        application_id: the application that it concerns; None for all.
        touched: selects that together return the IDs of all users whom the change can touch.
        catalogue: the configuration after the change.
        user: returns the snapshot of one user after the change.
        name: the text to type as a confirmation, where it is not the label of the application.
        serious: why the change needs a confirmation in any case.
    """

    application_id: str | None
    touched: tuple[Select[Any], ...]
    catalogue: ConfigSnapshot
    user: Callable[[UserSnapshot], UserSnapshot] = lambda user: user
    name: str = ""
    serious: str = ""

    @property
    def typed(self) -> str:
        """The text to type as a confirmation."""
        return (
            self.name
            if self.application_id is None
            else self.catalogue.applications[self.application_id].label
        )

    def concerns(self, application_id: str) -> bool:
        """Whether the preview shows what happens in an application."""
        return self.application_id in (None, application_id)


def outcomes(connection: Connection, change: PlannedChange) -> Iterator[UserPlan]:
    """Yield the plans of all users that a change can affect, some hundred at a time in memory."""
    now = clock.now()
    ids = list(
        dict.fromkeys(user_id for each in change.touched for user_id in connection.execute(each).scalars())
    )
    for start in range(0, len(ids), user_snapshots.CHUNK):
        for user in user_snapshots.users(connection, ids[start : start + user_snapshots.CHUNK]).values():
            yield plan_user(change.user(user), change.catalogue, now)
        jobs.report_progress(min(start + user_snapshots.CHUNK, len(ids)), len(ids))


def shown(connection: Connection, change: PlannedChange, most: int = SHOWN) -> Preview:
    """Return a plan as the API shows it: counts, then users with their roles before and after in each
    application, users with a new highest role first.
    """
    counts = {"gained": 0, "lost": 0, "changed": 0, "unchanged": 0, "accounts": 0}
    taken: Counter[str] = Counter()
    top_gained: Counter[str] = Counter()
    asks: Counter[str] = Counter()
    top = set(change.catalogue.highest.values())
    users: list[PreviewUser] = []
    others: list[PreviewUser] = []
    for outcome in outcomes(connection, change):
        lines = list(_lines(outcome, change))
        counts["unchanged"] += not lines
        for line in lines:
            counts[line.what] += 1
        for line in lines:
            place = users if line.highest else others
            if len(place) < most:
                place.append(line)
        taken.update(
            {
                each.application_id
                for each in outcome.access
                if each.closed and change.concerns(each.application_id)
            }
        )
        top_gained.update(
            {each.application_id for each in outcome.access if each.id is None and each.role_id in top}
        )
        asks.update(
            plan_id for application_id, plan_id in outcome.seating.asks if change.concerns(application_id)
        )
        counts["accounts"] += sum(change.concerns(each.application_id) for each in outcome.accounts)
    of = change.application_id
    applications = change.catalogue.applications
    concerned = (
        sorted({*taken, *top_gained}, key=lambda each: applications[each].label) if of is None else [of]
    )
    weighed = [
        (each, confirmation_reason(connection, each, taken[each], top_gained[each])) for each in concerned
    ]
    return Preview(
        **counts,
        taken=sum(taken.values()),
        top_gained=sum(top_gained[each] for each in concerned),
        application=_named(change.catalogue, of) if of is not None else None,
        type_to_confirm=change.typed,
        users=[*users, *others][:most],
        seats=[_seats(connection, change.catalogue, plan_id, number) for plan_id, number in asks.items()],
        confirm=" ".join(
            [
                *([change.serious] if change.serious else []),
                *(_where(change, each, told) for each, told in weighed if told),
            ]
        ),
    )


def _seats(connection: Connection, catalogue: ConfigSnapshot, plan_id: str, asked: int) -> PreviewSeats:
    """Return how many users would need a seat of a plan, and how many seats are free."""
    plan = catalogue.plans[plan_id]
    free = (
        None
        if plan.seats is None
        else max(
            0,
            plan.seats - seat_queries.taken(connection, plan_id) - seat_queries.waiting(connection, plan_id),
        )
    )
    application = _named(catalogue, plan.application_id)
    wait = 0 if free is None else max(0, asked - free)
    return PreviewSeats(
        plan=KeyAndLabel(plan.key, plan.label),
        application=application,
        asked=asked,
        free=free,
        wait=wait,
    )


def _named(catalogue: ConfigSnapshot, application_id: str) -> KeyAndLabel:
    application = catalogue.applications[application_id]
    return KeyAndLabel(application.key, application.label)


def _where(change: PlannedChange, application_id: str, told: str) -> str:
    """Return why a change needs a confirmation, with the application where several are concerned."""
    return (
        told
        if change.application_id is not None
        else f"{change.catalogue.applications[application_id].label}: {told}"
    )


def check(
    connection: Connection, change: PlannedChange, caller: Caller, sure: Confirmation
) -> tuple[str, str] | None:
    """Check that a change has the result of its preview, and that a serious change is confirmed.

    Returns:
        (application ID, or `EVERY_APPLICATION`, and the operator's name) if its removals need not wait for
            the removal limit.

    Raises:
        StalePreview: if the result differs from the preview.
        NeedsConfirmation: if the change is serious and the label was not typed.
    """
    found = shown(connection, change, most=0)
    if sure.expect is not None and sure.expect != (found.gained, found.lost, found.changed):
        told = (
            f"{found.gained:,} users gain access, {found.lost:,} lose access and "
            f"{found.changed:,} change roles"
        )
        raise StalePreview(
            f"The preview is out of date. The result is now: {told}.", "Preview again, then confirm."
        )
    if not found.confirm:
        return None
    if sure.confirm != change.typed:
        what = "the application" if change.application_id is not None else "the changed object"
        raise NeedsConfirmation(
            found.confirm, f"Type the name of {what}, '{change.typed}', to confirm.", "confirm"
        )
    return change.application_id or EVERY_APPLICATION, caller.name


def _lines(outcome: UserPlan, change: PlannedChange) -> Iterator[PreviewUser]:
    """Yield a line for each application in which a user gains, loses or changes roles."""
    roles, applications = change.catalogue.roles, change.catalogue.applications
    touched = {
        each.application_id
        for each in outcome.access
        if (each.closed or each.id is None) and change.concerns(each.application_id)
    }
    for of in sorted(touched, key=lambda each: applications[each].label):
        before = [held.role_id for held in outcome.user.access if held.application_id == of]
        lost = {each.role_id for each in outcome.access if each.closed and each.application_id == of}
        gained = [each.role_id for each in outcome.access if each.id is None and each.application_id == of]
        after = [role_id for role_id in before if role_id not in lost] + gained
        yield PreviewUser(
            what="gained" if not before else "lost" if not after else "changed",
            user=attributes_ref(outcome.user.user_id, outcome.merged.attributes),
            application=_named(change.catalogue, of),
            before=[roles[role_id].label for role_id in before if role_id in roles],
            after=[roles[role_id].label for role_id in after if role_id in roles],
            highest=change.catalogue.highest.get(of) in gained,
        )
