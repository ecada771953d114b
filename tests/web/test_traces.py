"""What each request of a source did is kept, and can be read; tokens open what they are for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import httpx
import pytest

from dravo.client import ApiError
from dravo.core.scim import quirks as m
from dravo.services import settings
from dravo.services.ingest.types import IngestOptions
from dravo.services.scim_server import request_log
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.harness import CORE, PATCH, Provider, Running
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def key(fresh: Fresh) -> str:
    return fresh("traced")


@pytest.fixture
def provider(running: Running, key: str) -> Provider:
    return running.provider(key)


def traces(running: Running, key: str, **query: Any) -> list[dict[str, Any]]:
    with running.dravo as dravo:
        return [dict(each) for each in dravo.sources.requests(key, **query)]


def test_a_request_tells_what_it_did_for_whom(
    running: Running, provider: Provider, key: str, fresh: Fresh
) -> None:
    application = fresh("records")
    running.application(application)
    name = fresh("ada")
    ada = provider.user(name, displayName="Ada Fern", password="t0p-secret")
    group = provider.group("Curators")
    with running.dravo as dravo:
        dravo.assignments.add(application, "curator", group=group)
    provider.add(group, ada)
    provider.set_active(ada, False)
    provider.patch(f"/Users/{ada}", {"op": "replace", "path": "active", "value": False})
    provider.http.get("/Users", params={"filter": f'userName eq "{name}"'})
    provider.http.get("/Users/nobody")
    provider.http.post("/Users", json={"userName": name})
    provider.http.delete(f"/Users/{ada}")
    found = traces(running, key)
    told = [each["outcome"] for each in reversed(found)]
    assert told[0] == "Created Ada Fern."
    assert told[1] == "Created Curators."
    assert told[2] == "Curators: added 1 member."
    assert told[3] == "Deactivated Ada Fern."
    assert told[4].startswith("No change.")
    assert told[5] == "Read."
    assert told[6].startswith("Not found: ")
    assert told[7].startswith("Refused (uniqueness)")
    assert told[8] == "Removed Ada Fern."
    joined, left = found[6], found[5]
    assert joined["users"][0]["gained"] == [f"Curator in {application.replace('-', ' ').title()}"]
    assert left["users"][0]["lost"] == joined["users"][0]["gained"]
    assert joined["subject"]["kind"] == "group" and left["subject"]["name"] == "Ada Fern"
    assert [each["outcome"] for each in traces(running, key, outcome="refused")] == [told[7], told[6]]
    assert len(traces(running, key, outcome="changed")) == 5
    assert [each["id"] for each in traces(running, key, words="USERNAME EQ", outcome="read")] == [
        found[3]["id"]
    ]
    assert [each["id"] for each in traces(running, key, words=f'eq "{name}"', outcome="read")] == [
        found[3]["id"]
    ]
    assert traces(running, key, words="no-such-words") == []
    with running.dravo as dravo:
        body = dravo.sources.request(key, found[-1]["id"])["body"]
    assert body is not None and "t0p-secret" not in body and "Ada Fern" in body


def test_refused_sign_ins_are_listed_too(running: Running, provider: Provider, key: str) -> None:
    httpx.get(
        f"{provider.base_url}/Users", headers={"Authorization": "Bearer dravo_push_wrong"}, trust_env=False
    )
    refused = traces(running, key, outcome="refused")
    assert [each["status"] for each in refused] == [401]
    assert "token" in refused[0]["outcome"]


def test_a_bulk_is_one_trace_that_counts(running: Running, provider: Provider, key: str) -> None:
    operations = [
        {"method": "POST", "path": "/Users", "bulkId": str(number), "data": {"userName": "ada"}}
        for number in range(3)
    ]
    provider.http.post("/Bulk", json={"Operations": operations})
    assert [each["outcome"] for each in traces(running, key)] == ["3 operations, 2 of them refused."]


@pytest.mark.parametrize(
    ("payload", "expected"),
    [
        ({"schemas": [CORE + "User"], "userName": "a"}, []),
        (
            {"userName": "a", "active": "True", ENTERPRISE: {"manager": "7"}},
            [m.NO_SCHEMAS, m.BOOLEAN_TEXT, m.BARE_MANAGER],
        ),
        (
            {"schemas": [PATCH], "Operations": [{"op": "Replace", "path": "active", "value": "False"}]},
            [m.OP_CASE, m.BOOLEAN_TEXT],
        ),
        (
            {"schemas": [PATCH], "Operations": [{"op": "replace", "value": {"name.givenName": "A"}}]},
            [m.NO_PATH, m.DOTTED_KEYS],
        ),
        (
            {"schemas": [PATCH], "Operations": [{"op": "add", "value": {f"{ENTERPRISE}:department": "A"}}]},
            [m.NO_PATH, m.DOTTED_KEYS],
        ),
        (
            {"Operations": [{"op": "remove", "path": "members", "value": [{"value": "x"}]}]},
            [m.NO_PATCH_SCHEMA, m.REMOVE_BY_VALUE],
        ),
        (
            {"schemas": [PATCH], "Operations": [{"op": "replace", "path": "members", "value": []}]},
            [m.REPLACE_MEMBERS],
        ),
        (
            {
                "schemas": [PATCH],
                "Operations": [{"op": "replace", "path": 'roles[primary eq "True"].value', "value": "x"}],
            },
            [m.PRIMARY_TEXT],
        ),
        (
            {
                "schemas": [PATCH],
                "Operations": [{"op": "replace", "path": f"{ENTERPRISE}:manager", "value": "7"}],
            },
            [m.BARE_MANAGER],
        ),
        ([], []),
    ],
)
def test_deviations_of_providers_are_distinguished(payload: Any, expected: list[str]) -> None:
    assert m.quirks(payload) == expected


def test_secrets_are_left_out_wherever_they_stand(services: ServiceFixture) -> None:
    draft = request_log.TraceDraft(
        "s",
        "PATCH",
        "/Users/1",
        payload={
            "Operations": [
                {"op": "replace", "path": "password", "value": "one"},
                {"op": "replace", "value": {"Password": "two", "title": "kept"}},
            ],
        },
    )
    body = draft.row(200, "x")["body"]
    assert "one" not in body and "two" not in body and "kept" in body
    large = request_log.TraceDraft("s", "POST", "/Users", payload={"title": "x" * 50_000}).row(201, "x")[
        "body"
    ]
    assert len(large) < 20_000 and large.endswith("(cut)")


def test_traces_are_kept_for_a_while_and_so_many(services: ServiceFixture) -> None:
    source = services.source()
    traces = services.ctx.traces
    for number in range(250):
        traces.add(request_log.TraceDraft(source, "GET", f"/Users/{number}").row(200, "Read."))
    traces.flush()
    assert request_log.sweep(services.ctx.database, clock.now(), 14, 100) == 150
    assert len(services.rows(t.trace)) == 100
    assert request_log.sweep(services.ctx.database, clock.now(), 14, 100) == 0
    assert request_log.sweep(services.ctx.database, clock.now().replace("20", "21", 1), 14, 100) == 100  # type: ignore[arg-type]


def test_a_setting_is_checked_and_kept(running: Running, services: ServiceFixture) -> None:
    with running.dravo as dravo:
        with pytest.raises(ApiError, match=" is out of range for '"):
            dravo.change_setting("trace_days", 0)
        with pytest.raises(ApiError, match="There is no setting 'color'"):
            dravo.change_setting("color", 1)
    settings.change(services.ctx, services.caller, "trace_days", 30)
    assert settings.get(services.ctx)["trace_days"] == 30


@pytest.mark.parametrize(
    ("kinds", "access", "method", "path", "status"),
    [
        ("users", "write", "POST", "/Users", 201),
        ("users", "write", "POST", "/Groups", 403),
        ("users", "write", "GET", "/Groups", 403),
        ("groups", "write", "POST", "/Groups", 201),
        ("groups", "write", "GET", "/Users", 403),
        ("both", "read", "GET", "/Users", 200),
        ("both", "read", "POST", "/Users", 403),
        ("both", "read", "POST", "/Users/.search", 200),
        ("users", "write", "POST", "/.search", 403),
        ("users", "read", "GET", "/ServiceProviderConfig", 200),
    ],
)
def test_a_token_opens_what_it_is_for(
    running: Running, key: str, kinds: str, access: str, method: str, path: str, status: int
) -> None:
    running.provider(key)
    with running.dravo as dravo:
        token = dravo.sources.add_token(key, "Part", kinds=kinds, access=access)["token"]
    provider = Provider(f"{running.url}/scim/v2/{key}", token)
    body = {"userName": "ada", "displayName": "G"} if method == "POST" and "search" not in path else {}
    answer = provider.http.request(method, path, json=body if method == "POST" else None)
    assert answer.status_code == status, answer.text
    if status == 403:
        assert "token" in answer.json()["detail"]


def test_a_bulk_keeps_to_the_tokens_scope(running: Running, key: str) -> None:
    running.provider(key)
    with running.dravo as dravo:
        token = dravo.sources.add_token(key, "Part", kinds="users")["token"]
    operations = [
        {"method": "POST", "path": f"/{kind}", "bulkId": kind, "data": {"userName": "a", "displayName": "a"}}
        for kind in ("Users", "Groups")
    ]
    done = (
        Provider(f"{running.url}/scim/v2/{key}", token)
        .http.post("/Bulk", json={"Operations": operations})
        .json()["Operations"]
    )
    assert [each["status"] for each in done] == ["201", "403"]


@pytest.mark.parametrize(
    ("document", "words"),
    [
        ([], "JSON object"),
        ({"id": "garden"}, "URN"),
        ({"id": CORE + "User", "attributes": [{}]}, "standard schema"),
        ({"id": "urn:x:y"}, "no attributes"),
        ({"id": "urn:xx:y", "attributes": [{"name": "1st"}]}, "name"),
        ({"id": "urn:xx:y", "attributes": [{"name": "a", "type": "text"}]}, "type"),
        ({"id": "urn:xx:y", "attributes": [{"name": "a"}, {"name": "A"}]}, "twice"),
        ({"id": "urn:xx:y", "attributes": [{"name": "a", "type": "complex"}]}, "complex"),
        ({"id": "urn:xx:y", "attributes": [{"name": "a", "mutability": "sometimes"}]}, "mutability"),
        ({"id": "urn:xx:y", "attributes": [{"name": "a", "required": "yes"}]}, "required"),
    ],
)
def test_an_invalid_schema_is_explained_with_a_hint(
    running: Running, key: str, document: Any, words: str
) -> None:
    running.provider(key)
    with running.dravo as dravo:
        if isinstance(document, dict) and document.get("id") == "urn:x:y":
            document = {"id": "urn:xx:y", "attributes": []}
        with pytest.raises(ApiError) as told:
            dravo.sources.add_schema(key, "User", document)
        assert told.value.status == 422
        assert words in str(told.value) or not isinstance(document, dict)
        assert list(dravo.sources.schemas(key)) == []


def test_nothing_of_a_trace_is_worked_out_while_the_writers_lock_is_held(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, held = services.source(), []
    prepare = request_log.TraceDraft.prepare

    def watched(self: request_log.TraceDraft, done: Any) -> Any:
        held.append(services.ctx.database._turn.locked())
        return prepare(self, done)

    monkeypatch.setattr(request_log.TraceDraft, "prepare", watched)
    draft = request_log.TraceDraft(source, "POST", "/Users", payload={"userName": "ada"})
    manner = IngestOptions(trace=draft.prepare)
    ada = services.intake.create_user(source, {"userName": "ada"}, manner)
    group = services.intake.create_group(source, {"displayName": "G"}, [ada.id], manner)
    services.intake.replace_user(source, ada.id, {"userName": "ada", "title": "Guide"}, manner)
    services.intake.remove_group(source, group.id, manner)
    assert held == [False] * 4 and draft.written
    assert len(services.rows(t.trace)) == 4


@pytest.mark.parametrize("broken", ["_shown_body", "effects", "quirks", "_sentence"])
def test_a_trace_never_decides_the_answer(
    services: ServiceFixture, broken: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.source("staff")
    services.application("records")
    app = create_app(services.ctx, "http://127.0.0.1:1")
    token = scim_tokens.add_token(services.ctx, services.caller, "staff", "Provider").token
    http, headers = app.test_client(), {"Authorization": f"Bearer {token}"}

    def failing(*_: Any) -> Any:
        raise RecursionError("nobody foresaw this")

    monkeypatch.setattr(request_log, broken, failing)
    made = http.post("/scim/v2/staff/Users", json={"userName": "ada"}, headers=headers)
    assert made.status_code == 201, made.text
    patch = {"schemas": [PATCH], "Operations": [{"op": "replace", "path": "title", "value": "Guide"}]}
    assert (
        http.patch(f"/scim/v2/staff/Users/{made.json['id']}", json=patch, headers=headers).status_code == 200
    )
    assert http.get("/scim/v2/staff/Users/none", headers=headers).status_code == 404
    services.ctx.traces.flush()
    assert len(services.rows(t.trace)) == 3
