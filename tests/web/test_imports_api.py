"""How sources are read, by plain HTTP: what is answered, what is refused with its hint, and what is not for
everyone's eyes.
"""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from tests.harness import Running, eventually

Fresh = Callable[[str], str]
ANSWERS = {
    "attributes": [
        {"attribute": "userName", "expression": "login"},
        {"attribute": "title", "expression": "job"},
    ]
}


@pytest.fixture
def http(running: Running) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {running.api_token}"}
    with httpx.Client(
        base_url=f"{running.url}/api/v1", headers=headers, timeout=30, trust_env=False
    ) as client:
        yield client


@pytest.fixture
def register(http: httpx.Client, fresh: Fresh) -> str:
    """A register of two users, not read yet."""
    key = fresh("register")
    http.post("/sources", json={"key": key, "label": f"The {key}"}).raise_for_status()
    http.put(
        f"/sources/{key}/import", json={"kind": "csv", "policy": ANSWERS, "schedule": "", "enabled": True}
    ).raise_for_status()
    upload(http, key, f"id,login,job\n1,{key}.una,Tree surgeon\n2,{key}.grace,Carpenter\n").raise_for_status()
    return key


def upload(http: httpx.Client, key: str, text: str, name: str = "users.csv") -> httpx.Response:
    return http.post(
        f"/sources/{key}/import/files",
        json={"name": name, "content": base64.b64encode(text.encode()).decode()},
    )


def read(http: httpx.Client, key: str, **how: Any) -> dict[str, Any]:
    begun = http.post(f"/sources/{key}/import/runs", json=how)
    assert begun.status_code == 201, begun.text
    address = f"/sources/{key}/import/runs/{begun.json()['id']}"
    return dict(eventually(lambda: http.get(address).json(), lambda run: run["ended_at"] is not None))


def error(answer: httpx.Response, status: int) -> dict[str, Any]:
    assert answer.status_code == status, answer.text
    return dict(answer.json()["error"])


def masked(running: Running, http: httpx.Client, fresh: Fresh, kind: str) -> httpx.Client:
    """Return a client of an operator for whom users' attributes are masked."""
    made = http.post("/operators", json={"name": fresh("operator"), "kind": kind, "masked": True}).json()
    signed_in = httpx.post(
        f"{running.url}/api/v1/session",
        json={"name": made["name"], "password": made["password"]},
        trust_env=False,
    )
    headers = {"X-Dravo-CSRF": signed_in.json()["csrf"]}
    return httpx.Client(
        base_url=f"{running.url}/api/v1",
        headers=headers,
        cookies=signed_in.cookies,
        timeout=30,
        trust_env=False,
    )


def test_the_kinds_of_reader_say_what_a_form_needs(http: httpx.Client) -> None:
    kinds = {each["key"]: each for each in http.get("/connectors").json()["items"]}
    assert set(kinds) == {"ldap", "scim", "csv"}
    fields = {each["name"]: each for each in kinds["ldap"]["settings"]}
    assert (fields["address"]["required"], fields["start_tls"]["kind"], fields["ca"]["kind"]) == (
        True,
        "switch",
        "lines",
    )
    assert fields["membership"]["choices"] == ["member", "uniqueMember", "memberUid", "memberOf"]
    # A password is no setting: it is kept apart, and never given back.
    assert not any(
        "password" in name or "secret" in name
        for kind in kinds.values()
        for name in (each["name"] for each in kind["settings"])
    )


def test_wrong_settings_are_refused_with_the_field_and_the_hint(
    http: httpx.Client, fresh: Fresh, register: str
) -> None:
    key = fresh("source")
    http.post("/sources", json={"key": key, "label": "Source"}).raise_for_status()
    address = f"/sources/{key}/import"
    assert "' has no import." in error(http.get(address), 404)["message"]
    for body, field in (
        ({}, "kind"),
        ({"kind": "floppy"}, "kind"),
        ({"kind": "ldap"}, "address"),
        ({"kind": "csv", "settings": {"adress": "x"}}, "adress"),
        ({"kind": "csv", "settings": {"encoding": "klingon"}}, "encoding"),
    ):
        told = error(http.put(address, json=body), 422)
        assert told["field"] == field and told["hint"], body
    assert http.get(address).status_code == 404, "nothing is kept of what was refused"
    for body, field in (
        ({"kind": "ldap"}, "kind"),
        ({"schedule": "every now and then"}, "schedule"),
        ({"policy": {"match": "guess"}}, "match"),
        ({"enabled_from": "tomorrow"}, "enabled_from"),
        ({"policy": {"attributes": [{"attribute": "userName", "expression": "("}]}}, "attributes"),
    ):
        told = error(http.put(f"/sources/{register}/import", json=body), 422)
        assert told["field"] == field, body
    assert error(
        http.put("/sources/local/import", json={"kind": "csv"}),
        404 if http.get("/sources/local").status_code == 404 else 422,
    )


def test_a_source_is_read_and_its_lines_tell_before_and_after(http: httpx.Client, register: str) -> None:
    run = read(http, register)
    assert (run["status"], {each["name"]: each["number"] for each in run["counts"]}) == (
        "done",
        {"read": 2, "new": 2},
    )
    upload(http, register, f"id,login,job\n1,{register}.una,Lead\n2,{register}.grace,Carpenter\n")
    run = read(http, register)
    lines = http.get(
        f"/sources/{register}/import/runs/{run['id']}/entries", params={"kind": "changed"}
    ).json()
    assert lines["total"] == 1
    assert lines["items"][0]["changes"] == [{"attribute": "title", "before": "Tree surgeon", "after": "Lead"}]
    assert http.get(f"/sources/{register}/import/runs", params={"count": 1}).json()["next"]
    line = http.get(f"/sources/{register}").json()
    assert (line["connection_type"], line["read_as"], line["run_status"], line["users"]) == (
        "import",
        "csv",
        "done",
        2,
    )
    assert error(http.get(f"/sources/{register}/import/runs/none/entries"), 404)
    # A run is found by its own source only.
    assert error(http.get(f"/sources/staff-of-nobody/import/runs/{run['id']}"), 404)


