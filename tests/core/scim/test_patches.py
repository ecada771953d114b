from __future__ import annotations

from typing import Any

import pytest

from dravo.core.scim.errors import ScimError
from dravo.core.scim.patches import MemberChange, apply_patch, read_operations
from dravo.core.scim.schemas import ENTERPRISE_URN, GROUP, USER

ADA: dict[str, Any] = {
    "userName": "ada",
    "title": "Botanist",
    "name": {"givenName": "Ada", "familyName": "Fern"},
    "emails": [
        {"value": "a@work.example", "type": "work", "primary": True},
        {"value": "a@home.example", "type": "home"},
    ],
    ENTERPRISE_URN: {"department": "Herbarium"},
}


def patched(*operations: dict[str, Any], start: dict[str, Any] = ADA) -> dict[str, Any]:
    return apply_patch(start, read_operations({"Operations": list(operations)}, USER), USER).resource


@pytest.mark.parametrize(
    ("operation", "changed"),
    [
        ({"op": "add", "path": "nickName", "value": "Adi"}, {"nickName": "Adi"}),
        ({"op": "Replace", "path": "title", "value": "Keeper"}, {"title": "Keeper"}),
        ({"op": "REMOVE", "path": "title"}, {"title": None}),
        (
            {"op": "replace", "value": {"title": "Keeper", "active": "False"}},
            {"title": "Keeper", "active": False},
        ),
        (
            {"op": "add", "value": {"name.familyName": "Moss"}},
            {"name": {"givenName": "Ada", "familyName": "Moss"}},
        ),
        (
            {"op": "replace", "path": "name", "value": {"familyName": "Moss"}},
            {"name": {"givenName": "Ada", "familyName": "Moss"}},
        ),
        ({"op": "remove", "path": "name.givenName"}, {"name": {"familyName": "Fern"}}),
        (
            {"op": "replace", "path": 'emails[type eq "home"].value', "value": "h@x.example"},
            {"emails": [ADA["emails"][0], {"value": "h@x.example", "type": "home"}]},
        ),
        (
            {"op": "add", "path": 'emails[type eq "other"].value', "value": "o@x.example"},
            {"emails": [*ADA["emails"], {"type": "other", "value": "o@x.example"}]},
        ),
        ({"op": "remove", "path": 'emails[type eq "home"]'}, {"emails": [ADA["emails"][0]]}),
        (
            {"op": "remove", "path": "emails", "value": [{"value": "a@home.example"}]},
            {"emails": [ADA["emails"][0]]},
        ),
        (
            {"op": "replace", "path": "emails", "value": [{"value": "n@x.example"}]},
            {"emails": [{"value": "n@x.example"}]},
        ),
        (
            {"op": "add", "path": "emails", "value": [{"value": "n@x.example", "primary": True}]},
            {
                "emails": [
                    {"value": "a@work.example", "type": "work", "primary": False},
                    ADA["emails"][1],
                    {"value": "n@x.example", "primary": True},
                ]
            },
        ),
        ({"op": "add", "path": "emails", "value": [ADA["emails"][1]]}, {}),
        (
            {"op": "replace", "value": {f"{ENTERPRISE_URN}:department": "Estates"}},
            {ENTERPRISE_URN: {"department": "Estates"}},
        ),
        (
            {"op": "add", "value": {ENTERPRISE_URN: {"division": "Plants"}}},
            {ENTERPRISE_URN: {"department": "Herbarium", "division": "Plants"}},
        ),
        (
            {"op": "replace", "path": f"{ENTERPRISE_URN}:manager", "value": "7"},
            {ENTERPRISE_URN: {"department": "Herbarium", "manager": {"value": "7"}}},
        ),
        ({"op": "remove", "path": ENTERPRISE_URN}, {ENTERPRISE_URN: None}),
        ({"op": "replace", "path": "title", "value": None}, {"title": None}),
        ({"op": "replace", "path": "password", "value": "secret"}, {}),
        (
            {"op": "add", "path": 'roles[primary eq "True"].value', "value": "viewer"},
            {"roles": [{"primary": True, "value": "viewer"}]},
        ),
        ({"op": "remove", "path": "nickName"}, {}),
    ],
)
def test_an_operation_does_what_section_3_5_2_says(
    operation: dict[str, Any], changed: dict[str, Any]
) -> None:
    expected = {name: value for name, value in {**ADA, **changed}.items() if value is not None}
    assert patched(operation) == expected


