"""License plans: which plan a user's access needs, and what happens to the user's seat or place on the
waiting list.

A seat is a stored, dated input. Access does not depend on it; the account in the application does.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from dravo.core.access.types import Reason


@dataclass(frozen=True)
class Plan:
    """A license plan of an application.

    Attributes:
        key, label: as the application and as users know it.
        rank: of several plans the highest one is used.
        seats: the largest number of users; None: no limit.
        sent_value: what is sent to the application for the plan; None for the key.
    """

    id: str
    application_id: str
    key: str
    label: str
    rank: int
    seats: int | None
    sent_value: str | None = None

    @property
    def order(self) -> tuple[int, str]:
        """The sort key of plans, the highest first."""
        return -self.rank, self.key


class Seat(NamedTuple):
    """A seat that a user has (`seated`), or waits for."""

    id: str
    application_id: str
    plan_id: str
    seated: bool


class SeatChanges(NamedTuple):
    """Changes of a user's seats: (application ID, plan ID) to wait for, and IDs of seats that end."""

    asks: tuple[tuple[str, str], ...] = ()
    ends: tuple[str, ...] = ()


NO_SEATING = SeatChanges()


def asked_for(
    roles: Mapping[tuple[str, str], Sequence[Reason]], plan_of: Mapping[str, str], plans: Mapping[str, Plan]
) -> dict[str, tuple[str, ...]]:
    """Return by application ID the plans that come with a user's roles, the highest first.

    Args:
        roles: reasons by (application id, role id).
        plan_of: the plan of an assignment, by ID, if it has one.
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
    """Return the changes of a user's seats: at most one seat in an application, and waiting for higher plans.

    Args:
        held: the user's seats and places on the waiting list.
        wanted: by application ID the plans that the user may have, the highest first.
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
    """Whether a role is sent: an assignment without a plan gives it, or the user has a seat of its plan or a
    lower one.

    Args:
        reasons: the reasons of the role.
        seated: the plan of the user's seat.
        plan_of, plans: as in `asked_for`.
    """
    for reason in reasons:
        plan = plans.get(plan_of.get(reason.assignment_id or "", ""))
        if plan is None or (seated is not None and seated.order <= plan.order):
            return True
    return False
