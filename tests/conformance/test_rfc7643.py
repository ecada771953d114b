"""RFC 7643: what resources are made of."""

from __future__ import annotations

from typing import Any

import pytest

from tests.harness import CORE, Provider, Running

USER, GROUP = CORE + "User", CORE + "Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
GARDEN = "urn:fernhollow:params:scim:schemas:garden:2.0:User"
GARDEN_SCHEMA: dict[str, Any] = {
    "id": GARDEN,
    "name": "Garden",
    "attributes": [
        {"name": "badge", "type": "string", "uniqueness": "server", "returned": "always"},
        {"name": "firstSeason", "type": "integer", "mutability": "immutable"},
        {"name": "gateCode", "type": "string", "mutability": "writeOnly", "returned": "never"},
        {"name": "allergies", "type": "string", "multiValued": True, "returned": "request"},
        {
            "name": "plot",
            "type": "complex",
            "subAttributes": [
                {"name": "bed", "type": "string", "caseExact": True},
                {"name": "size", "type": "decimal"},
            ],
        },
    ],
}


def made(provider: Provider, **attributes: Any) -> dict[str, Any]:
    answer = provider.http.post("/Users", json={"schemas": [USER], "userName": "ada", **attributes})
    assert answer.status_code == 201, answer.text
    return dict(answer.json())


def with_garden(running: Running, provider: Provider) -> None:
    with running.dravo as dravo:
        dravo.sources.add_schema(provider.base_url.rpartition("/")[2], "User", GARDEN_SCHEMA)


def test_2_1_attribute_names_are_case_insensitive(provider: Provider) -> None:
    answer = provider.http.post(
        "/Users", json={"SCHEMAS": [USER], "USERNAME": "ada", "NickName": "A", "name": {"GIVENNAME": "Ada"}}
    )
    assert answer.status_code == 201
    user = answer.json()
    assert (user["userName"], user["nickName"], user["name"]["givenName"]) == ("ada", "A", "Ada")
    assert len(provider.http.get("/Users", params={"filter": 'USERname EQ "ada"'}).json()["Resources"]) == 1


def test_2_2_values_are_of_their_attributes_type(provider: Provider) -> None:
    for wrong in (
        {"active": "perhaps"},
        {"emails": [{"value": {"a": 1}}]},
        {"name": "Ada"},
        {"title": ["a"]},
        {"x509Certificates": [{"value": "%"}]},
    ):
        answer = provider.http.post("/Users", json={"schemas": [USER], "userName": "ada", **wrong})
        assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidValue"), wrong


def test_2_3_3_case_exact_and_not(provider: Provider) -> None:
    made(provider, externalId="Key-1", title="Guide")

    def count(text: str) -> int:
        return int(provider.http.get("/Users", params={"filter": text}).json()["totalResults"])

    assert (count('externalId eq "key-1"'), count('externalId eq "Key-1"')) == (0, 1)
    assert (count('title eq "GUIDE"'), count('userName eq "ADA"')) == (1, 1)


def test_2_4_at_most_one_value_is_primary(provider: Provider) -> None:
    two = [
        {"value": "a@fernhollow.example", "primary": True},
        {"value": "b@fernhollow.example", "primary": True},
    ]
    answer = provider.http.post("/Users", json={"schemas": [USER], "userName": "ada", "emails": two})
    assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidValue")
    ada = made(provider, emails=[two[0]])
    patched = provider.patch(f"/Users/{ada['id']}", {"op": "add", "path": "emails", "value": [two[1]]}).json()
    assert [each.get("primary") for each in patched["emails"]] == [False, True]


def test_2_5_null_and_empty_are_no_value(provider: Provider) -> None:
    ada = made(provider, title=None, emails=[], nickName="A")
    assert "title" not in ada and "emails" not in ada
    put = provider.http.put(
        f"/Users/{ada['id']}", json={"schemas": [USER], "userName": "ada", "nickName": None}
    ).json()
    assert "nickName" not in put


def test_3_schemas_name_what_a_resource_has(provider: Provider) -> None:
    assert made(provider)["schemas"] == [USER]
    with_extension = provider.http.post(
        "/Users",
        json={"schemas": [USER, ENTERPRISE], "userName": "bob", ENTERPRISE: {"department": "Herbarium"}},
    )
    assert with_extension.json()["schemas"] == [USER, ENTERPRISE]


def test_3_1_common_attributes_are_given_by_the_service(provider: Provider) -> None:
    ada = made(
        provider,
        id="mine",
        externalId="theirs",
        meta={"created": "1999-01-01T00:00:00Z", "location": "http://elsewhere"},
    )
    assert ada["id"] != "mine"
    assert ada["externalId"] == "theirs"
    meta = ada["meta"]
    assert meta["resourceType"] == "User"
    assert meta["location"] == f"{provider.base_url}/Users/{ada['id']}"
    assert meta["created"] == meta["lastModified"] > "2020"
    assert meta["version"].startswith('W/"')


