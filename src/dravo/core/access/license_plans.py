"""Plans with seats: which plan a user's access asks for, and what that makes of the seat that they have or
wait for.

Having a seat is a stored, dated input: access does not depend on it, the account in the application does.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from dravo.core.access.evaluation import Reason


@dataclass(frozen=True)
class Plan:
    """A plan of an application.

    Attributes:
        key, label: as the application and as users know it.
        rank: of several plans the highest one counts.
        seats: how many users can have it; None: as many as there are.
    """

    id: str
    application_id: str
    key: str
    label: str
    rank: int
    seats: int | None

    @property
    def order(self) -> tuple[int, str]:
        """By this plans stand in order, the highest first."""
        return -self.rank, self.key


class Seat(NamedTuple):
    """A seat that a user has (`seated`), or waits for."""

    id: str
    application_id: str
    plan_id: str
    seated: bool


class SeatChanges(NamedTuple):
    """What becomes of a user's seats: (application id, plan id) that they wait for from now on, and ids of
    those that end.
    """

    asks: tuple[tuple[str, str], ...] = ()
    ends: tuple[str, ...] = ()


NO_SEATING = SeatChanges()


def asked_for(
    roles: Mapping[tuple[str, str], Sequence[Reason]], plan_of: Mapping[str, str], plans: Mapping[str, Plan]
) -> dict[str, tuple[str, ...]]:
    """Return by application id the plans that a user's roles come with, the highest first.

    Args:
        roles: reasons by (application id, role id).
        plan_of: for an assignment's id its plan's, where it has one.
        plans: every plan by id.
    """
    found: dict[str, set[str]] = {}
    for (application_id, _), reasons in roles.items():
        for reason in reasons:
            plan_id = plan_of.get(reason.assignment_id or "")
            if plan_id is not None and plan_id in plans:
                found.setdefault(application_id, set()).add(plan_id)
    return {
        application_id: tuple(sorted(ids, key=lambda each: plans[each].order))
        for application_id, ids in found.items()
    }


def seating(held: Iterable[Seat], wanted: Mapping[str, Sequence[str]]) -> SeatChanges:
    """Return what becomes of a user's seats: they have one at the most in an application, and wait for
    those of higher plans.

    Args:
        held: what they have and wait for now.
        wanted: by application id the plans that they may have, the highest first.
    """
    seated = {
        seat.application_id: seat.plan_id
        for seat in held
        if seat.seated and seat.plan_id in wanted.get(seat.application_id, ())
    }
    waits = {
        (application_id, plan_id)
        for application_id, plans in wanted.items()
        for plan_id in plans[: plans.index(seated[application_id]) if application_id in seated else None]
    }
    kept = {(seat.application_id, seat.plan_id) for seat in held if not seat.seated} & waits
    ends = (
        seat.id
        for seat in held
        if (
            seated.get(seat.application_id) != seat.plan_id
            if seat.seated
            else (seat.application_id, seat.plan_id) not in kept
        )
    )
    return SeatChanges(tuple(sorted(waits - kept)), tuple(ends))


def goes_over(
    reasons: Sequence[Reason], seated: Plan | None, plan_of: Mapping[str, str], plans: Mapping[str, Plan]
) -> bool:
    """Whether a role is sent: something gives it that needs no seat, or a seat of that plan or a lower one.

    Args:
        reasons: of the role.
        seated: the plan of which the user has a seat.
        plan_of, plans: as in `asked_for`.
    """
    for reason in reasons:
        plan = plans.get(plan_of.get(reason.assignment_id or "", ""))
        if plan is None or (seated is not None and seated.order <= plan.order):
            return True
    return False
