"""What operators read, search and look up never tells them what their view masks: attributes of users, names,
network addresses.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.provisioning import attempts as attempt_rows
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

# Each stands in one attribute of one user only.
TITLE, EXTERNAL, LOCAL_PART, PHONE = "Keeper of moss", "ext-quartz-7", "sorrel.post", "+44 20 7946 0001"
SECRETS = (TITLE, EXTERNAL, LOCAL_PART, PHONE, "moss")
EMAIL = f"{LOCAL_PART}@fernhollow.example"
RULE = f'title eq "{TITLE}"'


@dataclass
class Office:
    """A service in this process with operators of several roles."""

    services: ServiceFixture
    app: Any
    ids: dict[str, str]

    def headers(self, kind: str, **more: Any) -> dict[str, str]:
        made = operators.add(
            self.services.ctx,
            operators.SYSTEM,
            NewOperator(f"{kind} {len(self.services.rows(t.operator))}", kind, **more),
        )
        token = api_tokens.create(self.services.ctx, Caller(made.id, made.name, kind), "Walk", "write").token
        return {"Authorization": f"Bearer {token}"}

    def reads(self) -> list[str]:
        """Return the paths of all routes that read, with the IDs of this office in their places."""
        paths = [path for path, methods in self.app.api_doc["paths"].items() if "get" in methods]
        return [self.at(path) for path in paths]

    def at(self, path: str) -> str:
        places = {
            "{user}": "ada",
            "{application}": "desk",
            "{trace}": self.ids["trace"],
            "{id}": self._id_of(path),
            "{key}": "staff" if path.startswith("/api/v1/sources") else "desk",
            "{run}": "import" if path.startswith("/api/v1/sources") else "reconciliation",
        }
        for place, value in places.items():
            path = path.replace(place, value)
        return path

    def _id_of(self, path: str) -> str:
        for part in ("reviews", "assignments", "groups", "tasks", "requests"):
            if f"/{part}/" in path:
                return self.ids.get(part, "none")
        return "none"


@pytest.fixture
def office(services: ServiceFixture) -> Iterator[Office]:
    ctx = services.ctx
    app = create_app(ctx, "http://127.0.0.1:1")
    services.source("staff", "fernhollow.example")
    services.source("estates")
    services.application("desk", "viewer")
    http = app.test_client()
    body = {
        "userName": "ada",
        "displayName": "Ada Birch",
        "title": TITLE,
        "externalId": EXTERNAL,
        "emails": [{"value": EMAIL}],
        "phoneNumbers": [{"value": PHONE}],
    }
    tokens = {
        key: scim_tokens.add_token(ctx, operators.SYSTEM, key, "Provider").token
        for key in ("staff", "estates")
    }
    for key, user in (("staff", body), ("estates", {**body, "userName": "a.birch"})):
        sent = http.post(
            f"/scim/v2/{key}/Users", json=user, headers={"Authorization": f"Bearer {tokens[key]}"}
        )
        assert sent.status_code == 201, sent.text
    http.get(
        f'/scim/v2/staff/Users?filter=emails.value eq "{EMAIL}"',
        headers={"Authorization": f"Bearer {tokens['staff']}"},
    )
    ids = {
        "assignments": assignments.add(
            ctx, operators.SYSTEM, AssignmentRequest("desk", "viewer", rule=RULE)
        ).id
    }
    ids["reviews"] = access_reviews.start(
        ctx, operators.SYSTEM, "Spring", "2099-04-02", View(application="desk")
    ).id
    source = services.rows(t.source, key="staff")[0]
    user = services.rows(t.user, user_name="ada")[0]
    with ctx.database.writing() as connection:
        row = {
            "source_id": source.id,
            "outcome": "refused",
            "reason": "outside",
            "message": f"{EMAIL} is outside.",
            "hint": f"Look for {EMAIL}.",
            "name": EMAIL,
            "user_id": user.id,
            "steps": [{"name": "Claims", "outcome": "ok", "message": f"title is {TITLE}", "hint": ""}],
            "received": {"attributes": {"title": [TITLE]}, "subject": EMAIL},
            "result": {},
            "raw": EMAIL,
        }
        ids["trace"] = sign_in_traces.write(connection, row)
        # What was exchanged with the application quotes attributes in filters and in refusals.
        exchange = {
            "method": "GET",
            "path": f"/Users?filter={EMAIL}",
            "query": {"filter": f'emails.value eq "{EMAIL}"'},
            "status": 400,
            "milliseconds": 3,
            "excerpt": f"{TITLE} is not valid.",
        }
        ids["tasks"] = services.rows(t.task)[0].id
        attempt = {
            "task_id": ids["tasks"],
            "version": 1,
            "started_at": clock.now(),
            "ended_at": clock.now(),
            "outcome": "failed",
            "message": f"The filter for {EMAIL} was refused.",
            "exchanges": [exchange],
        }
        attempt_rows.insert_attempt(connection, attempt)
        group = {
            "id": "provisioned",
            "application_id": services.rows(t.application, key="desk")[0].id,
            "key": "group:none",
            "status": "failed",
            "attempts": 1,
            "message": f"The member {EMAIL} was refused.",
            "exchanges": [exchange],
            "created_at": clock.now(),
        }
        connection.execute(t.provisioned_group.insert().values(**group))
        drift = {
            "id": "drift",
            "application_id": group["application_id"],
            "kind": "attributes",
            "about": "account",
            "name": "Ada Birch",
            "there": {"title": TITLE, "emails": [{"value": EMAIL}]},
            "differences": [{"attribute": "title", "before": TITLE, "after": None}],
            "status": "open",
            "first_seen_at": clock.now(),
            "last_seen_at": clock.now(),
            "run_id": "run",
        }
        connection.execute(t.drift.insert().values(**drift))
        # A paused application and runs that failed keep what the other side said.
        refused = f"The server refused {EMAIL}."
        connection.execute(
            t.application.update().values(paused_at=clock.now(), trouble=refused, trouble_hint="Try again.")
        )
        for about in (
            {"kind": "reconciliation", "application_id": group["application_id"]},
            {"kind": "import", "source_id": source.id},
        ):
            run = {
                "id": about["kind"],
                "status": "failed",
                "requested_by": "una",
                "requested_at": clock.now(),
                "ended_at": clock.now(),
                "progress": 0,
                "message": refused,
                "stop_requested": False,
            }
            connection.execute(t.run.insert().values(**run, **about))
    yield Office(services, app, ids)


KINDS = (
    ("auditor", {"masked": True}),
    ("help_desk", {"masked": True}),
    ("application_owner", {"applications": ["desk"]}),
)


@pytest.mark.parametrize(("kind", "more"), KINDS)
def test_no_route_tells_an_attribute(office: Office, kind: str, more: dict[str, Any]) -> None:
    http, headers = office.app.test_client(), office.headers(kind, **more)
    answered = 0
    for path in office.reads():
        for query in (
            "",
            "?application=desk",
            "?status=open",
            "?form=csv&application=desk",
            "?form=json&application=desk",
            "?one=ada&two=ada",
        ):
            answer = http.get(path + query, headers=headers)
            answered += answer.status_code == 200
            told = [secret for secret in SECRETS if secret in answer.get_data(as_text=True)]
            assert not told, (path + query, told, answer.text[:2000])
    assert answered > 20


def test_operators_without_masking_see_attributes(office: Office) -> None:
    http, headers = office.app.test_client(), office.headers("auditor")
    seen = "".join(http.get(path, headers=headers).get_data(as_text=True) for path in office.reads())
    assert all(secret in seen for secret in SECRETS)
    assert f"sources/staff/sign-in/traces/{office.ids['trace']}" in "".join(office.reads())
    assert (
        TITLE in http.get(f"/api/v1/sources/staff/sign-in/traces/{office.ids['trace']}", headers=headers).text
    )
    assert RULE in http.get("/api/v1/applications/desk/mapping", headers=headers).json["items"][0]["rule"]


@pytest.mark.parametrize(("kind", "more"), KINDS)
def test_no_search_and_no_lookup_tells_an_attribute(office: Office, kind: str, more: dict[str, Any]) -> None:
    http, headers = office.app.test_client(), office.headers(kind, **more)
    for secret in (LOCAL_PART, EMAIL, EXTERNAL, TITLE):
        for path in (
            "users",
            "access/matrix?application=desk",
            "access?application=desk",
            "accounts?application=desk",
            "provisioning/tasks?application=desk",
        ):
            found = http.get(f"/api/v1/{path}{'&' if '?' in path else '?'}q={secret}", headers=headers)
            assert found.json.get("total") == 0, (path, secret, found.text)
        for path in (
            f"users/{secret}",
            f"users/{secret}/access/desk",
            f"users/{secret}/sessions",
            f"users/{secret}/sign-in-options",
            f"access/compare?one=ada&two={secret}",
        ):
            assert http.get(f"/api/v1/{path}", headers=headers).status_code in (403, 404), path
        for key in ("sign-in/traces", "requests"):
            found = http.get(f"/api/v1/sources/staff/{key}?q={secret}", headers=headers)
            assert found.status_code == 403 or found.json["total"] == 0, found.text
    assert http.get("/api/v1/users?q=birch", headers=headers).json["total"] >= 1
    assert http.get("/api/v1/users/ada/access/desk", headers=headers).status_code == 200


def test_an_owner_gives_roles_without_asking_about_attributes(office: Office) -> None:
    http, headers = office.app.test_client(), office.headers("application_owner", applications=["desk"])
    wish = {"application": "desk", "role": "viewer"}
    assert http.post("/api/v1/rules/matches", json={"rule": RULE}, headers=headers).status_code == 403
    for path in ("assignments", "assignments/preview"):
        assert http.post(f"/api/v1/{path}", json={**wish, "rule": RULE}, headers=headers).status_code == 403
        assert http.post(f"/api/v1/{path}", json={**wish, "user": "ada"}, headers=headers).status_code in (
            200,
            201,
        )
        assert http.post(f"/api/v1/{path}", json={**wish, "user": EMAIL}, headers=headers).status_code == 404


NAMED = re.compile(r"birch|\bada\b|" + re.escape(LOCAL_PART), re.IGNORECASE)
ADDRESS = "192.0.2.77"


def _with_names_everywhere(office: Office) -> str:
    """Write the name of the user into each free text of the records; return the ID of the user."""
    free = {
        t.assignment: ("note",),
        t.source: ("note",),
        t.application: ("note", "trouble_hint"),
        t.review: ("note",),
        t.review_row: ("note",),
        t.task: ("message", "hint"),
        t.account: ("remote_id",),
        t.drift: ("remote_id", "message", "hint"),
        t.run: ("message", "hint"),
        t.user: ("mark_note",),
        t.source_observation: ("detail",),
        t.provisioned_group: ("message", "hint"),
    }
    services = office.services
    http, headers = office.app.test_client(), office.headers("super_administrator")
    wish = {"application": "desk", "role": "viewer", "user": "ada", "note": "For Ada Birch."}
    assert http.post("/api/v1/assignments", json=wish, headers=headers).status_code == 201
    user = services.rows(t.user, user_name="ada")[0]
    known: dict[str, Any] = {"name": "Ada Birch", "message": "Ada Birch was read."}
    rows: dict[Any, dict[str, Any]] = {
        t.run_entry: {
            **known,
            "run_id": "import",
            "kind": "changed",
            "changes": {"title": ["", "Ada Birch"]},
        },
        t.conflict: {
            **known,
            "id": "open",
            "source_id": services.rows(t.source, key="staff")[0].id,
            "subject": "user",
            "native_id": "uid=ada",
            "kind": "several",
            "entry": {"user": {"userName": "ada", "displayName": "Ada Birch"}},
            "candidates": [user.id],
            "status": "open",
            "first_seen_at": clock.now(),
            "last_seen_at": clock.now(),
        },
        t.access_request: {
            "id": "asked",
            "application_id": services.rows(t.application, key="desk")[0].id,
            "user_id": user.id,
            "reason": "I am Ada Birch.",
            "status": "open",
            "requested_at": clock.now(),
        },
    }
    with services.ctx.database.writing() as connection:
        for table, row in rows.items():
            connection.execute(table.insert().values(**row))
        for table, columns in free.items():
            connection.execute(table.update().values(dict.fromkeys(columns, "For Ada Birch.")))
    return str(user.id)


@pytest.mark.parametrize("kind", ["auditor", "help_desk"])
def test_no_route_tells_a_name(office: Office, kind: str) -> None:
    user = _with_names_everywhere(office)
    http, headers = office.app.test_client(), office.headers(kind, masked_names=True)
    plain = office.headers(kind)
    answered = naming = 0
    for path in office.reads():
        naming += bool(NAMED.search(http.get(path, headers=plain).text))
        for query in (
            "",
            "?application=desk",
            "?status=open",
            "?count=1",
            "?form=csv&application=desk",
            "?form=json&application=desk",
            f"?one={user}&two={user}",
        ):
            answer = http.get(path.replace("/users/ada", f"/users/{user}") + query, headers=headers)
            assert answer.status_code != 500, (path + query, answer.text)
            answered += answer.status_code == 200
            told = NAMED.search(answer.get_data(as_text=True))
            assert not told, (path + query, told, answer.text[:2000])
            following = answer.json.get("next") if isinstance(answer.json, dict) else None
            if following:
                written = base64.urlsafe_b64decode(following + "=" * (-len(following) % 4)).decode()
                assert not NAMED.search(written), (path, written)
    assert answered > 20
    # Without the mask, these answers do tell the name.
    assert naming > 15, naming


def test_masked_names_are_neither_found_nor_asked_about(office: Office) -> None:
    user = _with_names_everywhere(office)
    http, headers = office.app.test_client(), office.headers("auditor", masked_names=True)
    for words in ("Birch", "ada", "a.birch", LOCAL_PART, EMAIL):
        for path in (
            "users",
            "access/matrix?application=desk",
            "access?application=desk",
            "accounts?application=desk",
            "provisioning/tasks?application=desk",
            "sources/staff/requests",
            "sources/staff/sign-in/traces",
        ):
            found = http.get(f"/api/v1/{path}{'&' if '?' in path else '?'}q={words}", headers=headers)
            assert found.json.get("total") == 0, (path, words, found.text)
        for path in (
            f"users/{words}",
            f"users/{words}/access/desk",
            f"access/compare?one={user}&two={words}",
        ):
            assert http.get(f"/api/v1/{path}", headers=headers).status_code in (403, 404), path
    asked = {"rule": 'displayName sw "Ada"'}
    assert http.post("/api/v1/rules/matches", json=asked, headers=headers).status_code == 403


def test_previews_name_users_by_their_ids_and_count_the_same(office: Office) -> None:
    user = _with_names_everywhere(office)
    named = {"application": "desk", "role": "viewer", "rule": 'displayName sw "Ada"'}
    http, headers = office.app.test_client(), office.headers("super_administrator")
    assert http.post("/api/v1/assignments", json=named, headers=headers).status_code == 201
    wish = {"application": "desk", "role": "viewer"}
    previews: dict[str, dict[str, Any]] = {
        "assignments/preview": {**wish, "user": user},
        "assignments/users/preview": {**wish, "users": [user]},
        f"assignments/{office.ids['assignments']}/preview": {"delete": True},
        "applications/desk/status/preview": {"status": "disabled"},
        "applications/desk/policy/preview": {"eligibility": "nobody"},
        "applications/desk/roles/viewer/preview": {"rank": 7},
        "sources/staff/policy/inbound_scim/status/preview": {"status": "disabled"},
        "access/simulate": {"source": "staff", "attributes": {"userName": "new"}},
    }
    masked, plain = office.headers("auditor", masked_names=True), office.headers("auditor")
    naming = 0
    for path, body in previews.items():
        answers = [http.post(f"/api/v1/{path}", json=body, headers=each) for each in (masked, plain)]
        assert answers[0].status_code == answers[1].status_code, (path, answers[0].text)
        assert not NAMED.search(answers[0].text), (path, answers[0].text)
        naming += bool(NAMED.search(answers[1].text))
        # What is counted does not depend on who asks.
        numbers = [re.findall(r'"\w+":(?:\d+|true|false)[,}]', each.text) for each in answers]
        assert numbers[0] == numbers[1], path
    assert naming, "no preview names the user"


def test_users_with_masked_names_are_told_apart_and_keep_their_attributes(office: Office) -> None:
    user = _with_names_everywhere(office)
    http, headers = office.app.test_client(), office.headers("auditor", masked_names=True)
    listed = http.get("/api/v1/users", headers=headers).json["items"]
    assert [each["id"] for each in listed] == sorted(each["id"] for each in listed)
    one = next(each for each in listed if each["id"] == user)
    assert (one["display_name"], one["user_name"]) == (f"User {user[-8:]}", f"user-{user[-8:]}")
    assert http.get(f"/api/v1/users?q={user[-8:]}", headers=headers).json["total"] == 1
    detail = http.get(f"/api/v1/users/{user}", headers=headers).json
    assert {"name": "title", "value": TITLE}.items() <= {
        name: value
        for each in detail["attributes"]
        if each["name"] == "title"
        for name, value in each.items()
    }.items()
    assert http.get("/api/v1/audit/verify", headers=headers).json["holds"]
    # The next caller of the same thread sees names again.
    plain = http.get(f"/api/v1/users/{user}", headers=office.headers("auditor")).json
    assert plain["display_name"] == "Ada Birch"


def test_no_route_tells_a_network_address(office: Office) -> None:
    ctx = office.services.ctx
    told = f"GET /scim/v2/staff/Users from {ADDRESS}: no token"
    with ctx.database.writing() as connection:
        connection.execute(t.source_observation.update().values(detail=told))
        connection.execute(
            t.sign_in_trace.update().values(
                raw=f'<SubjectLocality Address="{ADDRESS}"/>',
                received={"attributes": {"ipaddr": [ADDRESS]}},
                message=f"The reply came from {ADDRESS}.",
            )
        )
        connection.execute(t.run.update().values(message=f"{ADDRESS} does not answer."))
        connection.execute(t.application.update().values(trouble=f"{ADDRESS} does not answer."))
    http = office.app.test_client()
    seen, masked = office.headers("auditor"), office.headers("auditor", masked_networks=True)
    paths = [path + query for path in office.reads() for query in ("", "?status=open", "?application=desk")]
    assert any(ADDRESS in http.get(path, headers=seen).text for path in paths)
    for path in paths:
        assert ADDRESS not in http.get(path, headers=masked).text, path
    assert "Ada Birch" in http.get("/api/v1/users", headers=masked).text


def test_a_hidden_area_is_in_no_answer(office: Office) -> None:
    everything = office.headers("auditor")
    hidden = office.headers("auditor", hidden_areas=["requests", "sign_ins", "audit"])
    http = office.app.test_client()
    listed = http.get("/api/v1/sources/staff/requests", headers=everything).json["items"]
    areas = (
        "/api/v1/sources/staff/requests",
        f"/api/v1/sources/staff/requests/{listed[0]['id']}",
        "/api/v1/sources/staff/sign-in/traces",
        f"/api/v1/sources/staff/sign-in/traces/{office.ids['trace']}",
        "/api/v1/audit",
    )
    for path in areas:
        assert http.get(path, headers=everything).status_code == 200, path
        refused = http.get(path, headers=hidden)
        assert refused.status_code == 403 and "This area is hidden from you." in refused.text, path

    def kinds(headers: dict[str, str]) -> set[str]:
        return {each["kind"] for each in http.get("/api/v1/activity", headers=headers).json["items"]}

    assert {"request", "change"} <= kinds(everything)
    assert not {"request", "change"} & kinds(hidden)
    assert http.get("/api/v1/activity?kind=request", headers=hidden).status_code == 403
