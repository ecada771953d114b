"""RFC 7644, sections 3.3, 3.5 to 3.7 and 3.14: creating, changing, deleting, many at once."""

from __future__ import annotations

from typing import Any

import pytest

from tests.harness import CORE, PATCH, Provider

USER, GROUP = CORE + "User", CORE + "Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
BULK = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"


def bulk(provider: Provider, *operations: dict[str, Any], **more: Any) -> list[dict[str, Any]]:
    answer = provider.http.post("/Bulk", json={"schemas": [BULK], "Operations": list(operations), **more})
    assert answer.status_code == 200, answer.text
    assert answer.json()["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:BulkResponse"]
    return list(answer.json()["Operations"])


def post(bulk_id: str, kind: str = "Users", **data: Any) -> dict[str, Any]:
    return {
        "method": "POST",
        "path": f"/{kind}",
        "bulkId": bulk_id,
        "data": {"schemas": [USER if kind == "Users" else GROUP], **data},
    }


def test_3_3_creating_answers_with_the_resource_and_its_place(provider: Provider) -> None:
    answer = provider.http.post("/Users", json={"schemas": [USER], "userName": "ada"})
    assert answer.status_code == 201
    assert answer.headers["Location"] == answer.json()["meta"]["location"]
    assert answer.headers["ETag"] == answer.json()["meta"]["version"]
    twice = provider.http.post("/Users", json={"schemas": [USER], "userName": "ADA"})
    assert (twice.status_code, twice.json()["scimType"]) == (409, "uniqueness")


def test_3_5_1_replacing_sets_all_of_it_and_ignores_what_is_read_only(provider: Provider) -> None:
    ada = provider.user("ada", title="Keeper", nickName="A")
    put = provider.http.put(
        f"/Users/{ada}",
        json={
            "schemas": [USER],
            "id": "other",
            "userName": "ada",
            "title": "Guide",
            "groups": [{"value": "x"}],
        },
    )
    assert put.status_code == 200
    assert (put.json()["id"], put.json()["title"], "nickName" in put.json(), "groups" in put.json()) == (
        ada,
        "Guide",
        False,
        False,
    )
    assert provider.http.put("/Users/nobody", json={"schemas": [USER], "userName": "x"}).status_code == 404
    missing = provider.http.put(f"/Users/{ada}", json={"schemas": [USER], "title": "x"})
    assert (missing.status_code, missing.json()["scimType"]) == (400, "invalidValue")


MAILS = [{"value": "w@fernhollow.example", "type": "work"}, {"value": "h@fernhollow.example", "type": "home"}]


