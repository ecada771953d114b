"""The attributes by which existing accounts are found."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.provisioning.matching import check_origin, filter_path, read_adopt_by, values_of
from dravo.core.scim.schemas import ENTERPRISE_URN

NUMBER = f"{ENTERPRISE_URN}:employeeNumber"


def test_user_name_and_email_come_first_and_each_attribute_once() -> None:
    given = [NUMBER, " emails ", "nickName", "", "userName", "nickName"]
    assert read_adopt_by(given) == ["userName", "emails", NUMBER, "nickName"]
    assert filter_path("emails") == "emails.value" and filter_path(NUMBER) == NUMBER
    assert read_adopt_by(["urn:fernhollow:records:1.0:Account:badge"]) == [
        "urn:fernhollow:records:1.0:Account:badge"
    ]


@pytest.mark.parametrize("name", ["name", "name.familyName", "phoneNumbers", "active", "nowhere", "urn:x"])
def test_an_attribute_without_one_text_is_refused(name: str) -> None:
    with pytest.raises(InvalidInput) as told:
        read_adopt_by([name])
    assert told.value.field == "adopt_by" and told.value.hint


@pytest.mark.parametrize(
    ("attribute", "account", "values"),
    [
        ("userName", {"userName": "ÄDA"}, ["äda"]),
        ("emails", {"emails": [{"value": "Ada@X.example"}, {"type": "work"}, "odd"]}, ["ada@x.example"]),
        ("emails", {"emails": "ada@x.example"}, []),
        ("nickName", {"nickName": "Ada"}, ["Ada"]),
        ("nickName", {"nickName": ["Ada"]}, []),
        (NUMBER, {ENTERPRISE_URN: {"employeeNumber": "4711"}}, ["4711"]),
        (NUMBER, {ENTERPRISE_URN: "4711"}, []),
        (NUMBER, {}, []),
    ],
)
def test_values_are_compared_as_their_attribute_is(
    attribute: str, account: dict[str, Any], values: list[str]
) -> None:
    assert values_of(account, attribute) == values


@pytest.mark.parametrize("attribute", ["userName", "emails", "phoneNumbers", "UserType"])
def test_an_attribute_with_another_use_does_not_name_the_origin(attribute: str) -> None:
    with pytest.raises(InvalidInput) as told:
        check_origin(attribute, ["usertype"])
    assert told.value.field == "origin_attribute"
