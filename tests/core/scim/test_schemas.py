"""The schemas, against what RFC 7643 lists in sections 4.1, 4.2 and 4.3 and prints in section 8.7."""

from __future__ import annotations

import pytest

from dravo.core.scim.errors import ScimError, invalid_filter
from dravo.core.scim.messages import list_response, service_provider_config
from dravo.core.scim.paths import locate, parse_path
from dravo.core.scim.schemas import (
    ENTERPRISE_SCHEMA,
    ENTERPRISE_URN,
    GROUP,
    GROUP_SCHEMA,
    STANDARD,
    USER,
    USER_SCHEMA,
    USER_URN,
    Attribute,
)

USER_ATTRIBUTES = {
    "userName",
    "name",
    "displayName",
    "nickName",
    "profileUrl",
    "title",
    "userType",
    "preferredLanguage",
    "locale",
    "timezone",
    "active",
    "password",
    "emails",
    "phoneNumbers",
    "ims",
    "photos",
    "addresses",
    "groups",
    "entitlements",
    "roles",
    "x509Certificates",
}
NAME_PARTS = {"formatted", "familyName", "givenName", "middleName", "honorificPrefix", "honorificSuffix"}
ADDRESS_PARTS = {
    "formatted",
    "streetAddress",
    "locality",
    "region",
    "postalCode",
    "country",
    "type",
    "primary",
}
ENTERPRISE_ATTRIBUTES = {"employeeNumber", "costCenter", "organization", "division", "department", "manager"}
TYPES = {"string", "boolean", "decimal", "integer", "dateTime", "binary", "reference", "complex"}


def every_attribute() -> list[Attribute]:
    found = [attribute for schema in STANDARD.schemas for attribute in schema.attributes]
    return found + [sub for attribute in found for sub in attribute.sub]


def test_the_core_schemas_are_complete() -> None:
    assert {each.name for each in USER_SCHEMA.attributes} == USER_ATTRIBUTES
    assert {each.name for each in USER_SCHEMA.by_name["name"].sub} == NAME_PARTS
    assert {each.name for each in USER_SCHEMA.by_name["addresses"].sub} == ADDRESS_PARTS
    assert {each.name for each in ENTERPRISE_SCHEMA.attributes} == ENTERPRISE_ATTRIBUTES
    assert {each.name for each in GROUP_SCHEMA.attributes} == {"displayName", "members"}
    for plural in ("emails", "phoneNumbers", "ims", "photos", "entitlements", "roles", "x509Certificates"):
        assert {each.name for each in USER_SCHEMA.by_name[plural.lower()].sub} == {
            "value",
            "display",
            "type",
            "primary",
        }, plural


def test_characteristics_are_those_of_section_7() -> None:
    for attribute in every_attribute():
        assert attribute.type in TYPES, attribute.name
        assert attribute.mutability in {"readOnly", "readWrite", "immutable", "writeOnly"}, attribute.name
        assert attribute.returned in {"always", "never", "default", "request"}, attribute.name
        assert attribute.uniqueness in {"none", "server", "global"}, attribute.name
        assert (attribute.type == "complex") == bool(attribute.sub), attribute.name
        document = attribute.document()
        assert {
            "name",
            "type",
            "multiValued",
            "required",
            "caseExact",
            "mutability",
            "returned",
            "uniqueness",
        } <= set(document)


@pytest.mark.parametrize(
    ("path", "characteristic", "value"),
    [
        ("userName", "required", True),
        ("userName", "uniqueness", "server"),
        ("userName", "case_exact", False),
        ("password", "returned", "never"),
        ("password", "mutability", "writeOnly"),
        ("groups", "mutability", "readOnly"),
        ("externalId", "case_exact", True),
        ("id", "mutability", "readOnly"),
        ("id", "returned", "always"),
        ("meta.created", "type", "dateTime"),
        ("active", "type", "boolean"),
        ("emails", "multi_valued", True),
        ("emails.primary", "type", "boolean"),
        ("x509Certificates.value", "type", "binary"),
        ("photos.value", "type", "reference"),
        (f"{ENTERPRISE_URN}:manager.displayName", "mutability", "readOnly"),
        (f"{USER_URN}:userName", "required", True),
    ],
)
def test_an_attribute_is_as_the_standard_has_it(path: str, characteristic: str, value: object) -> None:
    assert getattr(locate(path, USER).leaf, characteristic) == value


@pytest.mark.parametrize(
    "path",
    ["", "userName.first", "unknown", "urn:none:User:x", "emails.none", f"{ENTERPRISE_URN}:none", "members"],
)
def test_a_path_that_no_schema_knows_is_refused(path: str) -> None:
    with pytest.raises(ScimError) as told:
        parse_path(path, USER) if path else locate(path, USER)
    assert told.value.scim_type in ("invalidPath", "invalidFilter")


def test_paths_say_what_they_are() -> None:
    assert str(locate("name.givenName", USER)) == "name.givenName"
    assert str(locate(f"{ENTERPRISE_URN.upper()}:DEPARTMENT", USER)) == f"{ENTERPRISE_URN}:department"
    assert str(locate(f"{USER_URN}:userName", USER)) == "userName"
    whole = parse_path(ENTERPRISE_URN, USER)
    assert (whole.at.urn, whole.at.attribute) == (ENTERPRISE_URN, None)
    with pytest.raises(ScimError):
        _ = whole.at.leaf
    element = parse_path('members[value eq "x"]', GROUP)
    assert element.element is not None


def test_documents_are_in_the_form_of_the_standard() -> None:
    for resource_type in STANDARD.types:
        document = resource_type.document()
        assert document["endpoint"] == f"/{resource_type.name}s"
        assert document["schema"] == resource_type.schema.id
    assert USER.document()["schemaExtensions"] == [{"schema": ENTERPRISE_URN, "required": False}]
    page = list_response([{"id": "1"}], 7, 3)
    assert (page["totalResults"], page["startIndex"], page["itemsPerPage"], len(page["Resources"])) == (
        7,
        3,
        1,
        1,
    )
    config = service_provider_config("http://x")
    assert config["authenticationSchemes"][0]["type"] == "oauthbearertoken"
    assert config["bulk"]["supported"] and config["pagination"]["cursor"]
    assert list_response([], 0, None, "x") == {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"],
        "totalResults": 0,
        "itemsPerPage": 0,
        "Resources": [],
        "nextCursor": "x",
    }


def test_an_error_is_a_message_with_its_status_as_text() -> None:
    body = invalid_filter("Wrong.").body()
    assert body == {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:Error"],
        "status": "400",
        "detail": "Wrong.",
        "scimType": "invalidFilter",
    }
    assert "scimType" not in ScimError(404, "Nobody.").body()