def test_3_1_an_id_is_never_used_again(provider: Provider) -> None:
    first = made(provider)["id"]
    provider.http.delete(f"/Users/{first}")
    assert made(provider)["id"] != first


def test_4_1_every_attribute_of_a_user_is_kept(provider: Provider) -> None:
    whole = {
        "externalId": "x",
        "name": {
            "formatted": "Dr Ada Fern",
            "familyName": "Fern",
            "givenName": "Ada",
            "middleName": "B",
            "honorificPrefix": "Dr",
            "honorificSuffix": "III",
        },
        "displayName": "Ada",
        "nickName": "A",
        "profileUrl": "https://people.fernhollow.example/ada",
        "title": "Keeper",
        "userType": "staff",
        "preferredLanguage": "en-GB",
        "locale": "en-GB",
        "timezone": "Europe/London",
        "active": True,
        "emails": [{"value": "ada@fernhollow.example", "type": "work", "primary": True, "display": "Ada"}],
        "phoneNumbers": [{"value": "tel:+44-20-7946-0000", "type": "work"}],
        "ims": [{"value": "ada", "type": "chat"}],
        "photos": [{"value": "https://people.fernhollow.example/ada.png", "type": "photo"}],
        "addresses": [
            {
                "streetAddress": "1 Fern Lane",
                "locality": "Hollow",
                "region": "W",
                "postalCode": "F1",
                "country": "GB",
                "type": "work",
            }
        ],
        "entitlements": [{"value": "library"}],
        "roles": [{"value": "keeper"}],
        "x509Certificates": [{"value": "QUJD"}],
    }
    ada = made(provider, **whole)
    assert {name: ada[name] for name in whole} == whole


def test_4_1_1_a_password_is_never_returned_and_never_kept(provider: Provider) -> None:
    ada = made(provider, password="t0p-secret")
    provider.patch(f"/Users/{ada['id']}", {"op": "replace", "path": "password", "value": "an0ther"})
    for answer in (
        ada,
        provider.http.get(f"/Users/{ada['id']}", params={"attributes": "password,userName"}).json(),
    ):
        assert "password" not in answer


def test_4_1_2_the_groups_of_a_user_are_true_and_read_only(provider: Provider) -> None:
    ada = made(provider, groups=[{"value": "made-up"}])
    assert "groups" not in ada
    group = provider.group("Herbarium", [ada["id"]])
    shown = provider.http.get(f"/Users/{ada['id']}").json()["groups"]
    assert shown == [
        {
            "value": group,
            "$ref": f"{provider.base_url}/Groups/{group}",
            "display": "Herbarium",
            "type": "direct",
        }
    ]
    answer = provider.patch(f"/Users/{ada['id']}", {"op": "remove", "path": "groups"})
    assert (answer.status_code, answer.json()["scimType"]) == (400, "mutability")


def test_4_2_groups_hold_users_and_groups(provider: Provider) -> None:
    ada, inner = made(provider)["id"], provider.group("Mosses")
    group = provider.group("Herbarium", [ada, inner])
    members = {each["value"]: each for each in provider.http.get(f"/Groups/{group}").json()["members"]}
    assert (members[ada]["type"], members[inner]["type"]) == ("User", "Group")
    assert members[ada]["$ref"] == f"{provider.base_url}/Users/{ada}"
    answer = provider.http.post("/Groups", json={"schemas": [GROUP]})
    assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidValue")


def test_4_3_the_enterprise_extension(provider: Provider) -> None:
    given = {
        "employeeNumber": "7",
        "costCenter": "c",
        "organization": "o",
        "division": "d",
        "department": "Herbarium",
        "manager": {"value": "42"},
    }
    ada = made(provider, schemas=[USER, ENTERPRISE], **{ENTERPRISE: given})
    assert ada[ENTERPRISE] == given
    found = provider.http.get("/Users", params={"filter": f'{ENTERPRISE}:department eq "herbarium"'}).json()
    assert found["totalResults"] == 1


def test_5_the_service_says_what_it_can_do(provider: Provider) -> None:
    config = provider.http.get("/ServiceProviderConfig").json()
    for name in ("patch", "bulk", "filter", "changePassword", "sort", "etag"):
        assert isinstance(config[name]["supported"], bool)
    assert (
        config["bulk"]["maxOperations"] > 0
        and config["bulk"]["maxPayloadSize"] > 0
        and config["filter"]["maxResults"] > 0
    )
    scheme = config["authenticationSchemes"][0]
    assert scheme["type"] == "oauthbearertoken" and scheme["name"] and scheme["description"]


def test_6_and_7_resource_types_and_schemas_describe_all_there_is(provider: Provider) -> None:
    schemas = {each["id"]: each for each in provider.http.get("/Schemas").json()["Resources"]}
    for kind in provider.http.get("/ResourceTypes").json()["Resources"]:
        assert kind["schema"] in schemas
        assert all(each["schema"] in schemas for each in kind["schemaExtensions"])
        assert provider.http.get(kind["endpoint"]).status_code == 200
    attributes = {each["name"]: each for each in schemas[USER]["attributes"]}
    assert (attributes["userName"]["required"], attributes["userName"]["uniqueness"]) == (True, "server")
    assert (attributes["password"]["mutability"], attributes["password"]["returned"]) == (
        "writeOnly",
        "never",
    )
    for name in (
        "name",
        "type",
        "multiValued",
        "description",
        "required",
        "caseExact",
        "mutability",
        "returned",
        "uniqueness",
    ):
        assert all(name in each for each in schemas[USER]["attributes"])


