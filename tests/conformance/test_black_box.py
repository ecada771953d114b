"""A second reading of RFC 7643 and 7644, by plain HTTP alone and without a look at how the service is
made.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import httpx
import pytest

from tests.harness import CORE, PATCH, Provider, Running

USER, GROUP = CORE + "User", CORE + "Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
ERROR, LIST = (
    "urn:ietf:params:scim:api:messages:2.0:Error",
    "urn:ietf:params:scim:api:messages:2.0:ListResponse",
)
DATE_TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)")
BARBARA: dict[str, Any] = {
    "schemas": [USER, ENTERPRISE],
    "userName": "bjensen",
    "externalId": "E1",
    "title": "Tour Guide",
    "userType": "Employee",
    "active": True,
    "name": {"givenName": "Barbara", "familyName": "Jensen"},
    ENTERPRISE: {"employeeNumber": "7"},
    "emails": [
        {"value": "b@fernhollow.example", "type": "work", "primary": True},
        {"value": "h@home.example", "type": "home"},
    ],
}
OWEN: dict[str, Any] = {
    "schemas": [USER],
    "userName": "omalley",
    "userType": "Intern",
    "title": "X",
    "emails": [{"value": "om@fernhollow.example", "type": "home"}],
    "name": {"familyName": "O'Malley", "formatted": 'He said "hi"\\'},
}


def refused(answer: httpx.Response, status: int, kind: str | None = None) -> dict[str, Any]:
    """Make sure that an answer is an error as 3.12 has it; returns it."""
    told: dict[str, Any] = answer.json()
    assert (answer.status_code, told["schemas"], told["status"], bool(told["detail"])) == (
        status,
        [ERROR],
        str(status),
        True,
    ), answer.text
    assert kind is None or told["scimType"] == kind, answer.text
    return told


@pytest.fixture
def barbara(provider: Provider) -> str:
    return str(provider.http.post("/Users", json=BARBARA).json()["id"])


def test_read_only_attributes_of_a_create_are_ignored(
    provider: Provider,
) -> None:
    answer = provider.http.post(
        "/Users",
        json={
            **BARBARA,
            "id": "mine",
            "meta": {"created": "2000-01-01T00:00:00Z"},
            "groups": [{"value": "g"}],
        },
    )
    made = answer.json()
    assert answer.status_code == 201 and answer.headers["content-type"].startswith("application/scim+json")
    assert answer.headers["location"] == made["meta"]["location"] and made["meta"]["location"].endswith(
        f"/Users/{made['id']}"
    )
    assert made["id"] != "mine" and not made["meta"]["created"].startswith("2000") and "groups" not in made
    assert answer.headers["etag"] == made["meta"]["version"] and made["meta"]["resourceType"] == "User"
    assert DATE_TIME.fullmatch(made["meta"]["created"]) and DATE_TIME.fullmatch(made["meta"]["lastModified"])
    refused(provider.http.post("/Users", json={**BARBARA, "userName": "BJENSEN"}), 409, "uniqueness")


FOUND: list[tuple[str, set[str]]] = [
    ('userName Eq "BJENSEN"', {"bjensen"}),
    ('USERNAME eq "bjensen"', {"bjensen"}),
    (f'{USER}:userName sw "BJ"', {"bjensen"}),
    ('userName ew "alley"', {"omalley"}),
    ('name.familyName co "O\'Malley"', {"omalley"}),
    ('name.formatted eq "He said \\"hi\\"\\\\"', {"omalley"}),
    ('userName gt "ol" and userName lt "on"', {"omalley"}),
    ('title pr and userType eq "Employee"', {"bjensen"}),
    ('title pr or userType eq "Intern"', {"bjensen", "omalley"}),
    ('title pr and not (userType eq "Employee")', {"omalley"}),
    ('emails[type eq "work" and value co "@fernhollow.example"]', {"bjensen"}),
    ('emails.type eq "home"', {"bjensen", "omalley"}),
    ('emails co "fernhollow.example"', {"bjensen", "omalley"}),
    ('userType eq "Employee" and (emails co "zzz" or emails.value co "home.example")', {"bjensen"}),
    ('userType eq "Intern" or userType eq "Employee" and title eq "none"', {"omalley"}),
    ('externalId eq "E1"', {"bjensen"}),
    ('externalId eq "e1"', set()),
    (f'schemas eq "{ENTERPRISE}"', {"bjensen"}),
    (f'{ENTERPRISE}:employeeNumber eq "7"', {"bjensen"}),
    ("active eq true", {"bjensen"}),
    ("externalId eq null", {"omalley"}),
    ('not (userName ne "bjensen")', {"bjensen"}),
    ('meta.lastModified gt "2011-05-13T04:42:34Z"', {"bjensen", "omalley"}),
    ('meta.created gt "2999-05-13T04:42:34Z"', set()),
    ('meta.resourceType eq "User"', {"bjensen", "omalley"}),
]


def test_every_filter_operator_and_form_finds_its_users(provider: Provider, barbara: str) -> None:
    provider.http.post("/Users", json=OWEN)
    for filter_, wanted in [*FOUND, (f'id eq "{barbara}"', {"bjensen"})]:
        answer = provider.http.get("/Users", params={"filter": filter_})
        assert answer.json()["schemas"] == [LIST]
        assert {each["userName"] for each in answer.json()["Resources"]} == wanted, filter_
    search = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:SearchRequest"],
        "filter": 'userName sw "b"',
        "attributes": ["userName"],
        "count": 10,
    }
    for path in ("/.search", "/Users/.search"):
        assert [each["userName"] for each in provider.http.post(path, json=search).json()["Resources"]] == [
            "bjensen"
        ]


@pytest.mark.parametrize(
    "filter_",
    [
        "active gt true",
        "userName eq",
        "userName eq bjensen",
        '(userName eq "a"',
        'userName foo "a"',
        'emails[type eq "work"',
        'userName eq "a" and',
        'meta.created gt "yesterday"',
        'active eq "maybe"',
    ],
)
def test_an_invalid_filter_is_reported(provider: Provider, filter_: str) -> None:
    refused(provider.http.get("/Users", params={"filter": filter_}), 400, "invalidFilter")


@pytest.mark.parametrize(
    ("query", "start", "shown"),
    [
        ({"count": 0}, 1, 0),
        ({"count": -3}, 1, 0),
        ({"startIndex": -5, "count": 1}, 1, 1),
        ({"startIndex": 999}, 999, 0),
    ],
)
def test_pages_out_of_bounds_are_interpreted_and_not_refused(
    provider: Provider, barbara: str, query: dict[str, int], start: int, shown: int
) -> None:
    answer = provider.http.get("/Users", params=query).json()
    assert (
        answer["totalResults"],
        answer["startIndex"],
        answer["itemsPerPage"],
        len(answer.get("Resources", [])),
    ) == (1, start, shown, shown)


def test_attributes_are_chosen_in_every_notation(provider: Provider, barbara: str) -> None:
    def read(**query: str) -> dict[str, Any]:
        return dict(provider.http.get(f"/Users/{barbara}", params=query).json())

    some = read(attributes="name.familyName,emails.value")
    assert (
        some["name"] == {"familyName": "Jensen"}
        and all(set(each) == {"value"} for each in some["emails"])
        and some["id"] == barbara
    )
    assert set(read(attributes="userName")) - {"schemas", "meta"} == {"id", "userName"}
    assert read(attributes=f"{ENTERPRISE}:employeeNumber")[ENTERPRISE] == {"employeeNumber": "7"}
    rest = read(excludedAttributes="emails,id,name.givenName")
    assert "emails" not in rest and rest["id"] == barbara and rest["name"] == {"familyName": "Jensen"}
    written = provider.http.patch(
        f"/Users/{barbara}",
        params={"attributes": "title"},
        json={"schemas": [PATCH], "Operations": [{"op": "replace", "path": "title", "value": "T9"}]},
    )
    assert written.status_code == 200 and written.json()["title"] == "T9" and "userName" not in written.json()


def test_versions_guard_every_kind_of_change(provider: Provider, barbara: str) -> None:
    path, stale = f"/Users/{barbara}", {"If-Match": 'W/"nope"'}
    tag = provider.http.get(path).headers["etag"]
    assert [provider.http.get(path, headers={"If-None-Match": each}).status_code for each in (tag, "*")] == [
        304,
        304,
    ]
    change = {"schemas": [PATCH], "Operations": [{"op": "replace", "path": "title", "value": "x"}]}
    refused(provider.http.put(path, json=BARBARA, headers=stale), 412)
    refused(provider.http.patch(path, json=change, headers=stale), 412)
    refused(provider.http.delete(path, headers=stale), 412)
    assert provider.http.patch(path, json=change, headers={"If-Match": tag}).status_code == 200


@pytest.mark.parametrize(
    ("operation", "kind"),
    [
        ({"op": "remove"}, "noTarget"),
        ({"op": "replace", "path": 'emails[type eq "nope"]', "value": {"value": "x"}}, "noTarget"),
        ({"op": "remove", "path": "userName"}, None),
        ({"op": "replace", "path": "id", "value": "x"}, "mutability"),
        ({"op": "replace", "path": "meta.created", "value": "x"}, "mutability"),
        ({"op": "replace", "path": "groups", "value": []}, "mutability"),
        ({"op": "replace", "path": "no such[", "value": "x"}, "invalidPath"),
        ({"op": "frob", "path": "title", "value": "x"}, None),
    ],
)
def test_a_patch_that_cannot_be_is_refused_and_leaves_no_trace(
    provider: Provider, barbara: str, operation: dict[str, Any], kind: str | None
) -> None:
    before = provider.http.get(f"/Users/{barbara}").json()
    operations = [{"op": "replace", "path": "title", "value": "changed"}, operation]
    refused(
        provider.http.patch(f"/Users/{barbara}", json={"schemas": [PATCH], "Operations": operations}),
        400,
        kind,
    )
    assert provider.http.get(f"/Users/{barbara}").json() == before


def test_one_address_is_primary_whichever_way_it_came(provider: Provider, barbara: str) -> None:
    added = {"op": "add", "path": "emails", "value": [{"value": "q@x.example", "primary": True}]}
    assert provider.patch(f"/Users/{barbara}", added).status_code == 200
    version = provider.http.get(f"/Users/{barbara}").json()
    assert [each["value"] for each in version["emails"] if each.get("primary")] == ["q@x.example"]
    assert provider.patch(f"/Users/{barbara}", added).status_code in (200, 204)
    assert provider.http.get(f"/Users/{barbara}").json()["meta"] == version["meta"], (
        "adding what is there is no change"
    )


@pytest.mark.parametrize("path", ["/Schemas", "/ResourceTypes", "/ServiceProviderConfig"])
def test_discovery_takes_neither_filters_nor_changes(provider: Provider, path: str) -> None:
    assert provider.http.get(path, params={"filter": 'id eq "x"'}).status_code == 403
    for method in ("POST", "DELETE"):
        answer = provider.http.request(method, path, json={})
        refused(answer, answer.status_code)
        assert answer.status_code in (404, 405, 501)


def test_every_schema_is_served_by_itself_and_says_all_of_its_characteristics(provider: Provider) -> None:
    for schema in provider.http.get("/Schemas").json()["Resources"]:
        assert provider.http.get(f"/Schemas/{schema['id']}").json()["id"] == schema["id"]
        for attribute in schema["attributes"]:
            assert {"name", "type", "multiValued", "mutability", "returned"} <= attribute.keys(), (
                schema["id"],
                attribute["name"],
            )
    refused(provider.http.get("/Schemas/urn:nope"), 404)
    kind = provider.http.get("/ResourceTypes/User").json()
    assert kind["schema"] == USER and {"schema": ENTERPRISE, "required": False} in kind["schemaExtensions"]


def test_without_a_good_token_nothing_is_said_but_how_to_sign_in(
    running: Running, provider: Provider
) -> None:
    for headers in ({}, {"Authorization": "Basic abc"}, {"Authorization": "Bearer nope"}):
        answer = httpx.get(provider.base_url + "/Users", headers=headers, trust_env=False)
        refused(answer, 401)
        assert answer.headers["www-authenticate"].startswith("Bearer")
    assert {
        provider.http.request(method, "/Me").status_code
        for method in ("GET", "POST", "PUT", "PATCH", "DELETE")
    } == {501}


def test_bulk_does_all_it_can_and_tells_each_by_itself(provider: Provider, barbara: str) -> None:
    def bulk(*operations: dict[str, Any], **more: Any) -> httpx.Response:
        body = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],
            "Operations": list(operations),
            **more,
        }
        return provider.http.post("/Bulk", json=body)

    team = {"schemas": [GROUP], "displayName": "Bulked", "members": [{"value": "bulkId:u"}]}
    made = bulk(
        {"method": "POST", "path": "/Groups", "bulkId": "g", "data": team},
        {
            "method": "POST",
            "path": "/Users",
            "bulkId": "u",
            "data": {"schemas": [USER], "userName": "bulked"},
        },
        {"method": "DELETE", "path": "/Users/nope"},
        {"method": "POST", "path": "/Nope", "bulkId": "q", "data": {}},
    ).json()["Operations"]
    assert [each["status"] for each in made[:3]] == ["201", "201", "404"] and made[3]["status"] in (
        "400",
        "404",
    )
    assert all(each["location"] and each["bulkId"] for each in made[:2]) and made[2]["response"][
        "schemas"
    ] == [ERROR]
    double = {
        "method": "POST",
        "path": "/Users",
        "bulkId": "1",
        "data": {"schemas": [USER], "userName": "bulked"},
    }
    stopped = bulk(
        double, {**double, "bulkId": "2", "data": {"schemas": [USER], "userName": "other"}}, failOnErrors=1
    ).json()["Operations"]
    assert [(each["status"], each["response"]["scimType"]) for each in stopped] == [("409", "uniqueness")]
    lost = bulk(
        {
            "method": "POST",
            "path": "/Groups",
            "bulkId": "g2",
            "data": {"schemas": [GROUP], "displayName": "Lost", "members": [{"value": "bulkId:none"}]},
        }
    )
    assert lost.json()["Operations"][0]["status"] in ("400", "409")
    most = provider.http.get("/ServiceProviderConfig").json()["bulk"]["maxOperations"]
    refused(bulk(*({"method": "DELETE", "path": f"/Users/x{number}"} for number in range(most + 1))), 413)


@pytest.mark.parametrize(
    "send",
    [
        lambda http: http.post("/Users", content="{bad", headers={"content-type": "application/scim+json"}),
        lambda http: http.post("/Users", content="[]", headers={"content-type": "application/scim+json"}),
        lambda http: http.post("/Users", json={"schemas": [USER]}),
        lambda http: http.post("/Groups", json={"schemas": [GROUP]}),
        lambda http: http.post("/Users", json={"schemas": [USER], "userName": "a", "active": "maybe"}),
        lambda http: http.post("/Bulk", json={}),
        lambda http: http.get("/Users", params={"cursor": "garbage"}),
        lambda http: http.get("/Users", params={"count": "abc"}),
    ],
)
def test_bad_input_is_explained(provider: Provider, send: Callable[[httpx.Client], httpx.Response]) -> None:
    refused(send(provider.http), 400)


def test_a_deleted_user_is_listed_nowhere_and_frees_the_name(provider: Provider, barbara: str) -> None:
    group = provider.group("Team", [barbara])
    assert provider.http.get(f"/Users/{barbara}").json()["groups"][0]["value"] == group
    answer = provider.http.delete(f"/Users/{barbara}")
    assert (answer.status_code, answer.content) == (204, b"")
    refused(provider.http.get(f"/Users/{barbara}"), 404)
    refused(provider.http.delete(f"/Users/{barbara}"), 404)
    assert not provider.http.get(f"/Groups/{group}").json().get("members")
    assert provider.http.get("/Users", params={"filter": 'userName eq "bjensen"'}).json()["totalResults"] == 0
    assert provider.http.post("/Users", json=BARBARA).status_code == 201
