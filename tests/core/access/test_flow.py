"""The flow picture: nothing is lost by bundling, and what is large stands by itself."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.access.flow import Held, picture

APPLICATION_OF = {f"r{number}": f"a{number % 3}" for number in range(7)}
held = st.lists(
    st.builds(
        Held,
        st.sampled_from(["staff", "estates"]),
        st.sampled_from([f"g{number}" for number in range(9)]),
        st.booleans(),
        st.sampled_from([*APPLICATION_OF, "gone"]),
        st.integers(1, 50),
    ),
    max_size=30,
)


@given(held, st.integers(1, 5), st.integers(1, 5), st.integers(1, 3))
def test_as_many_flow_through_each_stage(
    rows: list[Held], groups: int, roles: int, applications: int
) -> None:
    nodes, bands = picture(rows, APPLICATION_OF, groups, roles, applications)
    total = sum(row.users for row in rows if row.role in APPLICATION_OF)
    for stage in ("source", "group", "role", "application"):
        assert sum(node.users for node in nodes if node.stage == stage) == total
    known = {node.id: node for node in nodes}
    assert len(known) == len(nodes)
    for node in nodes:
        out = sum(band.users for band in bands if band.from_id == node.id)
        into = sum(band.users for band in bands if band.to_id == node.id)
        assert out == (0 if node.stage == "application" else node.users)
        assert into == (0 if node.stage == "source" else node.users)
    # One more than the limit may stand by itself; what is bundled are several.
    assert sum(node.kind == "group" and node.of is not None for node in nodes) <= groups + 1
    assert sum(node.stage == "application" and node.of is not None for node in nodes) <= applications + 1
    assert all(node.bundled > 1 or node.stage == "role" for node in nodes if node.of is None)


def test_the_largest_are_first_and_the_rest_are_counted() -> None:
    rows = [Held("staff", f"g{number}", True, "r0", 10 - number) for number in range(5)] + [
        Held("staff", "direct", False, "r0", 1)
    ]
    nodes, _ = picture(rows, APPLICATION_OF, 2, 5, 5)
    assert [(node.id, node.users, node.bundled) for node in nodes if node.stage == "group"] == [
        ("group:g0", 10, 0),
        ("group:g1", 9, 0),
        ("way:direct", 1, 0),
        ("group:others", 21, 3),
    ]
