"""What providers in the field send that the standard does not quite say: each works, and leads to the same
as the proper way.
"""

from __future__ import annotations

import json
from typing import Any

import pytest

from dravo.services.sources import tokens as scim_tokens
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


class Provider:
    """A provider that talks to inbound SCIM in this process."""

    def __init__(self, services: ServiceFixture) -> None:
        self.services = services
        services.source("staff")
        token = scim_tokens.add_token(services.ctx, services.caller, "staff", "x").token
        self.headers = {"Authorization": f"Bearer {token}"}
        self.http = create_app(services.ctx, "http://127.0.0.1:1").test_client()

    def send(
        self, method: str, path: str, body: Any = None, kind: str = "application/scim+json", **query: str
    ) -> Any:
        content = None if body is None else json.dumps(body)
        headers = {**self.headers, "Content-Type": kind}
        return self.http.open(
            f"/scim/v2/staff{path}", method=method, data=content, headers=headers, query_string=query
        )

    def make(self, **attributes: Any) -> str:
        return str(self.send("POST", "/Users", {"userName": "ada", **attributes}).json["id"])

    def patched(self, identifier: str, *operations: dict[str, Any]) -> dict[str, Any]:
        answer = self.send("PATCH", f"/Users/{identifier}", {"Operations": list(operations)})
        assert answer.status_code == 200, answer.text
        return dict(answer.json)

    def members(self, group: str) -> set[str]:
        return {each["value"] for each in self.send("GET", f"/Groups/{group}").json.get("members", [])}


@pytest.fixture
def provider(services: ServiceFixture) -> Provider:
    return Provider(services)


@pytest.mark.parametrize("operation", ["replace", "Replace", "REPLACE"])
@pytest.mark.parametrize("value", [False, "False", "false"])
def test_operations_and_booleans_in_any_dress(provider: Provider, operation: str, value: Any) -> None:
    ada = provider.make()
    assert provider.patched(ada, {"op": operation, "path": "active", "value": value})["active"] is False
    assert provider.patched(ada, {"op": operation, "value": {"active": str(True)}})["active"] is True


def test_a_value_object_without_a_path_and_keys_of_every_kind(provider: Provider) -> None:
    ada = provider.make(name={"givenName": "Ada"})
    value = {
        "name.familyName": "Fern",
        f"{ENTERPRISE}:department": "Herbarium",
        f"{ENTERPRISE}:manager": "42",
        "displayName": "Ada Fern",
    }
    told = provider.patched(ada, {"op": "Add", "value": value})
    assert told["name"] == {"givenName": "Ada", "familyName": "Fern"}
    assert told[ENTERPRISE] == {"department": "Herbarium", "manager": {"value": "42"}}
    assert ENTERPRISE in told["schemas"]


def test_an_element_that_is_not_there_is_made(provider: Provider) -> None:
    ada = provider.make()
    told = provider.patched(
        ada,
        {"op": "Add", "path": 'emails[type eq "work"].value', "value": "ada@fernhollow.example"},
        {"op": "Add", "path": 'roles[primary eq "True"].value', "value": "keeper"},
        {"op": "Add", "path": 'addresses[type eq "work"].locality', "value": "Fernhollow"},
    )
    assert told["emails"] == [{"type": "work", "value": "ada@fernhollow.example"}]
    assert told["roles"] == [{"primary": True, "value": "keeper"}]
    assert told["addresses"] == [{"type": "work", "locality": "Fernhollow"}]


def test_members_are_taken_out_by_a_list_as_well_as_by_a_path(provider: Provider) -> None:
    users = [provider.make(userName=f"p{number}") for number in range(4)]
    listed = [{"value": each, "display": "x"} for each in users]
    group = provider.send("POST", "/Groups", {"displayName": "Guides"}).json["id"]
    provider.send(
        "PATCH", f"/Groups/{group}", {"Operations": [{"op": "Add", "path": "members", "value": listed[:2]}]}
    )
    provider.send(
        "PATCH", f"/Groups/{group}", {"Operations": [{"op": "Add", "value": {"members": listed[2:]}}]}
    )
    assert provider.members(group) == set(users)
    provider.send(
        "PATCH",
        f"/Groups/{group}",
        {"Operations": [{"op": "Remove", "path": "members", "value": [{"value": users[0]}]}]},
    )
    provider.send(
        "PATCH",
        f"/Groups/{group}",
        {"Operations": [{"op": "remove", "path": f'members[value eq "{users[1]}"]'}]},
    )
    assert provider.members(group) == set(users[2:])
    provider.send(
        "PATCH",
        f"/Groups/{group}",
        {"Operations": [{"op": "Replace", "path": "members", "value": listed[:1]}]},
    )
    assert provider.members(group) == {users[0]}
    provider.send(
        "PATCH",
        f"/Groups/{group}",
        {"Operations": [{"op": "Replace", "value": {"id": group, "displayName": "Leaders"}}]},
    )
    assert provider.send("GET", f"/Groups/{group}").json["displayName"] == "Leaders"
    assert provider.members(group) == {users[0]}


