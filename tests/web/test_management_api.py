"""The management API: who may what, how errors are told, and the walk over all routes."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import httpx
import pytest
from sqlalchemy import text

from dravo.client import Dravo, InvalidRequest
from dravo.core.errors import InvalidInput, TooManyTries
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.context import AppContext
from dravo.services.security import api_tokens, audit_log, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sources import sources
from dravo.services.sources import tokens as scim_tokens
from dravo.web.app import create_app
from tests.harness import PASSWORD, Running, StandIn
from tests.service_fixture import ServiceFixture, open_context

Fresh = Callable[[str], str]
ONLY_SUPER_ADMINISTRATOR = {
    ("GET", "/api/v1/operators"),
    ("POST", "/api/v1/operators"),
    ("PATCH", "/api/v1/operators/{id}"),
    ("POST", "/api/v1/operators/{id}/disable"),
    ("POST", "/api/v1/operators/{id}/enable"),
    ("POST", "/api/v1/operators/{id}/password"),
    ("POST", "/api/v1/operators/{id}/second-factor/reset"),
}
FOR_ANYBODY = {
    ("POST", "/api/v1/session"),
    ("GET", "/api/v1/sign-in"),
    ("POST", "/api/v1/sign-in/code"),
    ("POST", "/api/v1/sign-in/code/verify"),
    ("POST", "/api/v1/invitation/open"),
    ("POST", "/api/v1/invitation/accept"),
    ("POST", "/api/v1/invitation/accept-with-source"),
    ("POST", "/api/v1/sign-in/password"),
    ("POST", "/api/v1/sign-in/password/passkey"),
    ("POST", "/api/v1/sign-in/password/factor"),
    ("POST", "/api/v1/sign-in/password/new"),
    ("POST", "/api/v1/sign-in/password/forgotten"),
    ("POST", "/api/v1/sign-in/password/reset"),
    ("POST", "/api/v1/session/passkey"),
}


@pytest.fixture(scope="module")
def inside(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Inside]:
    """The application itself, with limits that a walk over all routes does not reach."""
    ctx = open_context(tmp_path_factory.mktemp("walk"))
    app = create_app(ctx, "http://127.0.0.1:1")
    app.config.update(TOKEN_LIMITER=RateLimiter(100_000, 60))
    yield Inside(ctx, app)
    ctx.close()


@dataclass
class Inside:
    """A web application without a server around it."""

    ctx: AppContext
    app: Any

    def routes(self) -> list[tuple[str, str]]:
        return [
            (method.upper(), path)
            for path, methods in self.app.api_doc["paths"].items()
            for method in methods
        ]

    def call(self, method: str, path: str, **headers: str) -> Any:
        """Call a route with nothing in its place; anyone who may not is rejected before that matters."""
        body = {} if method != "GET" else None
        return self.app.test_client().open(
            re.sub(r"{\w+}", "nothing-there", path), method=method, headers=headers, json=body
        )

    def token(self, kind: str, scope: str, **more: Any) -> str:
        made = operators.add(
            self.ctx,
            operators.SYSTEM,
            NewOperator(f"{kind}.{scope}{'.masked' if more.get('masked') else ''}", kind, **more),
        )
        caller = Caller(made.id, made.name, kind)
        return f"Bearer {api_tokens.create(self.ctx, caller, 'Walk', scope).token}"


def test_requests_without_a_token_are_refused(inside: Inside) -> None:
    sources.add(inside.ctx, operators.SYSTEM, "walk", "Walk")
    pushing = scim_tokens.add_token(inside.ctx, operators.SYSTEM, "walk", "Provider").token
    walked = inside.routes()
    assert len(walked) > 40
    for method, path in walked:
        if (method, path) in FOR_ANYBODY:
            continue
        for headers in (
            {},
            {"Authorization": "Bearer dravo_api_none"},
            {"Cookie": "dravo_session=none"},
            {"Authorization": f"Bearer {pushing}"},
        ):
            answer = inside.call(method, path, **headers)
            assert answer.status_code == 401, (method, path, answer.text)
            assert answer.json["error"]["code"] == "not_signed_in"


# What is sent with a body and changes nothing.
HARMLESS = (
    "/api/v1/assignments/preview",
    "/api/v1/assignments/users/preview",
    "/api/v1/assignments/{id}/confirm/preview",
    "/api/v1/session",
    "/api/v1/applications/{key}/settings/preview",
    "/api/v1/applications/{key}/status/preview",
    "/api/v1/applications/{key}/tracked-only/preview",
    "/api/v1/applications/{key}/drift/adopt/preview",
    "/api/v1/expressions/evaluate",
    "/api/v1/assignments/{id}/preview",
    "/api/v1/applications/{key}/policy/preview",
    "/api/v1/applications/{key}/roles/{role}/preview",
    "/api/v1/applications/{key}/license-plans/{plan}/preview",
    "/api/v1/applications/{key}/drift/repair/preview",
    "/api/v1/sources/{key}/sign-in/status/preview",
    "/api/v1/sources/{key}/sign-in/protocol/preview",
    "/api/v1/sources/{key}/group-matches",
    "/api/v1/applications/{key}/mapping/pattern",
    "/api/v1/rules/matches",
    "/api/v1/access/simulate",
    "/api/v1/users/{user}/preview",
    "/api/v1/groups/{id}/authority/preview",
    "/api/v1/groups/{id}/members/preview",
    "/api/v1/reviews/{id}/preview",
    "/api/v1/sources/{key}/priority/preview",
    "/api/v1/sources/{key}/hand-over/preview",
    "/api/v1/sources/{key}/retire/preview",
    "/api/v1/sources/{key}/policy/{connection_type}/preview",
    "/api/v1/sources/{key}/policy/{connection_type}/status/preview",
    "/api/v1/user-marks/preview",
    "/api/v1/users/{user}/erase/preview",
    "/api/v1/user-marks/remove/preview",
    "/api/v1/records/{record}/link/preview",
    "/api/v1/jobs/{id}",
    "/api/v1/sources/{key}/sign-in/traces/{trace}/rerun",
    "/api/v1/me/session",
    "/api/v1/me/requests",
    "/api/v1/me/requests/{id}",
    "/api/v1/access/requests/{id}/approve/preview",
    "/api/v1/sign-in/code",
    "/api/v1/sign-in/code/verify",
    "/api/v1/notifications/texts/{kind}/preview",
    "/api/v1/local-users/delete/preview",
    "/api/v1/invitation/open",
    "/api/v1/invitation/accept",
    "/api/v1/invitation/accept-with-source",
    "/api/v1/sign-in/password",
    "/api/v1/sign-in/password/passkey",
    "/api/v1/sign-in/password/factor",
    "/api/v1/sign-in/password/new",
    "/api/v1/sign-in/password/forgotten",
    "/api/v1/sign-in/password/reset",
    "/api/v1/session/passkey",
    "/api/v1/me/second-factor",
    "/api/v1/me/second-factor/disable",
    "/api/v1/me/passkeys",
    "/api/v1/me/passkeys/ask",
    "/api/v1/me/passkeys/begin",
    "/api/v1/me/passkeys/{id}/delete",
    "/api/v1/me/recovery-codes",
    "/api/v1/me/password",
)


def test_a_token_for_reading_changes_nothing(inside: Inside) -> None:
    for kind in ("super_administrator", "administrator"):
        reading = inside.token(kind, "read")
        for method, path in inside.routes():
            harmless = method == "GET" or path in HARMLESS
            if kind == "administrator" and (method, path) in ONLY_SUPER_ADMINISTRATOR:
                harmless = False
            answer = inside.call(method, path, Authorization=reading)
            assert (answer.status_code != 403) == harmless, (kind, method, path, answer.text)


# What others than super administrator and administrator may call beyond reading: their own session and
# tokens; and what is looked at with a body.
OWN = {
    ("DELETE", "/api/v1/session"),
    ("POST", "/api/v1/session"),
    ("POST", "/api/v1/tokens"),
    ("DELETE", "/api/v1/tokens/{id}"),
    ("DELETE", "/api/v1/jobs/{id}"),
    ("DELETE", "/api/v1/me/session"),
    ("POST", "/api/v1/me/requests"),
    ("DELETE", "/api/v1/me/requests/{id}"),
    ("POST", "/api/v1/second-factor"),
    ("PUT", "/api/v1/second-factor"),
    ("POST", "/api/v1/second-factor/disable"),
    ("POST", "/api/v1/recovery-codes"),
    ("PUT", "/api/v1/session/links"),
    ("DELETE", "/api/v1/session/others"),
    ("PUT", "/api/v1/session/password"),
    ("DELETE", "/api/v1/session/links/{id}"),
    ("POST", "/api/v1/sign-in/code"),
    ("POST", "/api/v1/sign-in/code/verify"),
    ("POST", "/api/v1/invitation/open"),
    ("POST", "/api/v1/invitation/accept"),
    ("POST", "/api/v1/invitation/accept-with-source"),
    ("POST", "/api/v1/sign-in/password"),
    ("POST", "/api/v1/sign-in/password/passkey"),
    ("POST", "/api/v1/sign-in/password/factor"),
    ("POST", "/api/v1/sign-in/password/new"),
    ("POST", "/api/v1/sign-in/password/forgotten"),
    ("POST", "/api/v1/sign-in/password/reset"),
    ("POST", "/api/v1/session/passkey"),
    ("POST", "/api/v1/second-factor/passkeys"),
    ("POST", "/api/v1/second-factor/passkeys/ask"),
    ("POST", "/api/v1/second-factor/passkeys/begin"),
    ("POST", "/api/v1/second-factor/passkeys/{id}/delete"),
    ("POST", "/api/v1/me/second-factor"),
    ("PUT", "/api/v1/me/second-factor"),
    ("POST", "/api/v1/me/second-factor/disable"),
    ("POST", "/api/v1/me/passkeys"),
    ("POST", "/api/v1/me/passkeys/ask"),
    ("POST", "/api/v1/me/passkeys/begin"),
    ("POST", "/api/v1/me/passkeys/{id}/delete"),
    ("POST", "/api/v1/me/recovery-codes"),
    ("PUT", "/api/v1/me/password"),
}
LOOKED_AT = {
    ("POST", path)
    for path in (
        "/api/v1/assignments/preview",
        "/api/v1/assignments/users/preview",
        "/api/v1/assignments/{id}/preview",
        "/api/v1/assignments/{id}/confirm/preview",
        "/api/v1/applications/{key}/settings/preview",
        "/api/v1/applications/{key}/status/preview",
        "/api/v1/applications/{key}/tracked-only/preview",
        "/api/v1/applications/{key}/drift/adopt/preview",
        "/api/v1/access/requests/{id}/approve/preview",
        "/api/v1/applications/{key}/policy/preview",
        "/api/v1/applications/{key}/roles/{role}/preview",
        "/api/v1/applications/{key}/license-plans/{plan}/preview",
        "/api/v1/applications/{key}/drift/repair/preview",
        "/api/v1/sources/{key}/sign-in/status/preview",
        "/api/v1/sources/{key}/sign-in/protocol/preview",
        "/api/v1/sources/{key}/group-matches",
        "/api/v1/applications/{key}/mapping/pattern",
        "/api/v1/expressions/evaluate",
        "/api/v1/rules/matches",
        "/api/v1/access/simulate",
        "/api/v1/users/{user}/preview",
        "/api/v1/groups/{id}/authority/preview",
        "/api/v1/groups/{id}/members/preview",
        "/api/v1/reviews/{id}/preview",
        "/api/v1/sources/{key}/priority/preview",
        "/api/v1/sources/{key}/hand-over/preview",
        "/api/v1/sources/{key}/retire/preview",
        "/api/v1/sources/{key}/policy/{connection_type}/preview",
        "/api/v1/sources/{key}/policy/{connection_type}/status/preview",
        "/api/v1/user-marks/preview",
        "/api/v1/users/{user}/erase/preview",
        "/api/v1/user-marks/remove/preview",
        "/api/v1/records/{record}/link/preview",
        "/api/v1/sources/{key}/sign-in/traces/{trace}/rerun",
        "/api/v1/notifications/texts/{kind}/preview",
        "/api/v1/local-users/delete/preview",
    )
}
AGAIN = {
    ("POST", "/api/v1/provisioning/tasks/{id}/retry"),
    ("POST", "/api/v1/applications/{key}/groups/{id}/retry"),
}
# What names users, and where messages go.
OF_NOTIFICATIONS = {
    ("GET", "/api/v1/notifications"),
    ("GET", "/api/v1/notifications/kinds"),
    ("GET", "/api/v1/notifications/rules"),
    ("GET", "/api/v1/notifications/webhooks"),
    ("GET", "/api/v1/notifications/webhook-schema"),
    ("GET", "/api/v1/notifications/messages"),
    ("GET", "/api/v1/notifications/texts"),
    ("GET", "/api/v1/notifications/announcements"),
    ("POST", "/api/v1/notifications/texts/{kind}/preview"),
}
AUDITED = {
    ("GET", "/api/v1/mail"),
    ("GET", "/api/v1/audit"),
    ("GET", "/api/v1/audit/verify"),
    ("GET", "/api/v1/audit/{id}/undo"),
    *OF_NOTIFICATIONS,
}
# What shows, or lets one find out, what users' attributes are.
OF_ATTRIBUTES = {
    *OF_NOTIFICATIONS,
    ("GET", "/api/v1/users/{user}/local"),
    ("GET", "/api/v1/accounts/{id}"),
    ("GET", "/api/v1/applications/{key}/drift"),
    ("POST", "/api/v1/applications/{key}/drift/repair/preview"),
    ("POST", "/api/v1/applications/{key}/drift/adopt/preview"),
    ("GET", "/api/v1/applications/{key}/account-comparison"),
    ("GET", "/api/v1/sources/{key}/requests/{id}"),
    ("POST", "/api/v1/rules/matches"),
    ("POST", "/api/v1/applications/{key}/settings/preview"),
    ("POST", "/api/v1/expressions/evaluate"),
    ("POST", "/api/v1/users/{user}/preview"),
    ("GET", "/api/v1/sources/{key}/import/runs/{run}/entries"),
    ("POST", "/api/v1/sources/{key}/policy/{connection_type}/preview"),
    ("GET", "/api/v1/sources/{key}/left-out"),
    ("GET", "/api/v1/sources/{key}/links"),
    ("POST", "/api/v1/sources/{key}/priority/preview"),
    ("POST", "/api/v1/sources/{key}/hand-over/preview"),
    ("POST", "/api/v1/sources/{key}/retire/preview"),
    ("POST", "/api/v1/user-marks/preview"),
    ("POST", "/api/v1/user-marks/remove/preview"),
    ("POST", "/api/v1/records/{record}/link/preview"),
    ("POST", "/api/v1/sources/{key}/sign-in/traces/{trace}/rerun"),
}


def may(kind: str, masked: bool, route: tuple[str, str]) -> bool:
    """Whether a kind of operator may call a route."""
    if kind == "super_administrator":
        return True
    if route in ONLY_SUPER_ADMINISTRATOR or (masked and route in OF_ATTRIBUTES):
        return False
    if kind == "help_desk" and route in OF_NOTIFICATIONS:
        return False
    if kind == "administrator" or route in OWN | LOOKED_AT:
        return True
    if route[0] != "GET":
        return kind == "help_desk" and route in AGAIN
    return kind == "auditor" or route not in AUDITED


@pytest.mark.parametrize(
    ("kind", "masked"), [("auditor", False), ("auditor", True), ("help_desk", False), ("help_desk", True)]
)
def test_every_route_with_every_kind_of_operator(inside: Inside, kind: str, masked: bool) -> None:
    writing = inside.token(kind, "write", masked=masked)
    for method, path in inside.routes():
        answer = inside.call(method, path, Authorization=writing)
        assert (answer.status_code != 403) == may(kind, masked, (method, path)), (method, path, answer.text)


# What an application owner may call for an application of their own, beyond what is nobody's in particular.
OF_THEIRS = {
    ("GET", "/api/v1/applications/{key}/seats"),
    ("GET", "/api/v1/applications/{key}"),
    ("GET", "/api/v1/applications/{key}/removal"),
    ("GET", "/api/v1/applications/{key}/icon"),
    ("GET", "/api/v1/applications/{key}/mapping"),
    ("POST", "/api/v1/applications/{key}/mapping/bulk"),
    ("POST", "/api/v1/applications/{key}/mapping/pattern"),
    ("POST", "/api/v1/applications/{key}/policy/preview"),
    ("POST", "/api/v1/applications/{key}/roles/{role}/preview"),
    ("POST", "/api/v1/applications/{key}/license-plans/{plan}/preview"),
    ("GET", "/api/v1/users/{user}/access/{application}"),
    ("GET", "/api/v1/applications/{key}/checklist"),
    ("GET", "/api/v1/applications/{key}/manual-tasks"),
    ("GET", "/api/v1/applications/{key}/manual-tasks/export"),
    ("POST", "/api/v1/applications/{key}/manual-tasks/done"),
    ("POST", "/api/v1/applications/{key}/manual-tasks/open"),
    ("POST", "/api/v1/applications/{key}/manual-tasks/comparison"),
    ("POST", "/api/v1/applications/{key}/tracked-only/preview"),
}
BY_NAME = {
    ("GET", path)
    for path in (
        "/api/v1/assignments",
        "/api/v1/access",
        "/api/v1/accounts",
        "/api/v1/provisioning/tasks",
        "/api/v1/provisioning/errors",
        "/api/v1/access/matrix",
        "/api/v1/access/matrix/export",
        "/api/v1/access/changes",
        "/api/v1/activity",
        "/api/v1/reviews/{id}/rows",
        "/api/v1/access/matrix/groups",
    )
} | {
    ("POST", f"/api/v1/{path}")
    for path in (
        "assignments",
        "assignments/preview",
        "assignments/users",
        "assignments/users/preview",
        "reviews/{id}/preview",
        "reviews/{id}/decide",
    )
}
OF_ASSIGNMENTS = {(method, "/api/v1/assignments/{id}") for method in ("GET", "PUT", "DELETE")} | {
    ("POST", "/api/v1/assignments/{id}/preview"),
    ("GET", "/api/v1/assignments/{id}/removal"),
    ("GET", "/api/v1/assignments/{id}/waiting"),
    ("POST", "/api/v1/assignments/{id}/confirm"),
    ("POST", "/api/v1/assignments/{id}/confirm/preview"),
}
NOBODYS = OWN | {
    ("GET", path)
    for path in (
        "/api/v1/me/security",
        "/api/v1/session",
        "/api/v1/jobs/{id}",
        "/api/v1/overview",
        "/api/v1/settings",
        "/api/v1/tokens",
        "/api/v1/applications",
        "/api/v1/users",
        "/api/v1/groups",
        "/api/v1/reviews",
        "/api/v1/reviews/{id}",
        "/api/v1/sign-in",
        "/api/v1/me/applications",
        "/api/v1/me/requests",
        "/api/v1/me/applications/{key}/icon",
        "/api/v1/access/requests",
        "/api/v1/second-factor",
        "/api/v1/session/links",
        "/api/v1/session/others",
    )
}


def test_an_application_owner_sees_only_own_applications(inside: Inside) -> None:
    ctx = inside.ctx
    for key in ("mine", "other"):
        applications.add(ctx, operators.SYSTEM, key, key.title(), None, tracked_only=True)
        roles.add_role(ctx, operators.SYSTEM, key, "viewer", RoleEdit("Viewer", 1))
    made = {
        key: assignments.add(ctx, operators.SYSTEM, AssignmentRequest(key, "viewer", everyone=True)).id
        for key in ("mine", "other")
    }
    token = inside.token("application_owner", "write", applications=["mine"])

    def status(method: str, path: str, own: bool) -> int:
        key = "mine" if own else "other"
        at = path.replace("{application}", key).replace("{key}", key)
        if path.startswith("/api/v1/assignments/{id}"):
            at = at.replace("{id}", made[key])
        at = re.sub(r"{\w+}", "nothing-there", at)
        asked = (method, path) in BY_NAME
        query = {"application": key} if asked and method == "GET" else {}
        body = ({"application": key} if asked else {}) if method != "GET" else None
        client = inside.app.test_client()
        return int(
            client.open(
                at, method=method, headers={"Authorization": token}, query_string=query, json=body
            ).status_code
        )

    for method, path in inside.routes():
        route = (method, path)
        # Taking it away for real comes last.
        if route == ("DELETE", "/api/v1/assignments/{id}"):
            continue
        theirs = route in OF_THEIRS | BY_NAME | OF_ASSIGNMENTS
        assert (status(method, path, own=True) != 403) == (theirs or route in NOBODYS), route
        assert (status(method, path, own=False) != 403) == (route in NOBODYS), route
    assert status("DELETE", "/api/v1/assignments/{id}", own=False) == 403
    assert status("DELETE", "/api/v1/assignments/{id}", own=True) == 204
    client, headers = inside.app.test_client(), {"Authorization": token}
    assert [each["key"] for each in client.get("/api/v1/applications", headers=headers).json["items"]] == [
        "mine"
    ]
    # Naming two, or naming the other one in the body, is no way around.
    assert client.get("/api/v1/access?application=mine&application=other", headers=headers).status_code == 403
    assert client.get("/api/v1/access", headers=headers).status_code == 403
    assert (
        client.post(
            "/api/v1/assignments?application=mine",
            headers=headers,
            json={"application": "other", "everyone": True},
        ).status_code
        == 403
    )
    assert client.post("/api/v1/assignments", headers=headers, json=["mine"]).status_code == 403
    told = client.get("/api/v1/applications/other", headers=headers).json["error"]
    assert (
        told == client.get("/api/v1/applications/none", headers=headers).json["error"]
        and "mine" in told["hint"]
    )


def test_attributes_are_masked(inside: Inside) -> None:
    services = ServiceFixture(inside.ctx.folder / "masked")
    source = services.source()
    services.user(
        source, "ada", title="Guide", externalId="ext of ada", emails=[{"value": "ada@fernhollow.example"}]
    )
    app = create_app(services.ctx, "http://127.0.0.1:1")
    services.application("desk", "viewer")
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "viewer", user="ada"))
    masked = Inside(services.ctx, app).token("auditor", "read", masked=True)
    seen = "".join(
        app.test_client().get(path, headers={"Authorization": masked}).get_data(as_text=True)
        for path in (
            "/api/v1/users",
            "/api/v1/users/ada",
            "/api/v1/access/matrix",
            "/api/v1/access/matrix/export?form=csv",
            "/api/v1/access/matrix/export?form=json",
        )
    )
    assert "ada" in seen and "•••@fernhollow.example" in seen
    body = {"userName": "eve", "title": "Guide of moss"}
    pushing = {
        "Authorization": "Bearer "
        f"{scim_tokens.add_token(services.ctx, operators.SYSTEM, 'staff', 'Provider').token}"
    }
    app.test_client().post("/scim/v2/staff/Users", json=body, headers=pushing)
    app.test_client().get('/scim/v2/staff/Users?filter=title eq "Guide of moss"', headers=pushing)
    asked = app.test_client().get("/api/v1/sources/staff/requests", headers={"Authorization": masked})
    assert len(asked.json["items"]) == 2 and "moss" not in asked.text
    looked = app.test_client().get("/api/v1/sources/staff/requests?q=moss", headers={"Authorization": masked})
    assert looked.json["total"] == 0, "looking for a value is no way to find it out"
    for value in ("ada@fernhollow", "Guide", "ext of ada"):
        assert value not in seen
    whole = Inside(services.ctx, app).token("auditor", "write")
    assert "Guide" in app.test_client().get("/api/v1/users/ada", headers={"Authorization": whole}).text
    services.ctx.close()


@pytest.mark.parametrize(
    ("kind", "more", "words"),
    [
        (
            "auditor",
            {"applications": ["x"]},
            "Only an application owner has applications",
        ),
        ("super_administrator", {"masked": True}, "Attributes cannot be masked"),
        ("application_owner", {"hidden_areas": ["audit"]}, "Areas cannot be hidden"),
        ("auditor", {"hidden_areas": ["archive"]}, "'archive' is not an area"),
        ("auditor", {"email": "nowhere"}, "nowhere"),
        ("king", {}, "' is not a valid kind of operator"),
    ],
)
def test_an_operator_who_makes_no_sense_is_refused(
    services: ServiceFixture, kind: str, more: dict[str, Any], words: str
) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        operators.add(services.ctx, services.caller, NewOperator("somebody", kind, **more))
    assert told.value.hint


def test_administrators_lack_super_administrator_permissions(inside: Inside) -> None:
    writing = inside.token("administrator", "write")
    for method, path in inside.routes():
        answer = inside.call(method, path, Authorization=writing)
        assert (answer.status_code == 403) == ((method, path) in ONLY_SUPER_ADMINISTRATOR), (
            method,
            path,
            answer.text,
        )


def test_every_route_names_its_permission(inside: Inside) -> None:
    for rule in inside.app.url_map.iter_rules():
        if rule.rule.startswith("/api/v1/") and not rule.rule.endswith(("openapi.json", "/api/v1/")):
            assert getattr(inside.app.view_functions[rule.endpoint], "permission", None), rule.rule


def test_the_document_says_what_each_route_takes_gives_and_needs(running: Running) -> None:
    document = httpx.get(f"{running.url}/api/v1/openapi.json", timeout=60).json()
    known = set(document["components"]["schemas"])
    for path, operations in document["paths"].items():
        for method, operation in operations.items():
            assert operation["summary"], (method, path)
            assert operation["x-permission"], (method, path)
            assert "4XX" in operation["responses"]
            assert any(status.startswith("2") for status in operation["responses"]), (method, path)
            assert {each["name"] for each in operation.get("parameters", []) if each["in"] == "path"} == set(
                re.findall(r"{(\w+)}", path)
            )
            for reference in re.findall(r"#/components/schemas/(\w+)", str(operation)):
                assert reference in known


def sign_in(running: Running, name: str, password: str) -> httpx.Client:
    session = httpx.Client(base_url=running.url)
    answer = session.post("/api/v1/session", json={"name": name, "password": password})
    assert answer.status_code == 200, answer.text
    session.headers["X-Dravo-CSRF"] = answer.json()["csrf"]
    return session


def test_a_session_needs_its_csrf_token_to_change_anything(running: Running, fresh: Fresh) -> None:
    session = sign_in(running, "Edmund.Sallow", PASSWORD)
    cookie = next(iter(session.cookies.jar))
    assert cookie.has_nonstandard_attr("HttpOnly")
    assert cookie.get_nonstandard_attr("SameSite") == "Strict"
    body = {"key": fresh("source"), "label": "Staff"}
    assert session.post("/api/v1/sources", json=body, headers={"X-Dravo-CSRF": "guessed"}).status_code == 403
    assert session.post("/api/v1/sources", json=body).status_code == 201
    assert session.delete("/api/v1/session").json() == {"go_to": ""}
    assert session.get("/api/v1/overview").status_code == 401


def test_wrong_passwords_are_limited_and_tell_nothing(running: Running, fresh: Fresh) -> None:
    unknown = httpx.post(
        f"{running.url}/api/v1/session", json={"name": fresh("nobody"), "password": "x"}
    ).json()
    with running.dravo as dravo:
        made = dravo.operators.add(fresh("operator"), "administrator")
    tries = [
        httpx.post(f"{running.url}/api/v1/session", json={"name": made["name"], "password": "wrong"})
        for _ in range(3)
    ]
    assert [answer.json() for answer in tries] == [unknown] * 3


def test_a_limiter_turns_away_after_too_many_failures() -> None:
    limiter = RateLimiter(3, 60)
    for _ in range(3):
        limiter.check("ada", "10.0.0.1")
        limiter.failed("ada", "10.0.0.1")
    with pytest.raises(TooManyTries):
        limiter.check("ada", "10.0.0.2")
    limiter.check("bob", "10.0.0.3")


def test_an_operator_who_is_shut_out_is_out_at_once_and_the_last_super_administrator_stays(
    running: Running, fresh: Fresh
) -> None:
    with running.dravo as dravo:
        made = dravo.operators.add(fresh("operator"), "administrator")
        session = sign_in(running, made["name"], str(made["password"]))
        token = session.post("/api/v1/tokens", json={"label": "x", "scope": "write"}).json()["token"]
        assert Dravo(running.url, token).overview()
        dravo.operators.disable(made["id"])
        assert session.get("/api/v1/overview").status_code == 401
        assert (
            httpx.get(
                f"{running.url}/api/v1/overview", headers={"Authorization": f"Bearer {token}"}
            ).status_code
            == 401
        )
        # Whatever super administrators other tests made go first: this test must never shut out the one by
        # whom all go on.
        super_admin, *others = sorted(
            (
                each
                for each in dravo.operators.list()
                if each["kind"] == "super_administrator" and not each["disabled_at"]
            ),
            key=lambda each: each["name"] != "edmund.sallow",
        )
        for each in others:
            dravo.operators.disable(each["id"])
        refused = httpx.post(
            f"{running.url}/api/v1/operators/{super_admin['id']}/disable",
            headers={"Authorization": f"Bearer {running.api_token}"},
        )
        assert (refused.status_code, refused.json()["error"]["code"]) == (409, "in_use")


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "words"),
    [
        ("POST", "/sources", {"key": "Not A Key", "label": "x"}, 422, "' is not a valid key."),
        ("POST", "/sources", {"kee": "x"}, 422, "is missing"),
        ("POST", "/applications", {"key": "x", "label": "  "}, 422, "1 to 200 characters"),
        ("GET", "/users/nobody-at-all", None, 404, "There is no user"),
        ("GET", "/users?after=nonsense", None, 422, "cursor"),
        ("GET", "/users?count=9999", None, 422, "count"),
        ("GET", "/applications/none", None, 404, "There is no application"),
        (
            "POST",
            "/assignments",
            {"application": "none", "role": "x", "user": "y"},
            404,
            "There is no application",
        ),
        (
            "POST",
            "/assignments",
            {"application": "none", "role": "x"},
            422,
            "The assignment needs exactly one target.",
        ),
        ("POST", "/provisioning/tasks/none/retry", None, 404, "There is no task with the ID"),
        ("GET", "/nothing", None, 404, ""),
    ],
)
def test_an_error_says_what_is_wrong_and_the_hint(
    running: Running, method: str, path: str, body: Any, status: int, words: str
) -> None:
    headers = {"Authorization": f"Bearer {running.api_token}"}
    answer = httpx.request(method, f"{running.url}/api/v1{path}", json=body, headers=headers)
    assert answer.status_code == status, answer.text
    assert words in answer.json()["error"]["message"]


def test_malformed_json_is_explained(running: Running) -> None:
    headers = {"Authorization": f"Bearer {running.api_token}", "Content-Type": "application/json"}
    answer = httpx.post(f"{running.url}/api/v1/sources", content='{"key": ', headers=headers)
    assert answer.status_code == 400
    assert "not JSON" in answer.json()["error"]["message"]


def test_a_group_of_the_same_name_in_another_source_gives_nothing(running: Running, fresh: Fresh) -> None:
    records, first, second = fresh("records"), fresh("source"), fresh("source")
    running.application(records)
    name, same = fresh("ada"), fresh("Curators")
    mine, theirs = running.provider(first), running.provider(second)
    mine.group(same, [mine.user(name)])
    stranger = fresh("mallory")
    theirs.group(same, [theirs.user(stranger)])
    with running.dravo as dravo:
        with pytest.raises(InvalidRequest, match="2 groups have the name"):
            dravo.assignments.add(records, "curator", group=same)
        dravo.assignments.add(records, "curator", group=same, source=first)
        assert dravo.users.get(name)["access"]
        assert dravo.users.get(stranger)["access"] == []


def test_a_secret_is_shown_once_and_never_again(running: Running, app: StandIn, fresh: Fresh) -> None:
    source, records = fresh("source"), fresh("records")
    running.provider(source)
    secret = running.push_tokens[source]
    running.application(records, app)
    headers = {"Authorization": f"Bearer {running.api_token}"}
    paths = [
        f"/sources/{source}/tokens",
        f"/sources/{source}/checklist",
        f"/applications/{records}",
        "/audit?count=500",
        "/tokens",
        "/openapi.json",
    ]
    for path in paths:
        text = httpx.get(f"{running.url}/api/v1{path}", headers=headers, timeout=60).text
        for hidden in (secret, app.token, running.api_token, PASSWORD):
            assert hidden not in text, path
    stored = (
        b"".join(file.read_bytes() for file in running.folder.glob("dravo.sqlite*"))
        + (running.folder / "service.log").read_bytes()
    )
    for hidden in (secret, app.token, running.api_token, PASSWORD):
        assert hidden.encode() not in stored


def test_another_host_clears_the_secret_of_a_connection(running: Running, app: StandIn, fresh: Fresh) -> None:
    records = fresh("records")
    running.application(records, app)
    headers = {"Authorization": f"Bearer {running.api_token}"}
    path = f"{running.url}/api/v1/applications/{records}/connection"
    kept = httpx.put(path, json={"base_url": app.base_url + "/"}, headers=headers)
    assert kept.json()["connection"]["base_url"] == app.base_url
    moved = httpx.put(path, json={"base_url": "https://elsewhere.example/scim/v2"}, headers=headers)
    assert (moved.status_code, moved.json()["error"]["field"]) == (422, "token")


def test_removing_is_refused_while_it_would_take_something_along(running: Running, fresh: Fresh) -> None:
    source, records = fresh("source"), fresh("records")
    provider = running.provider(source)
    name = fresh("ada")
    provider.user(name)
    running.application(records)
    with running.dravo as dravo:
        for removing in (
            lambda: dravo.sources.remove(source),
            lambda: dravo.applications.remove(records, "wrong label"),
        ):
            with pytest.raises(Exception, match=r"has reported users or groups|also deletes its history"):
                removing()
        made = dravo.assignments.add(records, "viewer", user=name)
        label = dravo.applications.get(records)["label"]
        for removing in (
            lambda: dravo.applications.remove_role(records, "viewer"),
            lambda: dravo.applications.remove(records, label),
        ):
            with pytest.raises(Exception, match=r"given by|assignments"):
                removing()
        with pytest.raises(Exception, match="already"):
            dravo.assignments.add(records, "viewer", user=name)
        assert dravo.assignments.preview_removal(made["id"])["lost"] == 1
        dravo.assignments.remove(made["id"])
        unused = fresh("unused")
        dravo.sources.add(unused, "Unused")
        dravo.sources.remove(unused)


def test_the_audit_log_tells_who_did_what_and_notices_tampering(
    running: Running, fresh: Fresh, tmp_path: Any
) -> None:
    source = fresh("source")
    with running.dravo as dravo:
        dravo.sources.add(source, "Staff")
        entry = dravo.audit().page(count=1).items[0]
        assert (entry["operator"], entry["action"], entry["details"]["key"]) == (
            "edmund.sallow",
            "added source",
            source,
        )
        assert dravo.audit_verification()["holds"]
    ctx = open_context(tmp_path)
    for number in range(3):
        sources.add(ctx, operators.SYSTEM, f"source-{number}", "Staff")
    with ctx.database.reading() as connection:
        assert audit_log.verify_chain(connection, ctx.keys) is None
    with ctx.database.writing() as connection:
        connection.execute(text("""UPDATE audit SET details = '{"key": "other"}' WHERE id = 2"""))
    with ctx.database.reading() as connection:
        assert audit_log.verify_chain(connection, ctx.keys) == 2


def test_pages_follow_each_other_without_gap_or_double(running: Running, fresh: Fresh) -> None:
    provider = running.provider(fresh("source"))
    mark = fresh("paged")
    for number in range(11):
        provider.user(f"{mark}.{number}", displayName=f"{mark} {number % 3}")
    with running.dravo as dravo:
        pages = dravo.users.list(words=mark)
        names, after = [], None
        while True:
            page = pages.page(after, 4)
            assert page.total == 11
            names += [each["user_name"] for each in page.items]
            after = page.next
            if after is None:
                break
    assert len(names) == len(set(names)) == 11


def test_health_and_api_document_are_public(running: Running) -> None:
    assert httpx.get(f"{running.url}/healthz").json()["status"] == "alive"
    assert httpx.get(f"{running.url}/readyz").status_code == 200
    page = httpx.get(f"{running.url}/api/v1/")
    assert "/api/v1/users/{user}/access/{application}" in page.text
    assert "unsafe-inline" not in page.headers["Content-Security-Policy"]
    for path in ("/../../etc/passwd", "/assets/..%2f..%2f..%2fapp.py", "/%2e%2e/app.py"):
        assert "import" not in httpx.get(running.url + path).text


def test_unknown_query_parameters_are_refused_with_the_nearest(running: Running) -> None:
    def get(path: str) -> httpx.Response:
        return httpx.get(
            f"{running.url}/api/v1{path}",
            headers={"Authorization": f"Bearer {running.api_token}"},
            trust_env=False,
        )

    wrong = get("/users?satus=active")
    assert (wrong.status_code, wrong.json()["error"]["code"]) == (400, "unknown_parameter")
    assert (wrong.json()["error"]["field"], wrong.json()["error"]["hint"]) == (
        "satus",
        "Did you mean 'status'?",
    )
    assert get("/connectors?q=x").json()["error"]["hint"] == "Remove the parameter."
    assert get("/users?status=active").status_code == 200
