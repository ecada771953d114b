from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.access import Assignment, Membership, Reason, memberships, work_out
from dravo.core.instants import Instant

EARLY, NOW, LATE = (Instant(f"2031-04-0{day}T00:00:00.000000Z") for day in (1, 2, 3))


def test_a_person_gets_the_roles_of_their_groups_and_their_own() -> None:
    by_group = {"herbarium": [Assignment("a1", "records", "viewer", group_id="herbarium")]}
    direct = [Assignment("a2", "records", "curator", user_id="ada")]
    found = work_out(True, [Membership("herbarium")], direct, by_group, NOW)
    assert found.roles == {("records", "viewer"): (Reason("a1", "herbarium"),), ("records", "curator"): (Reason("a2"),)}


def test_who_is_not_active_has_nothing() -> None:
    by_group = {"herbarium": [Assignment("a1", "records", "viewer", group_id="herbarium")]}
    assert work_out(False, [Membership("herbarium")], [], by_group, NOW).roles == {}


def test_two_groups_that_give_the_same_role_are_two_reasons() -> None:
    by_group = {group: [Assignment(f"a-{group}", "records", "viewer", group_id=group)] for group in ("one", "two")}
    found = work_out(True, [Membership("one"), Membership("two")], [], by_group, NOW)
    assert [reason.group_id for reason in found.roles["records", "viewer"]] == ["one", "two"]


def test_an_assignment_counts_from_its_first_instant_until_before_its_last() -> None:
    assignment = Assignment("a", "records", "viewer", user_id="ada", from_at=NOW, until_at=LATE)
    counts = {at: bool(work_out(True, [], [assignment], {}, at).roles) for at in (EARLY, NOW, LATE)}
    assert counts == {EARLY: False, NOW: True, LATE: False}
    assert [work_out(True, [], [assignment], {}, at).next_change for at in (EARLY, NOW, LATE)] == [NOW, LATE, None]


def test_a_group_within_a_group_counts_and_says_its_way() -> None:
    parents = {"apprentices": ["horticulture"], "horticulture": ["everybody"]}
    found = {each.group_id: each.through for each in memberships(["apprentices"], parents)}
    assert found == {"apprentices": (), "horticulture": ("apprentices",), "everybody": ("apprentices", "horticulture")}


@given(st.dictionaries(st.integers(0, 6), st.lists(st.integers(0, 6), max_size=3), max_size=7), st.lists(st.integers(0, 6), max_size=3))
def test_groups_in_circles_end(edges: dict[int, list[int]], start: list[int]) -> None:
    parents = {str(inner): [str(outer) for outer in outers] for inner, outers in edges.items()}
    found = [each.group_id for each in memberships([str(each) for each in start], parents)]
    assert len(found) == len(set(found))
    reachable = {str(each) for each in start}
    for _ in range(8):
        reachable |= {outer for inner in reachable for outer in parents.get(inner, [])}
    assert set(found) == reachable
