"""What the management API says about local users and groups, plans and reviews, by plain HTTP: good input,
bad input, and what is kept of either.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import httpx
import pytest

from tests.harness import Running, eventually

Fresh = Callable[[str], str]


@pytest.fixture
def http(running: Running) -> httpx.Client:
    headers = {"Authorization": f"Bearer {running.api_token}"}
    return httpx.Client(base_url=f"{running.url}/api/v1", headers=headers, trust_env=False, timeout=30)


def refused(answer: httpx.Response, status: int, field: str | None = None) -> str:
    """Return what an answer says that is wrong; it names the hint, and the field if there is one."""
    assert answer.status_code == status, answer.text
    error = answer.json()["error"]
    assert error["message"] and error["hint"] and error["field"] == field, error
    return str(error["message"])


def test_a_user_is_entered_changed_and_removed(http: httpx.Client, fresh: Fresh) -> None:
    name = fresh("ida")
    made = http.post(
        "/users", json={"user_name": name, "given_name": "Ida", "email": f"{name}@fernhollow.example"}
    )
    assert made.status_code == 201 and made.json()["records"][0]["connection_type"] == "local"
    user = made.json()["id"]
    assert " has the same user name or email address." in refused(
        http.post("/users", json={"user_name": name.upper()}), 409, "user_name"
    )
    assert "' is not an email address." in refused(
        http.post("/users", json={"user_name": "x", "email": "nobody"}), 422, "email"
    )
    assert "user name" in refused(http.post("/users", json={"user_name": " "}), 422, "user_name")
    assert "is not a field" in refused(
        http.post("/users", json={"user_name": "x", "password": "secret"}), 422, "password"
    )
    assert "is missing" in refused(http.post("/users", json={}), 422, "user_name")
    changed = http.put(f"/users/{name}", json={"user_name": f"{name}.vosper", "title": "Botanist"})
    assert (
        changed.status_code == 200
        and changed.json()["user_name"] == f"{name}.vosper"
        and changed.json()["email"] is None
    )
    refused(http.put("/users/nobody-there", json={"user_name": "x"}), 404, "user")
    moved = {"user_name": f"{name}.vosper", "active": False, "expect": {"gained": 0, "lost": 3, "changed": 0}}
    assert "The preview is out of date. The result is now: " in refused(
        http.put(f"/users/{user}", json=moved), 409
    )
    assert http.get(f"/users/{user}").json()["status"] == "active"
    assert http.get(f"/users/{user}/removal").json()["lost"] == 0
    assert http.delete(f"/users/{user}").status_code == 204
    assert http.get(f"/users/{user}").json()["status"] == "left"
    assert "has left" in refused(http.delete(f"/users/{user}"), 422, "user")


def test_a_local_group_accepts_members_or_explains_the_refusal(
    running: Running, http: httpx.Client, fresh: Fresh
) -> None:
    label, name = fresh("Planting"), fresh("ada")
    provider = running.provider(fresh("staff"))
    provider.user(name)
    theirs = provider.group(fresh("Herbarium"))
    made = http.post("/groups", json={"name": f" {label} "})
    assert made.status_code == 201 and made.json()["name"] == label
    group = made.json()["id"]
    refused(http.post("/groups", json={"name": label.lower()}), 409, "name")
    refused(http.post("/groups", json={"name": ""}), 422, "name")
    assert "' belongs to the source " in refused(http.patch(f"/groups/{theirs}", json={"name": "Mine"}), 422)
    assert "' belongs to the source " in refused(
        http.post(f"/groups/{theirs}/members", json={"add": [name]}), 422
    )
    refused(http.post(f"/groups/{group}/members", json={"add": [name, "nobody-there"]}), 404, "user")
    refused(http.post(f"/groups/{group}/members", json={"add_groups": ["nothing-there"]}), 404, "group")
    refused(http.post(f"/groups/{group}/members", json={"add_groups": [group]}), 422, "add_groups")
    refused(http.post(f"/groups/{group}/members", json={"add": ["x"] * 1_001}), 422, "add")
    assert http.get(f"/groups/{group}").json()["members"] == 0
    assert (
        http.post(f"/groups/{group}/members", json={"add": [name], "add_groups": [theirs]}).json()["members"]
        == 1
    )
    shown = http.get(f"/groups/{group}").json()
    assert (shown["local"], shown["users_with_nested_groups"], [each["id"] for each in shown["inner"]]) == (
        True,
        1,
        [theirs],
    )
    # Saying it again changes nothing, and is no error.
    assert http.post(f"/groups/{group}/members", json={"add": [name]}).json()["members"] == 1
    # The source that has the inner group can neither read nor change the one around it.
    seen = provider.http.get(f"/Groups/{group}")
    assert seen.status_code == 404 and provider.http.delete(f"/Groups/{group}").status_code == 404
    assert http.delete(f"/groups/{group}").status_code == 204
    refused(http.delete(f"/groups/{group}"), 404)


def test_plans_and_their_limits(running: Running, http: httpx.Client, fresh: Fresh) -> None:
    key = fresh("desk")
    running.application(key)
    at = f"/applications/{key}/license-plans"
    assert http.post(at, json={"key": "full", "label": "Full", "seats": 2}).json()["plans"][0]["free"] == 2
    refused(http.post(at, json={"key": "full", "label": "Full"}), 409, "key")
    refused(http.post(at, json={"key": "Not A Key", "label": "Full"}), 422, "key")
    refused(http.post(at, json={"key": "many", "label": "Many", "seats": -1}), 422, "seats")
    refused(http.post(at, json={"key": "many", "label": "Many", "rank": 5_000}), 422, "rank")
    refused(http.patch(f"{at}/none", json={"seats": 3}), 404, "plan")
    refused(
        http.post(
            "/assignments", json={"application": key, "role": "viewer", "everyone": True, "plan": "none"}
        ),
        404,
        "plan",
    )
    refused(
        http.post("/assignments", json={"application": key, "everyone": True, "plan": "full"}), 422, "plan"
    )
    assert http.patch(f"{at}/full", json={"seats": 0}).json()["plans"][0]["seats"] is None
    assert http.get(f"/applications/{key}/seats", params={"waiting": True}).json() == {
        "items": [],
        "total": 0,
        "next": None,
    }
    refused(http.get(f"/applications/{key}/seats", params={"plan": "none"}), 404, "plan")
    assert http.delete(f"{at}/full").json()["plans"] == []


def test_reviews_are_paged_counted_and_refused_with_the_hint(
    running: Running, http: httpx.Client, fresh: Fresh
) -> None:
    key, source = fresh("desk"), fresh("staff")
    running.application(key)
    provider = running.provider(source)
    provider.group(f"{source}-all", [provider.user(f"{source}-{number}") for number in range(5)])
    http.post(
        "/assignments",
        json={"application": key, "role": "viewer", "group": f"{source}-all", "source": source},
    ).raise_for_status()
    eventually(
        lambda: http.get("/access", params={"application": key}).json()["total"], lambda total: total == 5
    )
    body: dict[str, Any] = {"label": fresh("Review"), "until": "2999-12-31", "application": key}
    refused(http.post("/reviews", json={**body, "until": "2999-02-31"}), 422, "until")
    refused(http.post("/reviews", json={**body, "role": "nothing"}), 422)
    refused(http.post("/reviews", json={**body, "only": "everything"}), 422, "only")
    refused(http.post("/reviews", json={**body, "application": "nothing"}), 404)
    review = http.post("/reviews", json=body).json()
    at = f"/reviews/{review['id']}"
    first = http.get(f"{at}/rows", params={"count": 2}).json()
    second = http.get(f"{at}/rows", params={"count": 2, "after": first["next"]}).json()
    assert first["total"] == 5 and not {each["id"] for each in first["items"]} & {
        each["id"] for each in second["items"]
    }
    row = first["items"][0]["id"]
    refused(
        http.post(f"{at}/decide", json={"application": key, "rows": [], "decision": "confirmed"}), 422, "rows"
    )
    refused(
        http.post(f"{at}/decide", json={"application": key, "rows": [row], "decision": "perhaps"}),
        422,
        "decision",
    )
    refused(
        http.post(
            f"{at}/decide", json={"application": key, "rows": ["nothing-there"], "decision": "confirmed"}
        ),
        404,
        "rows",
    )
    seen = {
        "application": key,
        "rows": [row],
        "decision": "removed",
        "expect": {"gained": 0, "lost": 2, "changed": 0},
    }
    assert "The preview is out of date. The result is now: " in refused(
        http.post(f"{at}/decide", json=seen), 409
    )
    assert (
        http.post(f"{at}/decide", json={**seen, "expect": {"gained": 0, "lost": 1, "changed": 0}}).json()[
            "removed"
        ]
        == 1
    )
    assert http.get(f"{at}/rows", params={"decision": "open"}).json()["total"] == 4
    exported = http.get(f"{at}/export", params={"form": "csv"})
    assert (
        exported.headers["Content-Disposition"] == "attachment; filename=review.csv"
        and len(exported.text.splitlines()) == 6
    )
    refused(http.get(f"{at}/export", params={"form": "pdf"}), 422, "form")
    assert http.post(f"{at}/close").json()["closed_by"] == "edmund.sallow"
    assert "has ended" in refused(
        http.post(f"{at}/decide", json={"application": key, "rows": [row], "decision": "confirmed"}), 422
    )


def test_comparing_and_the_matrix_of_groups_by_http(
    running: Running, http: httpx.Client, fresh: Fresh
) -> None:
    source, name = fresh("staff"), fresh("ada")
    running.provider(source).user(name)
    refused(http.get("/access/compare", params={"one": name, "two": "nobody-there"}), 404, "user")
    refused(http.get("/access/compare", params={"one": name}), 422, "two")
    assert http.get("/access/compare", params={"one": name, "two": name}).json()["applications"] == []
    refused(http.get("/access/matrix/groups", params={"application": "nothing-there"}), 404)
    assert http.get("/access/matrix/groups", params={"q": "nothing of that name"}).json()["items"] == []
    assert set(http.get("/overview/flow").json()) == {"at", "nodes", "bands"}
