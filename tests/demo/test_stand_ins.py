"""The stand-ins by themselves: they are the other side in so many tests that they have to be right."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from dravo.demo.application import Application
from dravo.demo.http_server import Answer, Call
from dravo.demo.scim_provider import Provider, PushFailed

TOKEN = {"Authorization": "Bearer right"}


@pytest.fixture
def records(tmp_path: Path) -> Application:
    return Application("Records", "right", tmp_path / "status")


def ask(
    records: Application,
    method: str,
    path: str,
    body: Any = None,
    headers: dict[str, str] | None = None,
    **query: str,
) -> Answer:
    return records.handle(Call(method, f"/scim/v2{path}", query, headers or TOKEN, body))


def test_accounts_are_made_found_changed_and_deleted(records: Application) -> None:
    made = ask(records, "POST", "/Users", {"userName": "Ada", "externalId": "u1"})
    assert made.status == 201
    path = f"/Users/{made.body['id']}"
    assert ask(records, "POST", "/Users", {"userName": "ADA"}).status == 409
    assert ask(records, "POST", "/Users", {}).status == 400
    for query in (
        'userName eq "ada"',
        'externalId eq "u1"',
        f'id eq "{made.body["id"]}"',
        'USERNAME EQ "ada"',
    ):
        assert ask(records, "GET", "/Users", filter=query).body["totalResults"] == 1, query
    assert ask(records, "GET", "/Users", filter="userName pr").status == 400
    operations = [{"op": "replace", "path": "active", "value": False}, {"op": "remove", "path": "externalId"}]
    changed = ask(records, "PATCH", path, {"Operations": operations})
    assert changed.body["active"] is False
    assert ask(records, "GET", "/Users", filter='externalId eq "u1"').body["totalResults"] == 0
    assert (
        ask(records, "PATCH", path, {"Operations": [{"op": "replace", "path": "a[b]", "value": 1}]}).status
        == 400
    )
    assert ask(records, "PUT", path, {"userName": "bob"}).body["userName"] == "bob"
    assert ask(records, "DELETE", path).status == 204
    assert ask(records, "GET", path).status == 404


def test_it_remembers_across_starts(records: Application, tmp_path: Path) -> None:
    ask(records, "POST", "/Users", {"userName": "ada"})
    assert "ada" in Application("Records", "right", tmp_path / "status").by_name


def test_pages_are_small(records: Application) -> None:
    for number in range(130):
        ask(records, "POST", "/Users", {"userName": f"p{number}"})
    first = ask(records, "GET", "/Users", count="500").body
    second = ask(records, "GET", "/Users", startIndex="101").body
    assert (first["itemsPerPage"], second["itemsPerPage"], first["totalResults"]) == (100, 30, 130)


@pytest.mark.parametrize(
    ("fault", "method", "status"),
    [
        ({"down": True}, "GET", 503),
        ({"html": True}, "GET", 200),
        ({"refuse": True}, "POST", 400),
        ({"refuse": True}, "GET", 200),
        ({"limit": 1}, "GET", 429),
    ],
)
def test_each_fault_does_what_it_says(
    records: Application, fault: dict[str, Any], method: str, status: int
) -> None:
    records.handle(Call("POST", "/faults", {}, {}, fault))
    if "limit" in fault:
        assert ask(records, method, "/Users").status == 200
    answer = ask(records, method, "/Users", {"userName": "ada"})
    assert answer.status == status
    assert ("html" in answer.kind) == ("html" in fault)


def test_a_lost_reply_is_lost_after_the_work(records: Application) -> None:
    records.handle(Call("POST", "/faults", {}, {}, {"lose": 1}))
    assert ask(records, "POST", "/Users", {"userName": "ada"}).cut
    assert "ada" in records.by_name
    assert not ask(records, "POST", "/Users", {"userName": "bob"}).cut


def test_a_slow_one_is_slow_and_a_changed_token_is_wrong(records: Application) -> None:
    records.handle(Call("POST", "/faults", {}, {}, {"slow": 60, "token": "new"}))
    began = time.monotonic()
    assert ask(records, "GET", "/Users").status == 401
    assert time.monotonic() - began >= 0.06
    assert ask(records, "GET", "/Users", headers={"Authorization": "Bearer new"}).status == 200


def test_without_patch_it_says_so_and_refuses(records: Application) -> None:
    made = ask(records, "POST", "/Users", {"userName": "ada"}).body["id"]
    assert ask(records, "GET", "/ServiceProviderConfig").body["patch"]["supported"]
    records.handle(Call("POST", "/faults", {}, {}, {"no_patch": True}))
    assert not ask(records, "GET", "/ServiceProviderConfig").body["patch"]["supported"]
    assert ask(records, "PATCH", f"/Users/{made}", {"Operations": []}).status == 501


def test_its_page_shows_what_it_knows_and_no_markup_of_others(records: Application) -> None:
    ask(records, "POST", "/Users", {"userName": "<script>", "displayName": "<b>Ada"})
    page = records.handle(Call("GET", "/", {}, {})).body
    assert "&lt;b&gt;Ada" in page
    assert "<script>" not in page
    log = records.handle(Call("GET", "/log", {}, {})).body
    assert log["requests"][0]["status"] == 201


class OtherSide:
    """Answers a provider as a SCIM service does, and keeps what it was sent."""

    def __init__(self) -> None:
        self.sent: list[tuple[str, str, Any]] = []
        self.known: dict[str, str] = {}
        self.failing = False

    def call(self, method: str, path: str, body: Any = None, **query: str) -> Any:
        if self.failing:
            raise PushFailed("no")
        self.sent.append((method, path, body))
        if method == "GET":
            name = query["filter"].split('"')[1]
            return {"Resources": [{"id": self.known[name]}] if name in self.known else []}
        if method == "POST":
            name = body.get("userName") or body["displayName"]
            self.known[name] = f"id-{name}"
            return {"id": self.known[name]}
        return None


@pytest.fixture
def provider(tmp_path: Path) -> Provider:
    made = Provider("Staff", tmp_path / "status")
    made.other = OtherSide()  # type: ignore[attr-defined]
    made.call = made.other.call  # type: ignore[attr-defined, method-assign]
    return made


def tell(provider: Provider, method: str, path: str, body: Any = None) -> int:
    return provider.handle(Call(method, path, {}, {}, body)).status


def test_a_provider_looks_before_it_creates_and_fills_groups_in_chunks(provider: Provider) -> None:
    other: OtherSide = provider.other  # type: ignore[attr-defined]
    for number in range(230):
        assert tell(provider, "PUT", f"/users/p{number}", {"userName": f"p{number}", "active": True}) == 200
    assert [each[0] for each in other.sent[:2]] == ["GET", "POST"]
    assert tell(provider, "PUT", "/groups/All", {"members": [f"p{number}" for number in range(230)]}) == 200
    chunks = [body["Operations"][0] for method, path, body in other.sent if path == "/Groups/id-All"]
    assert [(chunk["op"], len(chunk["value"])) for chunk in chunks] == [
        ("Add", 100),
        ("Add", 100),
        ("Add", 30),
    ]
    tell(provider, "PUT", "/users/p1", {"userName": "p1", "active": False})
    assert other.sent[-1][2]["Operations"][0]["value"]["active"] == "False"
    tell(provider, "DELETE", "/users/p2")
    assert [each[0] for each in other.sent[-2:]] == ["PATCH", "DELETE"]
    assert "p2" not in provider.kept["groups"]["All"]


def test_a_failed_request_is_reported_and_retried(provider: Provider, tmp_path: Path) -> None:
    other: OtherSide = provider.other  # type: ignore[attr-defined]
    other.failing = True
    assert tell(provider, "PUT", "/users/ada", {"userName": "ada"}) == 502
    other.failing = False
    assert tell(provider, "PUT", "/users/ada", {"userName": "ada"}) == 200
    assert "ada" in Provider("Staff", tmp_path / "status").kept["users"]
    assert tell(provider, "GET", "/nothing") == 404
    assert "ada" in str(provider.handle(Call("GET", "/", {}, {})).body)
