from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.scim.errors import ScimError
from dravo.core.scim.resources import read_members, read_resource, select_attributes
from dravo.core.scim.schemas import ENTERPRISE_URN, GROUP, STANDARD, USER, USER_URN

FULL = {
    "schemas": [USER_URN],
    "id": "1",
    "userName": "ada",
    "name": {"givenName": "Ada", "familyName": "Fern"},
    "emails": [{"value": "ada@fernhollow.example", "type": "work"}],
    ENTERPRISE_URN: {"department": "Herbarium", "employeeNumber": "7"},
    "meta": {"resourceType": "User"},
}


def test_names_are_taken_in_any_letter_case_and_kept_as_in_the_schema() -> None:
    given_ = {
        "USERNAME": "ada",
        "Name": {"GIVENNAME": "Ada"},
        ENTERPRISE_URN.lower(): {"Department": "Herbarium"},
    }
    read = read_resource(given_, USER)
    assert read == {
        "userName": "ada",
        "name": {"givenName": "Ada"},
        ENTERPRISE_URN: {"department": "Herbarium"},
    }


def test_discarded_attributes_are_left_out() -> None:
    read = read_resource(
        {
            "userName": "ada",
            "id": "x",
            "meta": {},
            "groups": [{"value": "g"}],
            "password": "secret",
            "nickName": None,
            "shoeSize": 38,
        },
        USER,
    )
    assert read == {"userName": "ada"}


@pytest.mark.parametrize(
    ("given_", "expected"),
    [
        ({"active": "False"}, {"active": False}),
        ({"active": "true"}, {"active": True}),
        ({ENTERPRISE_URN: {"manager": "42"}}, {ENTERPRISE_URN: {"manager": {"value": "42"}}}),
        ({"emails": {"value": "a@b.example"}}, {"emails": [{"value": "a@b.example"}]}),
        ({"emails": ["a@b.example"]}, {"emails": [{"value": "a@b.example"}]}),
        ({ENTERPRISE_URN: {"employeeNumber": 7}}, {ENTERPRISE_URN: {"employeeNumber": "7"}}),
        ({"emails": []}, {}),
        ({"name": {}}, {}),
    ],
)
def test_deviating_requests_of_providers_are_understood(
    given_: dict[str, Any], expected: dict[str, Any]
) -> None:
    assert read_resource({"userName": "ada", **given_}, USER) == {"userName": "ada", **expected}


@pytest.mark.parametrize(
    "given_",
    [
        {},
        {"userName": ""},
        {"userName": "  "},
        {"userName": ["a"]},
        {"userName": {"a": 1}},
        {"userName": "a", "active": "maybe"},
        {"userName": "a", "name": "Ada Fern"},
        {"userName": "a", "emails": [{"value": "x", "primary": True}, {"value": "y", "primary": True}]},
        {"userName": "a", "displayName": "x" * 70_000},
        {"userName": "a\x00b"},
        {"userName": "a", "x509Certificates": [{"value": "%%%"}]},
        {"userName": "a", "displayName": True},
    ],
)
def test_a_value_that_cannot_be_used_is_refused(given_: dict[str, Any]) -> None:
    with pytest.raises(ScimError) as told:
        read_resource(given_, USER)
    assert (told.value.status, told.value.scim_type) == (400, "invalidValue")


def test_something_that_is_no_object_is_invalid_syntax() -> None:
    with pytest.raises(ScimError) as told:
        read_resource([1], USER)
    assert told.value.scim_type == "invalidSyntax"


_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(["userName", "emails", "value", "name", "active", "x"]), inner, max_size=4
        )
    ),
    max_leaves=12,
)


@given(_JSON)
def test_reading_is_settled_after_the_first_time(payload: Any) -> None:
    for resource_type in STANDARD.types:
        try:
            once = read_resource(payload, resource_type)
        except ScimError:
            continue
        assert read_resource(once, resource_type) == once


def test_members_are_named_once_each() -> None:
    assert read_members([{"value": "a"}, {"value": "b", "type": "User"}, {"value": "a"}, "c"]) == [
        "a",
        "b",
        "c",
    ]
    assert read_members(None) == []
    with pytest.raises(ScimError):
        read_members([{"display": "nobody"}])


@pytest.mark.parametrize(
    ("attributes", "excluded", "expected"),
    [
        ("userName", None, {"schemas", "id", "userName"}),
        ("name.givenName", None, {"schemas", "id", "name"}),
        (f"{ENTERPRISE_URN}:department", None, {"schemas", "id", ENTERPRISE_URN}),
        ("nothingKnown", None, {"schemas", "id"}),
        (None, "emails,name", {"schemas", "id", "userName", ENTERPRISE_URN, "meta"}),
        (None, "id,schemas", {*FULL}),
        (None, ENTERPRISE_URN, {*FULL} - {ENTERPRISE_URN}),
    ],
)
def test_attributes_can_be_chosen_or_left_out(
    attributes: str | None, excluded: str | None, expected: set[str]
) -> None:
    assert set(select_attributes(dict(FULL), USER, attributes, excluded)) == expected


def test_parts_can_be_chosen_or_left_out() -> None:
    assert select_attributes(dict(FULL), USER, "name.givenName,emails.value", None)["name"] == {
        "givenName": "Ada"
    }
    assert select_attributes(dict(FULL), USER, None, "emails.type")["emails"] == [
        {"value": "ada@fernhollow.example"}
    ]
    with pytest.raises(ScimError):
        select_attributes(dict(FULL), USER, "name", "emails")


def test_a_group_needs_a_name() -> None:
    with pytest.raises(ScimError, match="displayName"):
        read_resource({"members": []}, GROUP)
