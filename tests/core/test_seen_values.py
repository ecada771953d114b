"""Roles, entitlements and groups are collected from what an application lists, whatever it lists."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.provisioning.seen_values import MOST, SeenValue, collect, read


def test_values_are_counted_by_account_and_the_most_frequent_come_first() -> None:
    accounts = [
        {"roles": [{"value": "viewer", "display": "Viewer"}, {"value": "viewer"}]},
        {"roles": [{"value": "viewer"}, "ROLE_ADMIN"], "entitlements": [{"value": "urn:seat"}]},
        {"roles": "curator"},
    ]
    groups = [{"displayName": "Keepers", "members": [{"value": "1"}, {"value": "2"}]}, {"displayName": "All"}]
    found = collect(accounts, groups)
    assert found == [
        SeenValue("roles", "viewer", "Viewer", 2),
        SeenValue("roles", "ROLE_ADMIN", "", 1),
        SeenValue("roles", "curator", "", 1),
        SeenValue("entitlements", "urn:seat", "", 1),
        SeenValue("groups", "Keepers", "", 2),
        SeenValue("groups", "All", "", 0),
    ]
    assert read([each.document() for each in found]) == found and read(None) == []


def test_an_attribute_of_many_values_is_cut() -> None:
    accounts = [{"roles": [{"value": f"role {number}"}]} for number in range(MOST + 50)]
    assert len(collect(accounts, [])) == MOST


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=20),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(["value", "display", "x"]), inner)
    ),
    max_leaves=8,
)


@given(
    st.lists(
        st.fixed_dictionaries({"roles": JSON, "entitlements": JSON, "displayName": JSON, "members": JSON})
    )
)
def test_what_is_no_value_is_skipped(resources: list[dict[str, Any]]) -> None:
    for each in collect(resources, resources):
        assert each.value and isinstance(each.value, str) and isinstance(each.label, str)
