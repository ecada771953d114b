"""How large a request may be: callers are known before their bodies are parsed, and no body takes seconds."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.services.sources import tokens as scim_tokens
from dravo.web.api import auth
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture


@pytest.fixture
def app(services: ServiceFixture) -> Any:
    return create_app(services.ctx, "http://127.0.0.1:1")


@pytest.fixture
def headers(services: ServiceFixture) -> dict[str, str]:
    made = operators.add(
        services.ctx, operators.SYSTEM, NewOperator("edmund", SUPER_ADMINISTRATOR), "a-long-enough-one"
    )
    caller = Caller(made.id, "edmund", SUPER_ADMINISTRATOR)
    return {"Authorization": f"Bearer {api_tokens.create(services.ctx, caller, 'x', 'write').token}"}


def test_the_body_of_a_caller_who_is_not_known_is_not_parsed(
    app: Any, headers: dict[str, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    parsed: list[int] = []
    read = auth.read_json
    monkeypatch.setattr(auth, "read_json", lambda content: parsed.append(len(content)) or read(content))
    body = b"[" + b"1," * 4_000_000 + b"1]"
    for known in ({}, {"Authorization": "Bearer dravo_api_none"}):
        answer = app.test_client().post(
            "/api/v1/sources", data=body, headers=known, content_type="application/json"
        )
        assert answer.status_code == 401
    assert (
        app.test_client()
        .post("/api/v1/session", data=b" " * 70_000, content_type="application/json")
        .status_code
        == 413
    )
    assert not parsed
    answer = app.test_client().post(
        "/api/v1/sources", data=body, headers=headers, content_type="application/json"
    )
    assert (answer.status_code, answer.json["error"]["code"]) == (413, "body_too_large")
    assert "1,048,576" in answer.json["error"]["message"] and answer.json["error"]["hint"]
    assert not parsed


def test_a_user_is_smaller_than_a_group_may_be(app: Any, services: ServiceFixture) -> None:
    services.source("staff")
    token = scim_tokens.add_token(services.ctx, operators.SYSTEM, "staff", "Provider").token
    http, known = app.test_client(), {"Authorization": f"Bearer {token}"}
    large = [{"value": f"{number:036}"} for number in range(30_000)]
    refused = http.post("/scim/v2/staff/Users", json={"userName": "ada", "emails": large}, headers=known)
    assert (refused.status_code, refused.json["status"]) == (413, "413")
    assert http.get("/scim/v2/staff/Users", headers=known).json["totalResults"] == 0
    # It is read, and then refused because nobody has these ids.
    assert (
        http.post(
            "/scim/v2/staff/Groups", json={"displayName": "All", "members": large}, headers=known
        ).status_code
        == 400
    )
    assert http.post("/scim/v2/staff/Users", json={"userName": "ada"}, headers=known).status_code == 201