@pytest.mark.parametrize(
    ("operation", "expected"),
    [
        # 3.5.2.1 add
        ({"op": "add", "path": "title", "value": "Guide"}, {"title": "Guide"}),
        ({"op": "add", "value": {"title": "Guide", "nickName": "D"}}, {"title": "Guide", "nickName": "D"}),
        ({"op": "add", "path": "emails", "value": [MAILS[0]]}, {"emails": MAILS}),
        (
            {"op": "add", "path": "emails", "value": [{"value": "n@x.example"}]},
            {"emails": [*MAILS, {"value": "n@x.example"}]},
        ),
        (
            {"op": "add", "path": "name.givenName", "value": "Ada"},
            {"name": {"familyName": "Fern", "givenName": "Ada"}},
        ),
        (
            {"op": "add", "path": 'emails[type eq "other"].value', "value": "o@x.example"},
            {"emails": [*MAILS, {"type": "other", "value": "o@x.example"}]},
        ),
        (
            {"op": "add", "path": f"{ENTERPRISE}:department", "value": "Seed Bank"},
            {ENTERPRISE: {"department": "Seed Bank"}},
        ),
        # 3.5.2.2 remove
        ({"op": "remove", "path": "title"}, {"title": None}),
        ({"op": "remove", "path": 'emails[type eq "work"]'}, {"emails": [MAILS[1]]}),
        (
            {"op": "remove", "path": 'emails[type eq "work"].type'},
            {"emails": [{"value": "w@fernhollow.example"}, MAILS[1]]},
        ),
        ({"op": "remove", "path": "emails"}, {"emails": None}),
        ({"op": "remove", "path": "name.familyName"}, {"name": None}),
        ({"op": "remove", "path": "nickName"}, {"title": "Keeper"}),
        # 3.5.2.3 replace
        ({"op": "replace", "path": "title", "value": "Guide"}, {"title": "Guide"}),
        ({"op": "replace", "path": "nickName", "value": "D"}, {"nickName": "D"}),
        (
            {"op": "replace", "path": "emails", "value": [{"value": "n@x.example"}]},
            {"emails": [{"value": "n@x.example"}]},
        ),
        (
            {"op": "replace", "path": 'emails[type eq "work"].value', "value": "n@x.example"},
            {"emails": [{"value": "n@x.example", "type": "work"}, MAILS[1]]},
        ),
        (
            {
                "op": "replace",
                "path": 'emails[type eq "work"]',
                "value": {"value": "n@x.example", "type": "other"},
            },
            {"emails": [{"value": "n@x.example", "type": "other"}, MAILS[1]]},
        ),
        (
            {"op": "replace", "value": {"name": {"givenName": "Ada"}}},
            {"name": {"familyName": "Fern", "givenName": "Ada"}},
        ),
    ],
)
def test_3_5_2_patching(provider: Provider, operation: dict[str, Any], expected: dict[str, Any]) -> None:
    ada = provider.user("ada", title="Keeper", name={"familyName": "Fern"}, emails=MAILS)
    answer = provider.patch(f"/Users/{ada}", operation)
    assert answer.status_code == 200, answer.text
    assert {name: answer.json().get(name) for name in expected} == expected
    assert answer.json() == provider.http.get(f"/Users/{ada}").json()


@pytest.mark.parametrize(
    ("operation", "scim_type"),
    [
        ({"op": "remove"}, "noTarget"),
        ({"op": "replace", "path": 'emails[type eq "fax"].value', "value": "x"}, "noTarget"),
        ({"op": "replace", "path": "id", "value": "x"}, "mutability"),
        ({"op": "remove", "path": "userName"}, "mutability"),
        ({"op": "add", "path": "meta.created", "value": "x"}, "mutability"),
        ({"op": "add", "path": "shoeSize", "value": 1}, "invalidPath"),
        ({"op": "add", "path": "emails[type", "value": 1}, "invalidPath"),
        ({"op": "add", "path": 'emails[kind eq "a"]', "value": {}}, "invalidFilter"),
        ({"op": "replace", "path": "active", "value": 5}, "invalidValue"),
        ({"op": "leap", "path": "title", "value": 5}, "invalidSyntax"),
    ],
)
def test_3_5_2_a_wrong_patch_changes_nothing(
    provider: Provider, operation: dict[str, Any], scim_type: str
) -> None:
    ada = provider.user("ada", emails=MAILS)
    before = provider.http.get(f"/Users/{ada}").json()
    answer = provider.patch(f"/Users/{ada}", {"op": "add", "path": "title", "value": "Changed"}, operation)
    assert (answer.status_code, answer.json()["scimType"]) == (400, scim_type)
    assert provider.http.get(f"/Users/{ada}").json() == before


def test_3_5_2_a_patch_that_changes_nothing_keeps_the_version(provider: Provider) -> None:
    ada = provider.user("ada", title="Keeper")
    before = provider.http.get(f"/Users/{ada}").json()
    same = provider.patch(f"/Users/{ada}", {"op": "add", "path": "title", "value": "Keeper"}).json()
    assert same["meta"] == before["meta"]


