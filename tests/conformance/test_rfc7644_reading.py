"""RFC 7644, sections 3.1 to 3.4 and 3.8 to 3.14, and RFC 9865: reading."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from tests.harness import CORE, Provider

USER, GROUP = CORE + "User", CORE + "Group"
SEARCH = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"


@pytest.fixture
def staff(provider: Provider) -> Provider:
    """Six users and two groups."""
    users = [
        provider.user(
            name,
            title=title,
            name={"familyName": family},
            emails=[{"value": f"{name}@fernhollow.example", "type": "work"}],
        )
        for name, title, family in (
            ("dora", "Guide", "Sedge"),
            ("ada", "Keeper", "Moss"),
            ("Bob", "Guide", "Alder"),
            ("cai", "", "Reed"),
            ("eve", "guide", "Briar"),
            ("fay", "Keeper", "Yew"),
        )
    ]
    provider.group("Herbarium", users[:2])
    provider.group("Archive")
    return provider


def names(provider: Provider, **query: Any) -> list[str]:
    answer = provider.http.get("/Users", params=query)
    assert answer.status_code == 200, answer.text
    return [each["userName"] for each in answer.json()["Resources"]]


def test_2_authentication_is_asked_for(provider: Provider) -> None:
    for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": "Basic eDp5"}):
        answer = httpx.get(f"{provider.base_url}/Users", headers=headers, trust_env=False)
        assert answer.status_code == 401
        assert answer.headers["WWW-Authenticate"].startswith("Bearer")
        assert answer.json()["status"] == "401"


def test_3_1_answers_are_scim_json(provider: Provider) -> None:
    for path in ("/Users", "/ServiceProviderConfig", "/Users/nobody"):
        assert provider.http.get(path).headers["Content-Type"] == "application/scim+json"


def test_3_4_1_a_known_resource_is_read(staff: Provider) -> None:
    page = staff.http.get("/Users", params={"filter": 'userName eq "ada"'}).json()
    ada = staff.http.get(f"/Users/{page['Resources'][0]['id']}")
    assert (ada.status_code, ada.json()["userName"]) == (200, "ada")
    assert ada.headers["ETag"] == ada.json()["meta"]["version"]
    assert staff.http.get("/Users/nobody").status_code == 404


def test_3_4_2_a_query_that_finds_nothing_is_no_error(staff: Provider) -> None:
    answer = staff.http.get("/Users", params={"filter": 'userName eq "nobody"'})
    assert (answer.status_code, answer.json()["totalResults"]) == (200, 0)


def test_3_4_2_1_a_query_from_the_root_finds_both_kinds(staff: Provider) -> None:
    page = staff.http.get("", params={"filter": 'userName eq "ada" or displayName eq "archive"'}).json()
    assert {each["meta"]["resourceType"] for each in page["Resources"]} == {"User", "Group"}
    assert staff.http.get("/").json()["totalResults"] == 8
    only = staff.http.get("", params={"filter": 'meta.resourceType eq "Group"'}).json()
    assert [each["displayName"] for each in only["Resources"]] == ["Herbarium", "Archive"]
    unknown = staff.http.get("", params={"filter": 'shoeSize eq "9"'})
    assert (unknown.status_code, unknown.json()["scimType"]) == (400, "invalidFilter")


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ('userName eq "ADA"', {"ada"}),
        ('userName ne "ada"', {"dora", "Bob", "cai", "eve", "fay"}),
        ('userName co "A"', {"dora", "ada", "cai", "fay"}),
        ('userName sw "b"', {"Bob"}),
        ('userName ew "A"', {"dora", "ada"}),
        ("title pr", {"dora", "ada", "Bob", "eve", "fay"}),
        ('userName gt "e"', {"eve", "fay"}),
        ('userName ge "eve"', {"eve", "fay"}),
        ('userName lt "bob"', {"ada"}),
        ('userName le "bob"', {"ada", "Bob"}),
        ('title eq "Guide" and not (userName eq "eve")', {"dora", "Bob"}),
        ('title eq "keeper" or userName eq "cai" and title pr', {"ada", "fay"}),
        ('(title eq "keeper" or userName eq "cai") and userName lt "f"', {"ada", "cai"}),
        ('emails[type eq "work" and value co "eve"]', {"eve"}),
        ('emails co "bob@"', {"Bob"}),
        (f'{USER}:userName eq "ada"', {"ada"}),
        ('emails.type eq "home"', set()),
        ('name.familyName sw "s"', {"dora"}),
        ('meta.created gt "2020-01-01T00:00:00Z" and userName eq "cai"', {"cai"}),
        ("active eq true", {"dora", "ada", "Bob", "cai", "eve", "fay"}),
        ('groups.display eq "Herbarium"', {"dora", "ada"}),
        ("groups pr", {"dora", "ada"}),
        ("nickName eq null", {"dora", "ada", "Bob", "cai", "eve", "fay"}),
        ('schemas eq "urn:ietf:params:scim:schemas:core:2.0:User" and userName eq "ada"', {"ada"}),
    ],
)
def test_3_4_2_2_filters(staff: Provider, text: str, found: set[str]) -> None:
    assert set(names(staff, filter=text)) == found


@pytest.mark.parametrize(
    "text",
    [
        "userName",
        'userName zz "a"',
        'shoeSize eq "9"',
        'userName eq "a',
        "(userName pr",
        'active gt "x"',
        "userName eq a",
        ")",
    ],
)
def test_3_4_2_2_an_invalid_filter_is_reported(staff: Provider, text: str) -> None:
    answer = staff.http.get("/Users", params={"filter": text})
    assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidFilter")


def test_3_4_2_3_sorting(staff: Provider) -> None:
    assert names(staff, sortBy="userName") == ["ada", "Bob", "cai", "dora", "eve", "fay"]
    assert names(staff, sortBy="userName", sortOrder="descending") == [
        "fay",
        "eve",
        "dora",
        "cai",
        "Bob",
        "ada",
    ]
    assert names(staff, sortBy="name.familyName") == ["Bob", "eve", "ada", "cai", "dora", "fay"]
    assert names(staff, sortBy="emails", sortOrder="ascending") == ["ada", "Bob", "cai", "dora", "eve", "fay"]
    # Without a value a resource comes last, and first when descending; who are equal keep an order, so that
    # pages fit together.
    assert names(staff, sortBy="nickName", filter="title pr") == names(staff, filter="title pr")
    assert names(staff, sortBy="title", filter='userName eq "cai" or userName eq "ada"') == ["cai", "ada"]
    groups = staff.http.get("/Groups", params={"sortBy": "displayName"}).json()["Resources"]
    assert [each["displayName"] for each in groups] == ["Archive", "Herbarium"]


def test_3_4_2_4_pages_by_index(staff: Provider) -> None:
    page = staff.http.get("/Users", params={"startIndex": 3, "count": 2, "sortBy": "userName"}).json()
    assert (page["totalResults"], page["startIndex"], page["itemsPerPage"]) == (6, 3, 2)
    assert [each["userName"] for each in page["Resources"]] == ["cai", "dora"]
    assert names(staff, startIndex=0, count=1, sortBy="userName") == ["ada"]
    for count in (0, -5):
        empty = staff.http.get("/Users", params={"count": count}).json()
        assert (empty["totalResults"], empty["Resources"]) == (6, [])
    assert staff.http.get("/Users", params={"startIndex": 100}).json()["Resources"] == []


@pytest.mark.parametrize(
    "query",
    [
        {},
        {"sortBy": "userName"},
        {"sortBy": "title", "sortOrder": "descending"},
        {"filter": "title pr"},
        {"filter": "userName pr"},
    ],
)
def test_9865_2_pages_by_cursor_cover_a_list_once(staff: Provider, query: dict[str, str]) -> None:
    expected, found, cursor = names(staff, **query), [], ""
    while True:
        page = staff.http.get("/Users", params={**query, "cursor": cursor, "count": 2}).json()
        assert "startIndex" not in page
        assert page["totalResults"] == len(expected)
        found += [each["userName"] for each in page["Resources"]]
        if "nextCursor" not in page:
            break
        cursor = page["nextCursor"]
    assert found == expected


def test_9865_2_a_cursor_continues_despite_changes(staff: Provider) -> None:
    page = staff.http.get("/Users", params={"sortBy": "userName", "cursor": "", "count": 3}).json()
    first = [each["userName"] for each in page["Resources"]]
    staff.http.delete(f"/Users/{page['Resources'][0]['id']}")
    staff.user("aaron")
    rest = names(staff, sortBy="userName", cursor=page["nextCursor"], count=10)
    assert (first, rest) == (["ada", "Bob", "cai"], ["dora", "eve", "fay"])


def test_9865_2_1_a_cursor_of_another_search_is_refused(staff: Provider) -> None:
    page = staff.http.get("/Users", params={"cursor": "", "count": 2}).json()
    answer = staff.http.get("/Users", params={"cursor": page["nextCursor"], "filter": "title pr"})
    assert (answer.status_code, answer.json()["scimType"]) == (400, "invalidCursor")


def test_9865_4_cursors_are_advertised(provider: Provider) -> None:
    offered = provider.http.get("/ServiceProviderConfig").json()["pagination"]
    assert (
        offered["cursor"] is True
        and offered["index"] is True
        and offered["maxPageSize"] >= offered["defaultPageSize"] > 0
    )


def test_3_4_2_5_and_3_9_attributes_are_chosen(staff: Provider) -> None:
    ada = staff.http.get("/Users", params={"filter": 'userName eq "ada"'}).json()["Resources"][0]
    path = f"/Users/{ada['id']}"
    assert set(staff.http.get(path, params={"attributes": "userName, NAME.familyName"}).json()) == {
        "schemas",
        "id",
        "userName",
        "name",
    }
    without = staff.http.get(path, params={"excludedAttributes": "emails,id,meta"}).json()
    assert "emails" not in without and "meta" not in without and without["id"] == ada["id"]
    changed = staff.http.patch(
        path,
        params={"attributes": "title"},
        json={"Operations": [{"op": "replace", "path": "title", "value": "Head"}]},
    ).json()
    assert set(changed) == {"schemas", "id", "title"}
    group = staff.http.get("/Groups", params={"excludedAttributes": "members"}).json()["Resources"][0]
    assert "members" not in group
    assert len(staff.http.get(f"/Groups/{group['id']}").json()["members"]) == 2


def test_3_4_3_searching_by_post(staff: Provider) -> None:
    body = {
        "schemas": [SEARCH],
        "filter": "title pr",
        "attributes": ["userName"],
        "sortBy": "userName",
        "sortOrder": "descending",
        "startIndex": 2,
        "count": 2,
    }
    page = staff.http.post("/Users/.search", json=body).json()
    assert (page["totalResults"], [each["userName"] for each in page["Resources"]]) == (5, ["eve", "dora"])
    assert set(page["Resources"][0]) == {"schemas", "id", "userName"}
    assert (
        staff.http.post("/Groups/.search", json={"schemas": [SEARCH], "filter": 'displayName sw "a"'}).json()[
            "totalResults"
        ]
        == 1
    )
    both = staff.http.post(
        "/.search",
        json={
            "schemas": [SEARCH],
            "filter": 'userName eq "ada" or displayName pr',
            "excludedAttributes": ["members"],
        },
    )
    assert both.json()["totalResults"] == 3


def test_3_11_me_is_not_here(provider: Provider) -> None:
    for method in ("GET", "PUT", "PATCH", "DELETE", "POST"):
        assert provider.http.request(method, "/Me", json={}).status_code == 501


def test_3_12_errors_have_one_form(provider: Provider) -> None:
    for answer in (
        provider.http.get("/Users/nobody"),
        provider.http.post("/Users", content="{"),
        provider.http.get("/Nowhere"),
        provider.http.put("/Users"),
    ):
        body = answer.json()
        assert body["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:Error"]
        assert body["status"] == str(answer.status_code)
        assert body["detail"]


def test_3_14_a_version_saves_reading_again(staff: Provider) -> None:
    ada = staff.http.get("/Users", params={"filter": 'userName eq "ada"'}).json()["Resources"][0]
    path, tag = f"/Users/{ada['id']}", ada["meta"]["version"]
    unchanged = staff.http.get(path, headers={"If-None-Match": tag})
    assert (unchanged.status_code, unchanged.content, unchanged.headers["ETag"]) == (304, b"", tag)
    staff.group("Mosses", [ada["id"]])
    changed = staff.http.get(path, headers={"If-None-Match": tag})
    assert changed.status_code == 200 and changed.headers["ETag"] != tag


def test_4_discovery_takes_no_filter(provider: Provider) -> None:
    for path in ("/Schemas", "/ResourceTypes", "/ServiceProviderConfig"):
        assert provider.http.get(path, params={"filter": 'id eq "x"'}).status_code == 403
