from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.identity.merging import MergedUser
from dravo.core.provisioning.accounts import (
    Entitlement,
    RoleLabel,
    Settings,
    desired_account,
    differences,
    scim_body,
)
from dravo.core.scim.patches import apply_patch, read_operations
from dravo.core.scim.schemas import ENTERPRISE_URN, USER

VIEWER, CURATOR = RoleLabel("viewer", "Viewer", 10), RoleLabel("curator", "Curator", 30)
ADA = MergedUser(
    {
        "userName": "ada",
        "title": "Botanist",
        ENTERPRISE_URN: {"department": "Herbarium", "manager": {"value": "7"}},
    },
    {},
    True,
    False,
)
ASLEEP = MergedUser(ADA.attributes, {}, False, False)
GONE = MergedUser(ADA.attributes, {}, False, True)
THERE = desired_account("u1", ADA, Entitlement([VIEWER]), Settings(), None)


def test_an_account_carries_our_id_and_its_roles_the_highest_first() -> None:
    due = desired_account("u1", ADA, Entitlement([VIEWER, CURATOR]), Settings(), None)
    assert due is not None
    body = scim_body(due)
    assert (body["externalId"], body["active"]) == ("u1", True)
    assert [(role["value"], role["primary"]) for role in body["roles"]] == [
        ("curator", True),
        ("viewer", False),
    ]
    assert body["displayName"] == "ada"
    assert body[ENTERPRISE_URN] == {"department": "Herbarium"}


def test_who_never_had_access_has_no_account() -> None:
    assert desired_account("u1", ADA, Entitlement(), Settings(), None) is None


@pytest.mark.parametrize("user", [ADA, ASLEEP, GONE])
@pytest.mark.parametrize(
    ("setting", "want"), [("deactivate", "present"), ("delete", "absent"), ("do_nothing", "as it is")]
)
def test_each_way_of_leaving_has_its_own_setting(user: MergedUser, setting: str, want: str) -> None:
    names = {id(ADA): "on_losing_access", id(ASLEEP): "on_inactive", id(GONE): "on_leaving"}
    due = desired_account("u1", user, Entitlement(), Settings(**{names[id(user)]: setting}), THERE)
    assert due is not None
    assert due["want"] == want
    if want == "present":
        assert (due["active"], due["roles"]) == (False, [])


def test_a_deleted_account_is_not_recreated_to_deactivate_it() -> None:
    assert desired_account("u1", GONE, Entitlement(), Settings(), {"want": "absent"}) == {"want": "absent"}


def test_returned_access_is_provisioned_again() -> None:
    assert desired_account("u1", ADA, Entitlement([VIEWER]), Settings(), {"want": "absent"}) == THERE


_TEXTS = st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=4)
_BODIES = st.fixed_dictionaries(
    {
        "userName": _TEXTS,
        "active": st.booleans(),
        "roles": st.lists(st.fixed_dictionaries({"value": _TEXTS}), max_size=2),
    },
    optional={
        "title": _TEXTS,
        "name": st.fixed_dictionaries({"givenName": _TEXTS}),
        ENTERPRISE_URN: st.dictionaries(st.sampled_from(["department", "division"]), _TEXTS, min_size=1),
    },
)


@given(_BODIES, _BODIES)
def test_the_differences_make_the_one_into_the_other(before: dict[str, Any], after: dict[str, Any]) -> None:
    start = {name: value for name, value in before.items() if value != []}
    operations = differences(before, after)
    assert (operations == []) == (before == after)
    if operations:
        made = apply_patch(start, read_operations({"Operations": operations}, USER), USER).resource
        assert made == {name: value for name, value in after.items() if value != []}
