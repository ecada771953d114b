"""Bulk requests, entity tags, order and schemas of a source: as they are read, without a service."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.scim.bulk import (
    BulkOperation,
    next_ready,
    read_bulk,
    references,
    resolved,
    without_references,
)
from dravo.core.scim.errors import ScimError
from dravo.core.scim.extensions import read_schema
from dravo.core.scim.resources import check_immutable, read_resource, select_attributes, unique_values
from dravo.core.scim.schemas import GROUP, STANDARD, USER, extended
from dravo.core.scim.sorting import is_descending, sort_key, sort_location
from dravo.core.scim.versions import Condition, entity_tag


def operation(**given: Any) -> dict[str, Any]:
    return {"method": "POST", "path": "/Users", "bulkId": "a", "data": {"userName": "ada"}, **given}


@pytest.mark.parametrize(
    ("given", "scim_type"),
    [
        (operation(method="LEAP"), "invalidSyntax"),
        (operation(path="/Cars"), "invalidPath"),
        (operation(path="/Users/7"), "invalidPath"),
        (operation(method="PUT"), "invalidPath"),
        (operation(bulkId=None), "invalidSyntax"),
        (operation(bulkId=7), "invalidSyntax"),
        ({"method": "POST", "path": "/Users", "bulkId": "a"}, "invalidSyntax"),
        (7, "invalidSyntax"),
        (operation(path=None), "invalidPath"),
    ],
)
def test_an_operation_that_is_wrong_does_not_spoil_the_others(given: Any, scim_type: str) -> None:
    wrong, right = read_bulk({"Operations": [given, operation(bulkId="b")]}).operations
    assert isinstance(wrong, tuple) and wrong[2].scim_type == scim_type
    assert isinstance(right, BulkOperation) and right.kind == "User"


@pytest.mark.parametrize(
    "payload",
    [
        None,
        [],
        {},
        {"Operations": []},
        {"Operations": 7},
        {"Operations": [operation()], "failOnErrors": 0},
        {"Operations": [operation()] * 1001},
    ],
)
def test_a_bulk_that_cannot_be_read_is_refused(payload: Any) -> None:
    with pytest.raises(ScimError):
        read_bulk(payload)


def test_a_bulk_id_is_there_once() -> None:
    first, second = read_bulk({"operations": [operation(), operation()]}).operations
    assert isinstance(first, BulkOperation) and isinstance(second, tuple) and "twice" in second[2].detail


def test_references_are_found_resolved_and_cut() -> None:
    value = {
        "members": [{"value": "bulkId:a"}, {"value": "7"}],
        "path": 'members[value eq "bulkId:b"]',
        "n": 5,
    }
    assert set(references(value)) == {"a", "b"}
    assert resolved(value, {"a": "1", "b": "2"}) == {
        "members": [{"value": "1"}, {"value": "7"}],
        "path": 'members[value eq "2"]',
        "n": 5,
    }
    assert resolved(value, {})["members"][0]["value"] == "bulkId:a"
    group = BulkOperation(
        0,
        "POST",
        "Group",
        "/Groups",
        None,
        "g",
        None,
        {"displayName": "G", "members": value["members"], "x": "bulkId:z"},
    )
    data, later = without_references(group)
    assert data == {"displayName": "G", "members": [{"value": "7"}]}
    assert [each["path"] for each in later] == ["members", "x"]
    assert group.needs == {"a", "z"}
    assert next_ready([group], {"a": "1"}) is None and next_ready([group], {"a": "1", "z": "2"}) is group


def test_entity_tags_tell_versions_apart() -> None:
    assert entity_tag(3) == 'W/"3"'
    with_groups = entity_tag(3, [("g1", "Herbarium")])
    assert with_groups != entity_tag(3) and with_groups == entity_tag(3, [("g1", "Herbarium")]) != entity_tag(
        3, [("g1", "Moss")]
    )


@pytest.mark.parametrize(
    ("match", "none_match", "passes"),
    [
        (None, None, True),
        ("*", None, True),
        ('W/"3"', None, True),
        ('"3"', None, True),
        ('"1", W/"3"', None, True),
        ("3", None, True),
        ('W/"4"', None, False),
        (None, 'W/"4"', True),
        (None, 'W/"3"', False),
        (None, "*", False),
    ],
)
def test_conditions_hold_or_do_not(match: str | None, none_match: str | None, passes: bool) -> None:
    condition = Condition(match, none_match)
    assert bool(condition) == (match is not None or none_match is not None)
    if passes:
        condition.check('W/"3"')
    else:
        with pytest.raises(ScimError) as told:
            condition.check('W/"3"')
        assert told.value.status == 412
    assert condition.unchanged('W/"3"') == (none_match in ('W/"3"', "*"))


def test_the_order_of_a_list() -> None:
    users = [
        {"userName": "b", "emails": [{"value": "z@x"}, {"value": "a@x", "primary": True}], "active": True},
        {"userName": "A", "emails": [{"value": "m@x"}], "active": False},
        {"userName": "c"},
    ]

    def order(text: str) -> list[str]:
        at = sort_location(text, USER)
        return [each["userName"] for each in sorted(users, key=lambda user: sort_key(user, at))]  # type: ignore[misc]

    assert order("userName") == ["A", "b", "c"]
    assert order("emails") == order("emails.value") == ["b", "A", "c"]
    assert order("active") == ["A", "b", "c"]
    assert sort_location("displayName", USER, (GROUP,)).leaf.name == "displayName"
    for wrong in ("shoeSize", "name", "meta"):
        with pytest.raises(ScimError):
            sort_location(wrong, USER, (GROUP,))
    assert is_descending("Descending") and not is_descending(None)
    with pytest.raises(ScimError):
        is_descending("sideways")


GARDEN: dict[str, Any] = {
    "id": "urn:garden:2.0:User",
    "attributes": [
        {"name": "badge", "required": True, "uniqueness": "server"},
        {"name": "Code", "caseExact": True, "uniqueness": "global", "multiValued": True},
        {"name": "season", "type": "integer", "mutability": "immutable"},
        {"name": "secret", "mutability": "writeOnly"},
        {"name": "note", "returned": "request"},
        {
            "name": "plot",
            "type": "complex",
            "subAttributes": [{"name": "bed", "returned": "request"}, {"name": "size", "type": "decimal"}],
        },
    ],
}
SHAPES = extended((read_schema(GARDEN),), ())


def test_a_schema_of_a_source_holds_for_its_users() -> None:
    assert extended((), ()) is STANDARD
    urn = GARDEN["id"]
    given = {
        "userName": "ada",
        urn.upper(): {
            "BADGE": "B1",
            "code": ["x", "Y"],
            "season": 7,
            "secret": "s",
            "note": "n",
            "plot": {"bed": "N", "size": 2.5},
        },
    }
    read = read_resource(given, SHAPES.user)
    assert read[urn] == {
        "badge": "B1",
        "Code": ["x", "Y"],
        "season": 7,
        "note": "n",
        "plot": {"bed": "N", "size": 2.5},
    }
    assert unique_values(read, SHAPES.user) == [
        (f"{urn}:badge", "b1"),
        (f"{urn}:Code", "x"),
        (f"{urn}:Code", "Y"),
    ]
    shown = select_attributes({"schemas": [], "id": "1", **read}, SHAPES.user, None, None)
    assert "note" not in shown[urn] and shown[urn]["plot"] == {"size": 2.5}
    asked = select_attributes(
        {"schemas": [], "id": "1", **read}, SHAPES.user, f"{urn}:note,{urn}:plot.bed", None
    )
    assert asked[urn] == {"note": "n", "plot": {"bed": "N"}}
    check_immutable(read, read, SHAPES.user)
    with pytest.raises(ScimError, match="' is immutable"):
        check_immutable(read, {**read, urn: {**read[urn], "season": 8}}, SHAPES.user)
    with pytest.raises(ScimError, match="badge"):
        read_resource({"userName": "ada", urn: {"season": 1}}, SHAPES.user)
    assert SHAPES.named("Group") is SHAPES.group and len(SHAPES.schemas) == 4


def test_a_schema_with_a_unique_complex_attribute_is_refused() -> None:
    with pytest.raises(InvalidInput, match="' is a complex attribute and cannot be unique"):
        read_schema(
            {
                "id": "urn:garden:x",
                "attributes": [
                    {"name": "a", "type": "complex", "uniqueness": "server", "subAttributes": [{"name": "b"}]}
                ],
            }
        )
