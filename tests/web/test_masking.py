"""What operators without the right to attributes read, search and look up never tells them a user's
attribute; and hidden areas.
"""

from __future__ import annotations

from typing import Any

import pytest
from werkzeug.test import EnvironBuilder, run_wsgi_app

from dravo.store import tables as t
from tests.web.office import EMAIL, EXTERNAL, LOCAL_PART, RULE, SEARCHED, SECRETS, TITLE, Office

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


@pytest.mark.parametrize(("kind", "more"), KINDS)
def test_an_export_is_masked_to_its_end(office: Office, kind: str, more: dict[str, Any]) -> None:
    with office.services.ctx.database.writing() as connection:
        connection.execute(t.application.update().values(tracked_only=True))
        connection.execute(t.task.update().values(status="manual", closed_at=None))

    def told(headers: dict[str, str]) -> str:
        # Like a server, and unlike the test client: the request has ended when the pieces are read.
        environ = EnvironBuilder("/api/v1/applications/desk/manual-tasks/export", headers=headers)
        pieces, status, _ = run_wsgi_app(office.app, environ.get_environ())
        assert status == "200 OK"
        return b"".join(pieces).decode()

    assert EMAIL in told(office.headers("administrator"))
    masked = told(office.headers(kind, **more))
    assert "ada" in masked and LOCAL_PART not in masked


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
        for path in SEARCHED:
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