@pytest.mark.parametrize(
    "path", ["/Users/", "/Groups/", "/ServiceProviderConfig/", "/Schemas/", "/ResourceTypes/"]
)
def test_a_slash_at_the_end_and_plain_json_are_taken(provider: Provider, path: str) -> None:
    assert provider.send("GET", path).status_code == 200
    assert provider.send("POST", "/Users/", {"userName": path}, kind="application/json").status_code == 201
    assert (
        provider.send(
            "POST", "/Users", {"userName": f"{path}2"}, kind="application/json; charset=utf-8; odd=1"
        ).status_code
        == 201
    )
    assert (
        provider.send(
            "POST", "/Users", {"userName": f"{path}3"}, kind="Application/SCIM+JSON;charset=utf-8"
        ).status_code
        == 201
    )
    assert provider.send("POST", "/Users", {"userName": f"{path}4"}, kind="").status_code == 201
    refused = provider.send("POST", "/Users", {"userName": f"{path}5"}, kind="text/plain")
    assert refused.status_code == 415 and "application/scim+json" in refused.json["detail"]


def test_a_probing_read_gives_an_empty_list(provider: Provider) -> None:
    for text in ('userName eq "8f2c-random"', 'externalId eq "8f2c-random"', 'id eq "8f2c-random"'):
        answer = provider.send("GET", "/Users", filter=text)
        assert (answer.status_code, answer.json["totalResults"], answer.json["Resources"]) == (200, 0, [])
    assert provider.send("GET", "/Users/8f2c-random").status_code == 404


def test_a_user_who_is_there_but_inactive_is_found_and_not_made_twice(provider: Provider) -> None:
    ada = provider.make(active=False)
    again = provider.send("POST", "/Users", {"userName": "ADA", "active": True})
    assert (again.status_code, again.json["scimType"]) == (409, "uniqueness")
    found = provider.send("GET", "/Users", filter='userName eq "Ada"').json["Resources"]
    assert [each["id"] for each in found] == [ada]
    assert found[0]["active"] is False


def test_a_deletion_weeks_after_the_deactivation_finds_its_user(provider: Provider) -> None:
    ada = provider.make()
    provider.patched(ada, {"op": "Replace", "path": "active", "value": "False"})
    assert provider.send("DELETE", f"/Users/{ada}").status_code == 204
    assert provider.services.rows(t.user)[0].left_at is not None


def test_a_user_name_that_is_an_e_mail_and_changes_stays_the_same_user(provider: Provider) -> None:
    ada = provider.make(userName="ada.fern@fernhollow.example", externalId="fb-1")
    provider.patched(ada, {"op": "Replace", "path": "userName", "value": "ada.moss@fernhollow.example"})
    assert len(provider.services.rows(t.user)) == 1
    assert (
        provider.send("GET", "/Users", filter='externalId eq "fb-1"').json["Resources"][0]["userName"]
        == "ada.moss@fernhollow.example"
    )
    assert provider.send("POST", "/Users", {"userName": "ada.fern@fernhollow.example"}).status_code == 201


def test_members_are_left_out_where_they_are_not_wanted(provider: Provider) -> None:
    ada = provider.make()
    group = provider.send("POST", "/Groups", {"displayName": "Guides", "members": [{"value": ada}]}).json[
        "id"
    ]
    for left_out in (
        "members",
        "MEMBERS",
        "urn:ietf:params:scim:schemas:core:2.0:Group:members",
        "externalId, members",
    ):
        assert "members" not in provider.send("GET", f"/Groups/{group}", excludedAttributes=left_out).json, (
            left_out
        )
        assert (
            "members" not in provider.send("GET", "/Groups", excludedAttributes=left_out).json["Resources"][0]
        )
    assert "members" in provider.send("GET", f"/Groups/{group}", attributes="displayName,members").json
    asked = provider.send(
        "PATCH",
        f"/Groups/{group}",
        {"Operations": [{"op": "replace", "path": "displayName", "value": "New"}]},
        attributes="displayName",
    )
    assert (asked.status_code, asked.json["displayName"]) == (200, "New")