def test_3_5_2_members_are_patched(provider: Provider) -> None:
    ada, bob, cai = (provider.user(name) for name in ("ada", "bob", "cai"))
    group = provider.group("Herbarium", [ada])

    def members() -> set[str]:
        return {each["value"] for each in provider.http.get(f"/Groups/{group}").json().get("members", [])}

    def patched(*operations: dict[str, Any]) -> int:
        return provider.patch(f"/Groups/{group}", *operations).status_code

    assert patched({"op": "add", "path": "members", "value": [{"value": bob}, {"value": ada}]}) == 204
    assert members() == {ada, bob}
    assert (
        patched(
            {"op": "remove", "path": f'members[value eq "{ada}"]'},
            {"op": "add", "path": "members", "value": [{"value": cai}]},
        )
        == 204
    )
    assert members() == {bob, cai}
    assert patched({"op": "replace", "path": "members", "value": [{"value": ada}]}) == 204
    assert members() == {ada}
    assert patched({"op": "remove", "path": "members"}) == 204
    assert members() == set()
    unknown = provider.patch(
        f"/Groups/{group}", {"op": "add", "path": "members", "value": [{"value": "nobody"}]}
    )
    assert (unknown.status_code, unknown.json()["scimType"]) == (400, "invalidValue")


def test_3_6_deleting(provider: Provider) -> None:
    ada = provider.user("ada")
    group = provider.group("Herbarium", [ada])
    version = provider.http.get(f"/Groups/{group}").headers["ETag"]
    answer = provider.http.delete(f"/Users/{ada}")
    assert (answer.status_code, answer.content) == (204, b"")
    assert provider.http.get(f"/Users/{ada}").status_code == 404
    assert provider.http.delete(f"/Users/{ada}").status_code == 404
    assert provider.http.get("/Users").json()["totalResults"] == 0
    left = provider.http.get(f"/Groups/{group}")
    assert "members" not in left.json() and left.headers["ETag"] != version
    assert provider.http.post("/Users", json={"schemas": [USER], "userName": "ada"}).status_code == 201


def test_3_7_bulk_with_references_in_any_order(provider: Provider) -> None:
    done = bulk(
        provider,
        post(
            "g", "Groups", displayName="Herbarium", members=[{"value": "bulkId:ada"}, {"value": "bulkId:bob"}]
        ),
        post("bob", userName="bob", **{ENTERPRISE: {"manager": {"value": "bulkId:ada"}}}),
        post("ada", userName="ada"),
    )
    assert [(each["bulkId"], each["status"], each["method"]) for each in done] == [
        ("g", "201", "POST"),
        ("bob", "201", "POST"),
        ("ada", "201", "POST"),
    ]
    place = {each["bulkId"]: each["location"].removeprefix(provider.base_url) for each in done}
    ada = place["ada"].rpartition("/")[2]
    assert len(provider.http.get(place["g"]).json()["members"]) == 2
    assert provider.http.get(place["bob"]).json()[ENTERPRISE]["manager"]["value"] == ada
    assert all(each["version"].startswith('W/"') for each in done)


def test_3_7_1_circular_references_are_resolved(provider: Provider) -> None:
    done = bulk(
        provider,
        post("a", "Groups", displayName="A", members=[{"value": "bulkId:b"}]),
        post("b", "Groups", displayName="B", members=[{"value": "bulkId:a"}]),
        post("x", userName="x", **{ENTERPRISE: {"manager": {"value": "bulkId:y"}}}),
        post("y", userName="y", **{ENTERPRISE: {"manager": {"value": "bulkId:x"}}}),
    )
    assert [each["status"] for each in done] == ["201"] * 4
    ids = {each["bulkId"]: each["location"].rpartition("/")[2] for each in done}
    for one, other in (("a", "b"), ("b", "a")):
        assert [each["value"] for each in provider.http.get(f"/Groups/{ids[one]}").json()["members"]] == [
            ids[other]
        ]
    for one, other in (("x", "y"), ("y", "x")):
        assert provider.http.get(f"/Users/{ids[one]}").json()[ENTERPRISE]["manager"]["value"] == ids[other]


