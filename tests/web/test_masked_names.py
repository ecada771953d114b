"""What operators whose view masks names of users, or network addresses, never read, find or ask about."""

from __future__ import annotations

import base64
import re
from typing import Any

import pytest

from dravo.store import clock
from dravo.store import tables as t
from tests.web.office import EMAIL, LOCAL_PART, SEARCHED, TITLE, Office

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
            *SEARCHED,
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