def test_the_resource_given_is_never_changed() -> None:
    before = repr(ADA)
    patched(
        {"op": "replace", "path": 'emails[type eq "home"].value', "value": "other"},
        {"op": "remove", "path": "name"},
    )
    assert repr(ADA) == before


@pytest.mark.parametrize(
    ("operation", "kind"),
    [
        ({"op": "remove"}, "noTarget"),
        ({"op": "replace", "path": 'emails[type eq "fax"].value', "value": "x"}, "noTarget"),
        ({"op": "add", "path": 'emails[type ne "fax" and value sw "q"].value', "value": "x"}, "noTarget"),
        ({"op": "replace", "path": "id", "value": "x"}, "mutability"),
        ({"op": "add", "path": "groups", "value": [{"value": "g"}]}, "mutability"),
        ({"op": "replace", "path": "shoeSize", "value": 1}, "invalidPath"),
        ({"op": "replace", "path": "emails[", "value": 1}, "invalidPath"),
        ({"op": "replace", "path": 'emails[kind eq "x"].value', "value": 1}, "invalidFilter"),
        ({"op": "replace", "path": "active", "value": "perhaps"}, "invalidValue"),
        ({"op": "remove", "path": "userName"}, "mutability"),
        ({"op": "add", "path": "title"}, "invalidValue"),
        ({"op": "replace", "value": "text"}, "invalidValue"),
        ({"op": "move", "path": "title", "value": "x"}, "invalidSyntax"),
        ({"op": "add", "path": 5, "value": "x"}, "invalidPath"),
    ],
)
def test_a_wrong_operation_is_refused_with_its_keyword(operation: dict[str, Any], kind: str) -> None:
    with pytest.raises(ScimError) as told:
        patched(operation)
    assert (told.value.status, told.value.scim_type) == (400, kind)


@pytest.mark.parametrize(
    "payload",
    [None, [], {}, {"Operations": []}, {"Operations": "x"}, {"Operations": [1]}, {"Operations": [{}] * 1001}],
)
def test_a_message_without_operations_is_refused(payload: Any) -> None:
    with pytest.raises(ScimError):
        read_operations(payload, USER)


def test_member_operations_become_ordered_changes() -> None:
    operations = read_operations(
        {
            "Operations": [
                {"op": "Add", "path": "members", "value": [{"value": "a"}, {"value": "b"}]},
                {"op": "remove", "path": 'members[value eq "c" or value eq "d"]'},
                {"op": "remove", "path": "members", "value": [{"value": "e"}]},
                {"op": "remove", "path": 'members[type eq "Group"]'},
                {"op": "replace", "value": {"displayName": "New", "members": [{"value": "f"}]}},
                {"op": "remove", "path": "members"},
            ]
        },
        GROUP,
    )
    done = apply_patch({"displayName": "Old"}, operations, GROUP)
    assert done.resource == {"displayName": "New"}
    assert [(change.kind, change.ids) for change in done.members] == [
        ("add", ("a", "b")),
        ("remove", ("c", "d")),
        ("remove", ("e",)),
        ("remove_matching", ()),
        ("replace", ("f",)),
        ("replace", ()),
    ]
    assert isinstance(done.members[3], MemberChange)
    assert done.members[3].matching is not None


@pytest.mark.parametrize("path", [True, False])
def test_the_same_value_marked_as_primary_is_no_second_element(path: bool) -> None:
    marked = [{"value": "a@home.example", "type": "home", "primary": True}]
    operation = (
        {"op": "add", "path": "emails", "value": marked}
        if path
        else {"op": "add", "value": {"emails": marked}}
    )
    emails = patched(operation)["emails"]
    assert emails == [{"value": "a@work.example", "type": "work", "primary": False}, {**marked[0]}]
    assert ADA["emails"][0]["primary"] is True, "what was given is not changed"
    again = patched({"op": "add", "path": "emails", "value": [{"value": "a@work.example", "type": "work"}]})[
        "emails"
    ]
    assert again == ADA["emails"]