def test_7_an_added_schema_is_described_taken_and_kept(running: Running, provider: Provider) -> None:
    with_garden(running, provider)
    assert (
        provider.http.get(f"/Schemas/{GARDEN}").json()["attributes"][4]["subAttributes"][0]["caseExact"]
        is True
    )
    assert GARDEN in {
        each["schema"] for each in provider.http.get("/ResourceTypes/User").json()["schemaExtensions"]
    }
    ada = made(
        provider, **{GARDEN: {"badge": "B1", "firstSeason": 2019, "plot": {"bed": "North", "size": 2.5}}}
    )
    assert GARDEN in ada["schemas"] and ada[GARDEN]["plot"] == {"bed": "North", "size": 2.5}

    def count(text: str) -> int:
        return int(provider.http.get("/Users", params={"filter": text}).json()["totalResults"])

    assert (
        count(f'{GARDEN}:badge eq "b1"'),
        count(f'{GARDEN}:plot.bed eq "north"'),
        count(f"{GARDEN}:firstSeason gt 2018"),
    ) == (1, 0, 1)
    patched = provider.patch(
        f"/Users/{ada['id']}", {"op": "replace", "path": f"{GARDEN}:plot.bed", "value": "South"}
    ).json()
    assert patched[GARDEN]["plot"]["bed"] == "South"


def test_7_uniqueness_of_an_added_attribute(running: Running, provider: Provider) -> None:
    with_garden(running, provider)
    first = made(provider, **{GARDEN: {"badge": "B1"}})["id"]
    body = {"schemas": [USER, GARDEN], "userName": "bob", GARDEN: {"badge": "b1"}}
    again = provider.http.post("/Users", json=body)
    assert (again.status_code, again.json()["scimType"]) == (409, "uniqueness")
    assert "badge" in again.json()["detail"]
    provider.http.delete(f"/Users/{first}")
    assert provider.http.post("/Users", json=body).status_code == 201


def test_7_mutability_of_an_added_attribute(running: Running, provider: Provider) -> None:
    with_garden(running, provider)
    ada = made(provider, **{GARDEN: {"badge": "B1", "firstSeason": 2019}})
    path = f"/Users/{ada['id']}"
    for answer in (
        provider.http.put(
            path, json={"schemas": [USER], "userName": "ada", GARDEN: {"badge": "B1", "firstSeason": 2020}}
        ),
        provider.patch(path, {"op": "replace", "path": f"{GARDEN}:firstSeason", "value": 2020}),
        provider.patch(path, {"op": "remove", "path": f"{GARDEN}:firstSeason"}),
    ):
        assert (answer.status_code, answer.json()["scimType"]) == (400, "mutability")
    assert (
        provider.patch(path, {"op": "replace", "path": f"{GARDEN}:firstSeason", "value": 2019}).status_code
        == 200
    )


def test_7_returned_of_an_added_attribute(running: Running, provider: Provider) -> None:
    with_garden(running, provider)
    ada = made(provider, **{GARDEN: {"badge": "B1", "gateCode": "1234", "allergies": ["bees"]}})
    path = f"/Users/{ada['id']}"
    assert ada[GARDEN] == {"badge": "B1"}
    assert provider.http.get(path, params={"attributes": "userName"}).json()[GARDEN] == {"badge": "B1"}
    assert provider.http.get(path, params={"excludedAttributes": f"{GARDEN}:badge"}).json()[GARDEN] == {
        "badge": "B1"
    }
    assert provider.http.get(path, params={"attributes": f"{GARDEN}:allergies"}).json()[GARDEN] == {
        "badge": "B1",
        "allergies": ["bees"],
    }
    secret = provider.http.get("/Users", params={"filter": f'{GARDEN}:gateCode sw "1"'})
    assert (secret.status_code, secret.json()["scimType"]) == (403, "sensitive")


def test_7_another_source_does_not_have_the_schema(running: Running, provider: Provider) -> None:
    with_garden(running, provider)
    other = running.provider(provider.base_url.rpartition("/")[2] + "-other")
    assert GARDEN not in made(other, **{GARDEN: {"badge": "B1"}})
    assert other.http.get(f"/Schemas/{GARDEN}").status_code == 404


@pytest.mark.parametrize("path", ["/Users", "/Groups", "/Schemas", "/ResourceTypes"])
def test_8_lists_are_list_responses(provider: Provider, path: str) -> None:
    page = provider.http.get(path).json()
    assert page["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:ListResponse"]
    assert page["totalResults"] == len(page["Resources"]) == page["itemsPerPage"]