def test_attributes_are_masked_in_run_entries_and_conflicts(
    running: Running, http: httpx.Client, register: str, fresh: Fresh
) -> None:
    running.provider(fresh("source")).user(f"{register}.una")
    run = read(http, register)
    (conflict,) = http.get(f"/sources/{register}/conflicts").json()["items"]
    assert conflict["says"]["title"] == "Tree surgeon"
    with masked(running, http, fresh, "auditor") as auditor:
        assert auditor.get(f"/sources/{register}/import").status_code == 200
        assert error(auditor.get(f"/sources/{register}/import/runs/{run['id']}/entries"), 403)
        (conflict,) = auditor.get(f"/sources/{register}/conflicts").json()["items"]
        assert set(conflict["says"]) == {"userName"}
        # Looking is all that an auditor does.
        for method, path in (
            ("PUT", "import"),
            ("POST", "import/check"),
            ("POST", "policy/import/preview"),
            ("POST", "import/runs"),
            ("PUT", "priority"),
        ):
            assert error(auditor.request(method, f"/sources/{register}/{path}", json={}), 403)
        assert error(
            auditor.post(f"/sources/{register}/conflicts/{conflict['id']}", json={"decision": "create"}), 403
        )


def test_conflicts_are_decided_once_and_only_as_they_can_be(
    running: Running, http: httpx.Client, register: str, fresh: Fresh
) -> None:
    running.provider(fresh("source")).user(f"{register}.una")
    read(http, register)
    (conflict,) = http.get(f"/sources/{register}/conflicts").json()["items"]
    address = f"/sources/{register}/conflicts/{conflict['id']}"
    assert (
        error(http.post(address, json={"decision": "accept"}), 422)["hint"]
        == "Use one of: link, create, ignore."
    )
    assert error(http.post(address, json={"decision": "link"}), 422)["field"] == "user"
    assert error(http.post(address, json={"decision": "link", "user": "nobody-at-all"}), 404)
    assert (
        "' already has a record of"
        in error(http.post(address, json={"decision": "link", "user": f"{register}.grace"}), 422)["message"]
    )
    decided = http.post(address, json={"decision": "ignore"}).json()
    assert (decided["status"], decided["decided_by"]) == ("decided", "edmund.sallow")
    read(http, register, whole=True)
    assert http.get(f"/sources/{register}/conflicts").json()["total"] == 0, "what was left out stays out"
    assert http.get(f"/sources/{register}/conflicts", params={"status": "decided"}).json()["total"] == 1
    assert http.post(address, json={"decision": "create"}).status_code == 200, (
        "another decision is another decision"
    )
    assert http.get(f"/sources/{register}").json()["users"] == 2


def test_a_file_is_looked_at_before_it_takes_the_others_place(http: httpx.Client, register: str) -> None:
    assert error(upload(http, register, ""), 502)["message"] == "users.csv is empty."
    assert error(upload(http, register, "x", "passwd"), 422)
    assert (
        error(
            http.post(
                f"/sources/{register}/import/files", json={"name": "users.csv", "content": "no base64, ü"}
            ),
            422,
        )["field"]
        == "content"
    )
    (file,) = http.get(f"/sources/{register}/import").json()["files"]
    assert file["name"] == "users.csv" and read(http, register)["status"] == "done"


def test_expressions_are_tried_on_what_the_source_said(http: httpx.Client, register: str) -> None:
    read(http, register)
    body = {
        "expression": "job then upper",
        "source": register,
        "user": f"{register}.una",
        "attribute": "title",
    }
    tried = http.post("/expressions/evaluate", json=body).json()
    assert (tried["result"], tried["uses"], tried["user"]["user_name"]) == (
        "TREE SURGEON",
        ["job"],
        f"{register}.una",
    )
    told = error(http.post("/expressions/evaluate", json={**body, "expression": "job then fly"}), 422)
    assert told["position"] == 9
    assert (
        error(http.post("/expressions/evaluate", json={**body, "attribute": "password"}), 422)["field"]
        == "attribute"
    )


def test_a_run_can_be_stopped_and_an_empty_source_deleted(http: httpx.Client, fresh: Fresh) -> None:
    key = fresh("empty")
    http.post("/sources", json={"key": key, "label": "Empty"}).raise_for_status()
    http.put(
        f"/sources/{key}/import", json={"kind": "csv", "enabled": True, "schedule": ""}
    ).raise_for_status()
    run = read(http, key)
    assert run["status"] == "failed" and run["message"] == "users.csv is missing." and run["hint"]
    assert http.post(f"/sources/{key}/import/runs/{run['id']}/stop").json()["status"] == "failed", (
        "what has ended stays as it ended"
    )
    begun = time.monotonic()
    assert http.delete(f"/sources/{key}/import").status_code == 204 and error(
        http.get(f"/sources/{key}/import"), 404
    )
    assert http.delete(f"/sources/{key}").status_code == 204 and time.monotonic() - begun < 10
