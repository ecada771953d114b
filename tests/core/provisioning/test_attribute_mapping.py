"""How attributes and roles are sent: every way that an application may take them."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.expressions import compile_expression
from dravo.core.identity.merging import MergedUser
from dravo.core.plan_types import Role
from dravo.core.provisioning.accounts import (
    Entitlement,
    Settings,
    desired_account,
    differences,
    scim_body,
    without_empty,
)
from dravo.core.provisioning.attribute_mapping import RoleEncoding, carried, mapped, read_target
from dravo.core.scim.patches import apply_patch, read_operations
from dravo.core.scim.schemas import USER

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
ROLES = [
    {"value": "curator", "display": "Curator", "primary": True},
    {"value": "viewer", "display": "Viewer", "primary": False},
]
ADA: dict[str, Any] = {
    "userName": "ada",
    "name": {"givenName": "Ada"},
    "emails": [{"value": "ada@x.example", "type": "work"}],
    "title": "Guide",
}


@pytest.mark.parametrize(
    ("how", "expected"),
    [
        (
            {},
            {
                "roles": [
                    {"value": "curator", "display": "Curator", "primary": True},
                    {"value": "viewer", "display": "Viewer", "primary": False},
                ]
            },
        ),
        ({"which": "highest"}, {"roles": [{"value": "curator", "display": "Curator", "primary": True}]}),
        ({"shape": "strings"}, {"roles": ["curator", "viewer"]}),
        ({"shape": "strings", "value": "label"}, {"roles": ["Curator", "Viewer"]}),
        ({"way": "entitlements", "shape": "strings"}, {"entitlements": ["curator", "viewer"]}),
        ({"way": "groups"}, {}),
        ({"way": "nothing"}, {}),
        ({"way": "attribute", "attribute": "userType"}, {"userType": "curator, viewer"}),
        ({"way": "attribute", "attribute": "userType", "which": "highest"}, {"userType": "curator"}),
        (
            {"way": "attribute", "attribute": f"{ENTERPRISE}:division"},
            {ENTERPRISE: {"division": "curator, viewer"}},
        ),
        (
            {"way": "attribute", "attribute": "urn:records:User:level", "which": "highest"},
            {"urn:records:User": {"level": "curator"}},
        ),
        (
            {"way": "attribute", "attribute": "entitlements"},
            {"entitlements": [{"value": "curator"}, {"value": "viewer"}]},
        ),
    ],
)
def test_roles_are_sent_in_the_encoding_of_the_application(
    how: dict[str, Any], expected: dict[str, Any]
) -> None:
    assert carried(ROLES, RoleEncoding(**how)) == expected


@pytest.mark.parametrize(
    ("attribute", "before"),
    [
        ("userType", {"userType": "curator"}),
        (f"{ENTERPRISE}:division", {ENTERPRISE: {"division": "curator", "department": "Herbarium"}}),
    ],
)
def test_a_role_that_is_lost_is_taken_out_of_its_attribute(attribute: str, before: dict[str, Any]) -> None:
    how = RoleEncoding("attribute", attribute)
    after = scim_body(
        {
            "user": {"userName": "ada", ENTERPRISE: {"department": "Herbarium"}},
            "active": False,
            "roles": [],
            "carry": how.document(),
        }
    )
    start = {"userName": "ada", "active": True, ENTERPRISE: {"department": "Herbarium"}, **before}
    patched = apply_patch(
        start, read_operations({"Operations": differences(start, after)}, USER), USER
    ).resource
    assert patched == without_empty(after)


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ([("title", "title then upper")], {"title": "GUIDE"}),
        ([("title", "")], {"title": None}),
        ([("title", "nickName")], {"title": None}),
        ([("name.familyName", '"Fern"')], {"name": {"givenName": "Ada", "familyName": "Fern"}}),
        (
            [('emails[type eq "work"].value', '"new@x.example"')],
            {"emails": [{"value": "new@x.example", "type": "work"}]},
        ),
        (
            [('emails[type eq "home"].value', '"h@x.example"')],
            {"emails": [*ADA["emails"], {"type": "home", "value": "h@x.example"}]},
        ),
        (
            [("emails", 'emails then replace "x" with "y"')],
            {"emails": [{"value": "ada@y.eyample", "primary": True}]},
        ),
        ([(f"{ENTERPRISE}:department", '"Herbarium"')], {ENTERPRISE: {"department": "Herbarium"}}),
        ([("urn:records:User:badge", "12")], {"urn:records:User": {"badge": 12}}),
        ([("nickName", "emails")], {"nickName": "ada@x.example"}),
        ([("title", "12")], {"title": "12"}),
    ],
)
def test_attributes_are_made_changed_and_left_out(
    rows: list[tuple[str, str]], expected: dict[str, Any]
) -> None:
    read = [(read_target(target), compile_expression(text) if text else None) for target, text in rows]
    made = mapped(ADA, ADA, read)
    assert {name: made.get(name) for name in expected} == expected
    assert {name: value for name, value in made.items() if name not in expected} == {
        k: v for k, v in ADA.items() if k not in expected
    }


@pytest.mark.parametrize(
    "text",
    ["id", "groups", "active", "roles", "password", "name", "shoeSize", "urn:x:", "emails[", "meta.created"],
)
def test_attributes_that_expressions_cannot_set_are_refused(text: str) -> None:
    with pytest.raises(InvalidInput) as told:
        read_target(text)
    assert told.value.hint


def test_an_account_without_a_user_name_says_so_and_leaving_still_works() -> None:
    rows = ((read_target("userName"), compile_expression("nickName")),)
    role = Role("viewer", "Viewer", 1, "r", "a")
    due = desired_account(
        "u1", MergedUser(ADA, {}, True, False), Entitlement([role]), Settings(attributes=rows), None
    )
    assert due is not None and "userName" in due["problem"]
    off = desired_account(
        "u1", MergedUser(ADA, {}, True, False), Entitlement(), Settings(attributes=rows), due
    )
    assert off is not None and off["active"] is False


def test_desired_groups_require_access() -> None:
    user = MergedUser(ADA, {}, True, False)
    role = Role("viewer", "Viewer", 1, "r", "a")
    due = desired_account("u1", user, Entitlement([role], ["group:2", "group:1"]), Settings(), None)
    assert due is not None and due["groups"] == ["group:1", "group:2"]
    off = desired_account("u1", user, Entitlement(groups=["group:1"]), Settings(), due)
    assert off is not None and "groups" not in off