def test_3_7_every_method_and_references_in_paths(provider: Provider) -> None:
    old, group = provider.user("old"), provider.group("Herbarium")
    add = {
        "schemas": [PATCH],
        "Operations": [{"op": "add", "path": "members", "value": [{"value": "bulkId:ada"}]}],
    }
    done = bulk(
        provider,
        {"method": "patch", "path": f"/Groups/{group}", "data": add},
        post("ada", userName="ada"),
        {
            "method": "PUT",
            "path": "/Users/bulkId:ada",
            "data": {"schemas": [USER], "userName": "ada", "title": "Keeper"},
        },
        {"method": "DELETE", "path": f"/Users/{old}"},
    )
    assert [each["status"] for each in done] == ["204", "201", "200", "204"]
    assert len(provider.http.get(f"/Groups/{group}").json()["members"]) == 1
    assert provider.http.get("/Users").json()["Resources"][0]["title"] == "Keeper"


def test_3_7_3_errors_are_reported_per_operation(provider: Provider) -> None:
    wrong = [
        post("1", userName="ada"),
        post("2", userName="ada"),
        post("3"),
        post("4", "Groups", displayName="X", members=[{"value": "bulkId:3"}]),
        {"method": "POST", "path": "/Cars", "bulkId": "5", "data": {}},
        {"method": "DELETE", "path": "/Users/nobody"},
        {"method": "POST", "path": "/Users"},
    ]
    done = bulk(provider, *wrong)
    assert [each["status"] for each in done] == ["201", "409", "400", "400", "400", "404", "400"]
    assert done[1]["response"]["scimType"] == "uniqueness"
    assert all("schemas" in each["response"] for each in done[1:])
    assert "bulkId:3" in done[3]["response"]["detail"]


def test_3_7_3_it_stops_after_so_many_errors(provider: Provider) -> None:
    done = bulk(provider, post("1"), post("2"), post("3", userName="ada"), failOnErrors=2)
    assert [each["bulkId"] for each in done] == ["1", "2"]
    assert provider.http.get("/Users").json()["totalResults"] == 0


def test_3_7_4_limits_are_reported(provider: Provider) -> None:
    many = provider.http.post(
        "/Bulk", json={"schemas": [BULK], "Operations": [post(str(number)) for number in range(1_001)]}
    )
    assert many.status_code == 413
    large = provider.http.post("/Bulk", content=b'{"Operations": ["' + b"x" * (4 * 1024 * 1024) + b'"]}')
    assert (large.status_code, large.json()["status"]) == (413, "413")


def test_3_14_a_change_may_name_the_version_it_is_for(provider: Provider) -> None:
    ada = provider.http.post("/Users", json={"schemas": [USER], "userName": "ada"})
    path, tag = f"/Users/{ada.json()['id']}", ada.headers["ETag"]
    body = {"schemas": [USER], "userName": "ada", "title": "Keeper"}
    assert provider.http.put(path, json=body, headers={"If-Match": 'W/"77"'}).status_code == 412
    changed = provider.http.put(path, json=body, headers={"If-Match": f'W/"77", {tag}'})
    assert changed.status_code == 200 and changed.headers["ETag"] != tag
    patch = {"schemas": [PATCH], "Operations": [{"op": "remove", "path": "title"}]}
    late = provider.http.patch(path, json=patch, headers={"If-Match": tag})
    assert (late.status_code, late.json()["status"]) == (412, "412")
    assert provider.http.delete(path, headers={"If-Match": tag}).status_code == 412
    group = provider.http.post("/Groups", json={"schemas": [GROUP], "displayName": "G"})
    assert provider.http.delete(f"/Groups/{group.json()['id']}", headers={"If-Match": "*"}).status_code == 204
    version = bulk(provider, {"method": "DELETE", "path": path, "version": tag})
    assert version[0]["status"] == "412"
