"""Which plan somebody's access asks for, which seats follow, and what is sent with them: for any roles,
plans and seats.
"""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.access.license_plans import Plan, Seat, asked_for, goes_over, seating
from dravo.core.access.types import Reason

PLANS = {
    each.id: each
    for each in (
        Plan("f", "desk", "full", "Full", 2, 3),
        Plan("b", "desk", "basic", "Basic", 1, None),
        Plan("o", "other", "one", "One", 1, 1),
    )
}
# Assignments by the first letter of their plan; "x" has none.
PLAN_OF = {"f1": "f", "f2": "f", "b1": "b", "o1": "o"}
reasons = st.lists(st.sampled_from(["f1", "f2", "b1", "x1", None]).map(Reason), min_size=1, max_size=4).map(
    tuple
)
roles = st.dictionaries(st.tuples(st.just("desk"), st.sampled_from(["r0", "r1", "r2"])), reasons, max_size=3)
held = st.lists(
    st.tuples(st.sampled_from(["f", "b"]), st.booleans()), max_size=3, unique_by=lambda each: each
).map(lambda some: [Seat(str(number), "desk", plan, seated) for number, (plan, seated) in enumerate(some)])


def one_seat(seats: list[Seat]) -> list[Seat]:
    """Return seats as they can stand: one of an application is taken."""
    first = next((seat for seat in seats if seat.seated), None)
    return [seat for seat in seats if not seat.seated or seat is first]


@given(roles)
def test_requested_plans_are_ordered_highest_first(
    some: dict[tuple[str, str], tuple[Reason, ...]],
) -> None:
    found = asked_for(some, PLAN_OF, PLANS)
    wanted = {
        PLAN_OF[each.assignment_id]
        for value_sources in some.values()
        for each in value_sources
        if each.assignment_id in PLAN_OF
    }
    assert set(found.get("desk", ())) == wanted
    assert list(found.get("desk", ())) == sorted(wanted, key=lambda plan: PLANS[plan].order)


@given(held, st.sampled_from([(), ("f",), ("b",), ("f", "b")]))
def test_once_it_is_carried_out_nothing_more_is_to_be_done(
    before: list[Seat], plans: tuple[str, ...]
) -> None:
    before = one_seat(before)
    wanted = {"desk": plans} if plans else {}
    change = seating(before, wanted)
    after = [seat for seat in before if seat.id not in change.ends] + [
        Seat(f"n{plan}", "desk", plan, False) for _, plan in change.asks
    ]
    again = seating(after, wanted)
    assert (again.asks, again.ends) == ((), ())
    taken = [seat.plan_id for seat in after if seat.seated]
    waited = [seat.plan_id for seat in after if not seat.seated]
    assert len(taken) <= 1 and len(set(waited)) == len(waited) and not set(taken) & set(waited)
    assert {*taken, *waited} <= set(plans)
    # Anyone who may have something has it or waits for it; and waits for nothing below what they have.
    if plans:
        assert plans[0] in (*taken, *waited)
    for plan in waited:
        assert not taken or PLANS[plan].order < PLANS[taken[0]].order


@given(reasons, st.sampled_from([None, "f", "b"]))
def test_a_role_is_sent_without_a_plan_or_with_a_sufficient_seat(
    some: tuple[Reason, ...], seat: str | None
) -> None:
    needs = [PLAN_OF.get(each.assignment_id or "") for each in some]
    expected = None in needs or (seat == "f" and bool(needs)) or (seat == "b" and "b" in needs)
    assert goes_over(some, PLANS[seat] if seat else None, PLAN_OF, PLANS) == expected
