"""Inbound SCIM as a provider sees it, by plain HTTP against a running service."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest

from dravo.client import Dravo
from tests.harness import CORE, Provider, Running, eventually

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
Fresh = Callable[[str], str]


@pytest.fixture
def provider(running: Running, fresh: Fresh) -> Provider:
    return running.provider(fresh("source"))


def found(provider: Provider, where: str, text: str, **more: str) -> list[dict[str, Any]]:
    answer = provider.http.get(where, params={"filter": text, **more})
    assert answer.status_code == 200, answer.text
    return list(answer.json()["Resources"])


def test_a_user_is_created_read_changed_and_deleted(provider: Provider) -> None:
    sent = {
        "schemas": [CORE + "User", ENTERPRISE],
        "userName": "zofia",
        "name": {"familyName": "Wiśniarska"},
        "externalId": "fb-1",
        "password": "never-kept",
        ENTERPRISE: {"department": "Herbarium"},
    }
    made = provider.http.post("/Users", json=sent)
    assert made.status_code == 201
    assert made.headers["Content-Type"] == "application/scim+json"
    user = made.json()
    assert made.headers["Location"] == user["meta"]["location"] == f"{provider.base_url}/Users/{user['id']}"
    assert "password" not in user
    path = f"/Users/{user['id']}"
    assert provider.http.get(path).json() == user
    patched = provider.patch(
        path, {"op": "Replace", "value": {"title": "Botanist", "active": "False"}}
    ).json()
    assert (patched["title"], patched["active"]) == ("Botanist", False)
    replaced = provider.http.put(path, json={"schemas": [CORE + "User"], "userName": "zofia.w"}).json()
    assert "title" not in replaced
    assert replaced["meta"]["created"] == user["meta"]["created"]
    assert provider.http.delete(path).status_code == 204
    assert provider.http.get(path).status_code == 404
    assert provider.http.delete(path).status_code == 404
    assert provider.patch(path, {"op": "add", "path": "title", "value": "x"}).status_code == 404


def test_a_user_name_is_unique_within_its_source_and_free_again_after_a_leaver(
    running: Running, provider: Provider, fresh: Fresh
) -> None:
    first = provider.user("sam.underhill")
    twice = provider.http.post("/Users", json={"userName": "Sam.Underhill"})
    assert (twice.status_code, twice.json()["scimType"], twice.json()["status"]) == (409, "uniqueness", "409")
    other = provider.user("sam.underhill2")
    taken = provider.patch(f"/Users/{other}", {"op": "replace", "path": "userName", "value": "SAM.underhill"})
    assert (taken.status_code, taken.json()["scimType"]) == (409, "uniqueness")
    running.provider(fresh("source")).user("sam.underhill")
    provider.http.delete(f"/Users/{first}")
    again = provider.user("sam.underhill")
    assert again != first


def test_a_leavers_name_does_not_inherit_the_leaver(
    running: Running, provider: Provider, fresh: Fresh
) -> None:
    application = fresh("records")
    running.application(application)
    name = fresh("leaver")
    leaver = provider.user(name)
    group = provider.group(fresh("Herbarium"), [leaver])
    with running.dravo as dravo:
        dravo.assignments.add(application, "viewer", group=group)
        old = dravo.users.get(name)
        assert old["access"]
        provider.http.delete(f"/Users/{leaver}")
        provider.user(name)
        new = dravo.users.get(name)
        assert new["id"] != old["id"]
        assert (new["access"], new["accounts"]) == ([], [])
        assert dravo.users.get(old["id"])["status"] == "left"


def test_lists_are_filtered_and_paged(provider: Provider) -> None:
    for number in range(7):
        provider.user(f"user{number}", title="Gardener" if number % 2 else "Guide", externalId=f"id-{number}")
    page = provider.http.get("/Users", params={"startIndex": 3, "count": 2}).json()
    assert (page["totalResults"], page["startIndex"], page["itemsPerPage"], len(page["Resources"])) == (
        7,
        3,
        2,
        2,
    )
    assert provider.http.get("/Users", params={"count": 0}).json()["totalResults"] == 7
    assert [each["userName"] for each in found(provider, "/Users", 'userName eq "USER3"')] == ["user3"]
    assert [each["userName"] for each in found(provider, "/Users", 'externalId eq "id-4"')] == ["user4"]
    assert len(found(provider, "/Users", 'title eq "Gardener"')) == 3
    assert len(found(provider, "/Users", 'title eq "Gardener" and userName ne "user1"', count="1")) == 1
    assert found(provider, "/Users", 'userName eq "nobody"') == []
    assert len(found(provider, "/Users", 'meta.lastModified gt "2020-01-01T00:00:00Z"')) == 7
    only = found(provider, "/Users", 'userName eq "user1"', attributes="userName")[0]
    assert set(only) == {"schemas", "id", "userName"}
    everyone = [
        each["id"]
        for start in (1, 4, 7)
        for each in provider.http.get("/Users", params={"startIndex": start, "count": 3}).json()["Resources"]
    ]
    assert len(set(everyone)) == 7


def test_groups_have_members_and_users_have_groups(provider: Provider) -> None:
    ann, bob = provider.user("ann"), provider.user("bob")
    group = provider.group("Herbarium", [ann])
    assert [each["value"] for each in provider.http.get(f"/Groups/{group}").json()["members"]] == [ann]
    provider.add(group, bob, ann)
    assert {each["value"] for each in provider.http.get(f"/Groups/{group}").json()["members"]} == {ann, bob}
    assert provider.http.get(f"/Users/{bob}").json()["groups"][0]["display"] == "Herbarium"
    assert (
        "members"
        not in provider.http.get(f"/Groups/{group}", params={"excludedAttributes": "members"}).json()
    )
    provider.take_out(group, ann)
    assert "groups" not in provider.http.get(f"/Users/{ann}").json()
    assert (
        provider.patch(
            f"/Groups/{group}", {"op": "Remove", "path": "members", "value": [{"value": bob}]}
        ).status_code
        == 204
    )
    assert (
        provider.patch(
            f"/Groups/{group}", {"op": "replace", "path": "members", "value": [{"value": ann}]}
        ).status_code
        == 204
    )
    put = provider.http.put(
        f"/Groups/{group}", json={"displayName": "Herbaria", "members": [{"value": bob}]}
    ).json()
    assert ([each["value"] for each in put["members"]], put["displayName"]) == ([bob], "Herbaria")
    assert [each["id"] for each in found(provider, "/Groups", 'displayName eq "herbaria"')] == [group]
    provider.http.delete(f"/Users/{bob}")
    assert "members" not in provider.http.get(f"/Groups/{group}").json()
    assert provider.http.delete(f"/Groups/{group}").status_code == 204
    assert provider.http.get(f"/Groups/{group}").status_code == 404


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "kind"),
    [
        ("POST", "/Users", "{not json", 400, "invalidSyntax"),
        ("POST", "/Users", "", 400, "invalidSyntax"),
        ("POST", "/Users", "[]", 400, "invalidSyntax"),
        ("POST", "/Users", "{}", 400, "invalidValue"),
        ("POST", "/Users", '{"userName": "a", "active": "perhaps"}', 400, "invalidValue"),
        ("POST", "/Groups", '{"displayName": "x", "members": [{"value": "nobody"}]}', 400, "invalidValue"),
        ("POST", "/Groups", '{"members": []}', 400, "invalidValue"),
        ("GET", "/Users?filter=userName+zz+1", None, 400, "invalidFilter"),
        ("GET", "/Users?count=many", None, 400, "invalidValue"),
        ("GET", "/Users?attributes=userName&excludedAttributes=emails", None, 400, "invalidValue"),
        ("GET", "/Users/nobody", None, 404, None),
        ("PUT", "/Users/nobody", '{"userName": "a"}', 404, None),
        ("GET", "/Schemas?filter=id+pr", None, 403, None),
        ("GET", "/Me", None, 501, None),
        ("GET", "/scim/v2/Users", None, 404, None),
        ("POST", "", "{}", 405, None),
        ("GET", "/Users?sortBy=shoeSize", None, 400, "invalidPath"),
        ("GET", "/Users?sortBy=userName&sortOrder=sideways", None, 400, "invalidValue"),
        ("GET", "/Users?cursor=made-up", None, 400, "invalidCursor"),
        ("GET", "/Users?cursor=&count=many", None, 400, "invalidCount"),
        ("GET", "/Users?filter=password+eq+%22x%22", None, 403, "sensitive"),
        ("POST", "/.search", "[]", 400, "invalidSyntax"),
        ("POST", "/Users/.search", '{"filter": 5.5}', 400, "invalidValue"),
        ("POST", "/Bulk", '{"Operations": []}', 400, "invalidSyntax"),
        ("DELETE", "/Users", None, 405, None),
    ],
)
def test_bad_input_gets_a_scim_error_that_says_the_hint(
    provider: Provider, method: str, path: str, body: str | None, status: int, kind: str | None
) -> None:
    answer = provider.http.request(method, path, content=body)
    assert answer.status_code == status, answer.text
    told = answer.json()
    assert told["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:Error"]
    assert told["status"] == str(status)
    assert len(told["detail"]) > 15
    assert told.get("scimType") == kind


def test_a_patch_is_all_or_nothing(provider: Provider) -> None:
    user = provider.user("ada", title="Botanist")
    half = provider.patch(
        f"/Users/{user}",
        {"op": "replace", "path": "title", "value": "Keeper"},
        {"op": "replace", "path": "shoeSize", "value": 1},
    )
    assert half.status_code == 400
    assert provider.http.get(f"/Users/{user}").json()["title"] == "Botanist"
    group = provider.group("Herbarium")
    half = provider.patch(
        f"/Groups/{group}", {"op": "add", "path": "members", "value": [{"value": user}, {"value": "nobody"}]}
    )
    assert half.status_code == 400
    assert "members" not in provider.http.get(f"/Groups/{group}").json()


def test_a_source_sees_its_own_only(running: Running, provider: Provider, fresh: Fresh) -> None:
    other = running.provider(fresh("source"))
    user = provider.user("ada")
    group = provider.group("Herbarium", [user])
    assert other.http.get(f"/Users/{user}").status_code == 404
    assert other.http.delete(f"/Users/{user}").status_code == 404
    assert other.http.get("/Groups").json()["totalResults"] == 0
    stranger = other.group("Herbarium")
    grab = other.patch(f"/Groups/{stranger}", {"op": "add", "path": "members", "value": [{"value": user}]})
    assert (grab.status_code, grab.json()["scimType"]) == (400, "invalidValue")
    crossed = httpx.get(f"{provider.base_url}/Groups/{group}", headers=other.http.headers)
    assert crossed.status_code == 401


def test_a_wrong_token_is_turned_away_and_seen_on_the_checklist(running: Running, fresh: Fresh) -> None:
    source = fresh("source")
    provider = running.provider(source)
    for headers in ({}, {"Authorization": "Bearer nonsense"}, {"Authorization": "Basic eDp5"}):
        answer = httpx.get(f"{provider.base_url}/Users", headers=headers)
        assert answer.status_code == 401
        assert answer.headers["WWW-Authenticate"].startswith("Bearer")
        assert "token" in answer.json()["detail"]
    with running.dravo as dravo:
        trouble = dravo.sources.checklist(source)["trouble"]
        assert any("token" in each["message"] for each in trouble)


def test_refused_requests_are_shown_on_the_checklist(running: Running, fresh: Fresh) -> None:
    source = fresh("source")
    provider = running.provider(source)
    provider.user("ada")
    for content, words in (
        ('{"userName": "ADA"}', "This source already has a user with the userName '"),
        ("{not json", "not JSON"),
    ):
        provider.http.post("/Users", content=content)
        with running.dravo as dravo:
            eventually(
                lambda words=words, dravo=dravo, content=content: (
                    told(dravo, source, words) or provider.http.post("/Users", content=content) is None
                )
            )


def told(dravo: Dravo, source: str, words: str) -> bool:
    return any(words in each["message"] for each in dravo.sources.checklist(source)["trouble"])


def test_tokens_overlap_and_a_revoked_one_stops_at_once(running: Running, fresh: Fresh) -> None:
    source = fresh("source")
    first = running.provider(source)
    with running.dravo as dravo:
        second = Provider(first.base_url, dravo.sources.add_token(source, "Second")["token"])
        assert first.http.get("/Users").status_code == second.http.get("/Users").status_code == 200
        listed = list(dravo.sources.tokens(source))
        assert all("token" not in each for each in listed)
        oldest = min(listed, key=lambda each: each["created_at"])
        dravo.sources.revoke_token(source, oldest["id"])
    assert first.http.get("/Users").status_code == 401
    assert second.http.get("/Users").status_code == 200


def test_the_checklist_is_ticked_by_real_traffic(running: Running, fresh: Fresh) -> None:
    source = fresh("source")
    provider = running.provider(source)
    with running.dravo as dravo:
        assert [tick["first_at"] for tick in dravo.sources.checklist(source)["ticks"]] == [None] * 6
        ann = provider.user("ann")
        provider.patch(f"/Users/{ann}", {"op": "add", "path": "title", "value": "Guide"})
        provider.set_active(ann, False)
        provider.add(provider.group("Guides"), ann)
        assert all(tick["first_at"] for tick in dravo.sources.checklist(source)["ticks"])


def test_advertised_features_work(provider: Provider) -> None:
    config = provider.http.get("/ServiceProviderConfig").json()
    offered = {
        name
        for name in ("patch", "bulk", "filter", "changePassword", "sort", "etag")
        if config[name]["supported"]
    }
    assert offered == {"patch", "filter", "bulk", "sort", "etag"}
    assert {each["id"] for each in provider.http.get("/ResourceTypes").json()["Resources"]} == {
        "User",
        "Group",
    }
    schemas = provider.http.get("/Schemas/").json()
    assert schemas["totalResults"] == 3
    assert provider.http.get(f"/Schemas/{CORE}User").json()["name"] == "User"
    assert provider.http.get("/ResourceTypes/User").json()["endpoint"] == "/Users"


def test_four_clients_at_once_lose_nothing(provider: Provider) -> None:
    group = provider.group("Everyone")
    users = [provider.user(f"p{number}") for number in range(24)]

    def work(part: list[str]) -> None:
        own = Provider(provider.base_url, provider.http.headers["Authorization"].removeprefix("Bearer "))
        for user in part:
            own.add(group, user)
            own.patch(f"/Users/{user}", {"op": "replace", "path": "title", "value": "Gardener"})

    with ThreadPoolExecutor(4) as pool:
        list(pool.map(work, [users[number::4] for number in range(4)]))
    assert {each["value"] for each in provider.http.get(f"/Groups/{group}").json()["members"]} == set(users)
    assert len(found(provider, "/Users", 'title eq "Gardener"')) == 24


def test_a_group_within_a_group_gives_what_the_outer_one_gives(
    running: Running, provider: Provider, fresh: Fresh
) -> None:
    application = fresh("records")
    running.application(application)
    name = fresh("apprentice")
    user = provider.user(name)
    inner, outer = provider.group("Apprentices", [user]), provider.group("Horticulture")
    with running.dravo as dravo:
        dravo.assignments.add(application, "viewer", group=outer)
        assert dravo.users.get(name)["access"] == []
        provider.add(outer, inner)
        access = eventually(lambda: dravo.users.get(name)["access"])
        assert access[0]["reasons"][0]["through"] == ["Apprentices"]
        provider.take_out(outer, inner)
        eventually(lambda: dravo.users.get(name)["access"], lambda seen: seen == [])


def test_fifty_changes_of_one_group_at_the_same_time_all_succeed(running: Running, fresh: Fresh) -> None:
    provider = running.provider(fresh("source"))
    users = [provider.user(f"p{number}") for number in range(50)]
    group = provider.group("Guides")

    def add(user: str) -> int:
        # A connection of its own, as a provider with many workers has.
        own = Provider(provider.base_url, running.push_tokens[provider.base_url.rpartition("/")[2]])
        change = {"op": "add", "path": "members", "value": [{"value": user}]}
        return own.patch(f"/Groups/{group}", change).status_code

    with ThreadPoolExecutor(25) as pool:
        assert set(pool.map(add, users)) == {204}
    listed = provider.http.get(f"/Groups/{group}").json()["members"]
    assert {each["value"] for each in listed} == set(users)