def test_pages_of_a_hundred_while_users_come(provider: Provider) -> None:
    for number in range(120):
        provider.make(userName=f"p{number}")
    first = provider.send("GET", "/Users", startIndex="1", count="100").json
    provider.make(userName="late")
    second = provider.send("GET", "/Users", startIndex="101", count="100").json
    seen = [each["id"] for each in first["Resources"] + second["Resources"]]
    assert (len(seen), len(set(seen))) == (121, 121)
    assert provider.send("GET", "/Users", startIndex="-5", count="-1").json["itemsPerPage"] == 0
    assert provider.send("GET", "/Users", count="100000").json["itemsPerPage"] == 121


def test_a_pushed_password_is_nowhere(provider: Provider) -> None:
    ada = provider.make(password="never-to-be-kept")
    provider.patched(
        ada,
        {"op": "replace", "path": "password", "value": "never-to-be-kept"},
        {"op": "replace", "value": {"password": "never-to-be-kept"}},
    )
    provider.send("PUT", f"/Users/{ada}", {"userName": "ada", "password": "never-to-be-kept"})
    provider.services.ctx.close()
    for file in provider.services.ctx.folder.iterdir():
        assert b"never-to-be-kept" not in file.read_bytes(), file.name


@pytest.mark.parametrize(
    "value",
    [7, [5], [True], True, 1.5, [["ada@fernhollow.example"]], [{"value": {"value": "x"}}], {"value": []}],
)
@pytest.mark.parametrize("name", ["emails", "phoneNumbers", "roles"])
def test_a_path_without_an_element_is_refused_and_changes_nothing(
    provider: Provider, name: str, value: Any
) -> None:
    ada = provider.make(title="Botanist", **{name: [{"value": "first", "type": "work"}]})
    before = provider.send("GET", f"/Users/{ada}").json
    for method, path, body in (
        ("POST", "/Users", {"userName": "other", name: value}),
        ("PUT", f"/Users/{ada}", {"userName": "ada", name: value}),
        ("PATCH", f"/Users/{ada}", {"Operations": [{"op": "replace", "path": name, "value": value}]}),
        (
            "PATCH",
            f"/Users/{ada}",
            {"Operations": [{"op": "add", "value": {"title": "Keeper", name: value}}]},
        ),
    ):
        refused = provider.send(method, path, body)
        assert (refused.status_code, refused.json["scimType"]) == (400, "invalidValue"), (
            method,
            refused.text,
        )
    assert provider.send("GET", f"/Users/{ada}").json == before
    assert len(provider.services.rows(t.record)) == 1


def test_null_is_no_value_also_within_elements(provider: Provider) -> None:
    ada = provider.make(
        emails=[
            {"value": "a@fernhollow.example", "type": "work", "primary": True},
            {"value": "b@fernhollow.example"},
        ]
    )
    told = provider.patched(ada, {"op": "replace", "path": "emails.type", "value": None})
    assert told["emails"] == [
        {"value": "a@fernhollow.example", "primary": True},
        {"value": "b@fernhollow.example"},
    ]
    told = provider.patched(
        ada,
        {"op": "replace", "path": "emails", "value": [None, {"value": "c@fernhollow.example", "type": None}]},
    )
    assert told["emails"] == [{"value": "c@fernhollow.example"}]
    assert "emails" not in provider.patched(ada, {"op": "replace", "path": "emails.value", "value": None})
    told = provider.patched(ada, {"op": "add", "path": "phoneNumbers.type", "value": None})
    assert "phoneNumbers" not in told and "null" not in json.dumps(provider.services.rows(t.record)[0].data)


def test_deep_nesting_is_refused_by_both_apis(provider: Provider) -> None:
    deep: Any = "x"
    for _ in range(300):
        deep = {"a": [deep]}
    refused = provider.send("POST", "/Users", {"userName": "ada", "name": deep})
    assert (refused.status_code, refused.json["scimType"]) == (
        400,
        "invalidSyntax",
    ) and "more than 32 deep" in refused.json["detail"]
    answer = provider.http.post(
        "/api/v1/session", data=json.dumps({"name": deep}), content_type="application/json"
    )
    assert answer.status_code == 400 and "more than 32 deep" in answer.text
