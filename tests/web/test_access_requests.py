"""Users request access to applications; their owners approve or refuse."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.instants import later
from dravo.protocols.verified_identity import VerifiedIdentity
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.requests import asking, decisions
from dravo.services.access.requests.decisions import Approval
from dravo.services.applications import applications, icons, roles
from dravo.services.changes.recompute import process_marks
from dravo.services.notifications import events, messages
from dravo.services.security import api_tokens, audit_log, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import OWNER, Caller
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.access.requests import RequestFilter
from dravo.store.notifications.messages import EMAIL
from dravo.store.pagination import PageRequest
from dravo.store.users import erasure
from dravo.web import cookies
from dravo.web.app import create_app
from tests.harness import Letters
from tests.service_fixture import ServiceFixture
from tests.services.applications.test_icons import picture
from tests.services.notifications.test_messages import set_server


@dataclass
class Desk:
    """Applications of which `records` can be requested, and the users ada and bob with sessions."""

    services: ServiceFixture
    users: dict[str, SignedInUser]
    secrets: dict[str, str]

    @functools.cached_property
    def http(self) -> Any:
        """The web application, for the tests that need it: making it takes a second."""
        return create_app(self.services.ctx, "http://127.0.0.1:1").test_client()

    def as_user(self, name: str, method: str, path: str, body: Any = None, *, csrf: bool = True) -> Any:
        self.http.set_cookie(cookies.USER, self.secrets[name])
        headers = {"X-Dravo-CSRF": self.users[name].csrf} if csrf else {}
        return self.http.open(f"/api/v1{path}", method=method, json=body, headers=headers)

    def ask(self, name: str = "ada", role: str | None = "viewer", reason: str = "Spring inventory") -> str:
        found = asking.request(self.services.ctx, self.users[name], "records", role, reason)
        return found.items[0].id

    def approve(self, request_id: str, **approval: str) -> decisions.AccessRequest:
        return decisions.approve(self.services.ctx, self.services.caller, request_id, Approval(**approval))

    def held(self) -> set[tuple[str, str]]:
        process_marks(self.services.ctx)
        names = {row.id: row.user_name for row in self.services.rows(t.user)}
        keys = {row.id: row.key for row in self.services.rows(t.role)}
        rows = self.services.rows(t.access, until_at=None)
        return {(names[row.user_id], keys[row.role_id]) for row in rows}

    def letters(self) -> None:
        """Write and send what notifications tell."""
        events.report(self.services.ctx, [], clock.now())
        while messages.send_due(self.services.ctx, clock.now(), EMAIL):
            pass


@pytest.fixture
def desk(services: ServiceFixture) -> Desk:
    staff = services.source("staff", "fernhollow.example")
    for key, about in (
        ("records", {"requestable": True}),
        ("closed", {}),
        ("secret", {"requestable": True, "hidden": True}),
    ):
        services.application(key)
        applications.change(services.ctx, services.caller, key, about, {})
    users, secrets = {}, {}
    for name in ("ada", "bob"):
        email = f"{name}.requests@fernhollow.example"
        services.user(staff, name, displayName=name.title(), emails=[{"value": email}])
        user_id = services.rows(t.user, user_name=name)[0].id
        with services.ctx.database.writing() as connection:
            proved = VerifiedIdentity("https://provider.fernhollow.example", name)
            secrets[name] = user_sessions.begin(connection, user_id, staff, proved, 1)
        found = user_sessions.by_secret(services.ctx, secrets[name])
        assert found is not None
        users[name] = found
    return Desk(services, users, secrets)


def test_a_user_requests_and_withdraws_by_the_api(desk: Desk) -> None:
    seen = desk.as_user("ada", "GET", "/me/requests").json
    assert [each["key"] for each in seen["offered"]] == ["records"], "closed and hidden ones are not offered"
    assert [each["key"] for each in seen["offered"][0]["roles"]] == ["viewer", "curator"]
    body = {"application": "records", "role": "curator", "reason": " For the spring inventory. "}
    assert desk.as_user("ada", "POST", "/me/requests", body, csrf=False).status_code == 403
    made = desk.as_user("ada", "POST", "/me/requests", body)
    assert made.status_code == 201, made.text
    (item,) = made.json["items"]
    assert (item["status"], item["role"], item["reason"]) == ("open", "Curator", "For the spring inventory.")
    assert made.json["offered"] == []
    again = desk.as_user("ada", "POST", "/me/requests", {**body, "role": None})
    assert (again.status_code, again.json["error"]["code"]) == (409, "already_exists")
    path = f"/me/requests/{item['id']}"
    assert desk.as_user("bob", "DELETE", path).status_code == 404, "the request of another user"
    assert desk.as_user("ada", "DELETE", path, csrf=False).status_code == 403
    withdrawn = desk.as_user("ada", "DELETE", path).json
    assert [each["status"] for each in withdrawn["items"]] == ["withdrawn"]
    assert len(withdrawn["offered"]) == 1


@pytest.mark.parametrize(
    ("application", "role", "reason", "error"),
    [
        ("closed", "viewer", "x", NotFound),
        ("secret", "viewer", "x", NotFound),
        ("nowhere", None, "x", NotFound),
        ("records", "emperor", "x", NotFound),
        ("records", "viewer", "  ", InvalidInput),
        ("records", "viewer", "x" * 1_001, InvalidInput),
    ],
)
def test_what_cannot_be_requested_is_refused_with_a_hint(
    desk: Desk, application: str, role: str | None, reason: str, error: type[Exception]
) -> None:
    with pytest.raises(error) as told:
        asking.request(desk.services.ctx, desk.users["ada"], application, role, reason)
    assert getattr(told.value, "hint", "")
    assert not desk.services.rows(t.access_request)


def test_an_approval_is_an_assignment(desk: Desk) -> None:
    request_id = desk.ask()
    assert desk.held() == set()
    assert decisions.preview(desk.services.ctx, request_id, Approval()).gained == 1
    approved = desk.approve(request_id, until="2999-12-31", answer="Welcome.")
    assert (approved.status, approved.decided_by, approved.answer) == (
        "approved",
        "the command line",
        "Welcome.",
    )
    assert desk.held() == {("ada", "viewer")}
    (row,) = desk.services.rows(t.assignment, removed_at=None)
    assert (row.id, row.note) == (approved.assignment, "Requested: Spring inventory")
    assert row.until_at.startswith("3000-01-01")
    (own,) = asking.mine(desk.services.ctx, desk.users["ada"]).items
    assert (own.status, own.answer) == ("approved", "Welcome.")
    with pytest.raises(AlreadyExists, match="The request is approved already"):
        desk.approve(request_id)
    # The role that the user has now is not offered again, the other one is.
    (offered,) = asking.mine(desk.services.ctx, desk.users["ada"]).offered
    assert [each.key for each in offered.roles] == ["curator"]
    with desk.services.ctx.database.reading() as connection:
        assert audit_log.verify_chain(connection, desk.services.ctx.keys) is None


def test_the_operator_chooses_the_role_where_the_user_did_not(desk: Desk) -> None:
    request_id = desk.ask(role=None)
    with pytest.raises(InvalidInput, match="The request names no role"):
        desk.approve(request_id)
    assert not desk.services.rows(t.assignment)
    desk.approve(request_id, role="viewer")
    assert desk.held() == {("ada", "viewer")}


def test_a_refusal_needs_a_reason_that_the_user_sees(desk: Desk) -> None:
    request_id, ctx, caller = desk.ask(), desk.services.ctx, desk.services.caller
    with pytest.raises(InvalidInput, match="The reason is missing"):
        decisions.refuse(ctx, caller, request_id, " ")
    assert decisions.refuse(ctx, caller, request_id, "Ask Zofia first.").status == "refused"
    assert desk.held() == set()
    assert asking.mine(ctx, desk.users["ada"]).items[0].answer == "Ask Zofia first."
    with pytest.raises(AlreadyExists, match="refused already"):
        desk.approve(request_id)


def test_a_request_is_decided_once(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    request_id, ctx, caller = desk.ask(), desk.services.ctx, desk.services.caller
    seen = decisions._open(ctx, request_id)
    decisions.refuse(ctx, caller, request_id, "No.")
    # Another operator read the request before it was refused.
    monkeypatch.setattr(decisions, "_open", lambda *_: seen)
    with pytest.raises(AlreadyExists, match="Another operator decided"):
        desk.approve(request_id)
    assert not desk.services.rows(t.assignment), "nothing of the approval stays"


def test_owners_decide_about_their_applications_only(desk: Desk) -> None:
    ctx, services = desk.services.ctx, desk.services
    mine = desk.ask()
    made = operators.add(ctx, services.caller, NewOperator("leo", OWNER, applications=("closed",)))
    token = api_tokens.create(ctx, Caller(made.id, "leo", OWNER), "Walk", "write").token
    headers = {"Authorization": f"Bearer {token}"}

    def call(method: str, path: str, body: Any = None) -> Any:
        return desk.http.open(f"/api/v1/access/requests{path}", method=method, json=body, headers=headers)

    assert call("GET", "").json["items"] == []
    for method, path in (
        ("GET", ""),
        ("POST", "/approve"),
        ("POST", "/refuse"),
        ("POST", "/approve/preview"),
    ):
        refused = call(method, f"/{mine}{path}", {"answer": "x"} if method == "POST" else None)
        assert refused.status_code == 403, (method, path, refused.text)
    applications.change(ctx, services.caller, "records", {"owner": "leo"}, {})
    assert [each["id"] for each in call("GET", "?status=open").json["items"]] == [mine]
    assert call("POST", f"/{mine}/approve/preview", {}).json["gained"] == 1
    approved = call("POST", f"/{mine}/approve", {"until": "2999-12-31"})
    assert approved.status_code == 200 and approved.json["decided_by"] == "leo"


def test_the_highest_role_is_approved_only_with_its_confirmation(desk: Desk) -> None:
    settings.change(desk.services.ctx, desk.services.caller, "highest_role_confirmation", 1)
    request_id = desk.ask(role="curator")
    made = operators.add(desk.services.ctx, desk.services.caller, NewOperator("una", "super_administrator"))
    token = api_tokens.create(desk.services.ctx, Caller(made.id, "una", made.kind), "Walk", "write").token
    path, headers = f"/api/v1/access/requests/{request_id}/approve", {"Authorization": f"Bearer {token}"}
    refused = desk.http.post(path, json={}, headers=headers)
    assert refused.status_code == 409 and not desk.held(), refused.text
    assert desk.http.post(path, json={"confirm": "Records"}, headers=headers).status_code == 200
    assert desk.held() == {("ada", "curator")}


def test_the_owner_and_then_the_user_get_an_email(desk: Desk, letters: Letters) -> None:
    letters.faults()
    services = desk.services
    set_server(services, letters.smtp_port)
    for name, kind in (("leo", OWNER), ("ola", "administrator"), ("audrey", "auditor")):
        email = f"{name}.requests@fernhollow.example"
        operators.add(services.ctx, services.caller, NewOperator(name, kind, email=email))
    first = desk.ask()
    desk.letters()
    assert letters.to("leo.requests@fernhollow.example") == []
    assert letters.to("audrey.requests@fernhollow.example") == []
    subject = "Access request for Records"
    (letter,) = (each for each in letters.to("ola.requests@fernhollow.example") if each["subject"] == subject)
    assert "Ada (ada) requests access to Records, role Viewer" in letter["text"]
    decisions.refuse(services.ctx, services.caller, first, "Ask Zofia first.")
    desk.letters()
    (letter,) = letters.to("ada.requests@fernhollow.example")
    assert "was refused" in letter["text"] and "Ask Zofia first." in letter["text"]
    applications.change(services.ctx, services.caller, "records", {"owner": "leo"}, {})
    desk.ask("bob")
    desk.letters()
    (letter,) = letters.to("leo.requests@fernhollow.example")
    subjects = [each["subject"] for each in letters.to("ola.requests@fernhollow.example")]
    assert letter["subject"] == subject and subjects.count(subject) == 1, "the owner decides"


def test_requests_end_with_their_role_application_and_user(desk: Desk) -> None:
    services = desk.services
    request_id = desk.ask(role="curator")
    roles.remove_role(services.ctx, services.caller, "records", "curator")
    assert decisions.one(services.ctx, request_id).role is None
    desk.ask("bob")
    with services.ctx.database.writing() as connection:
        user = services.rows(t.user, user_name="ada")[0]
        erasure.erase(connection, user, [], clock.now())
    found = decisions.list_requests(services.ctx, services.caller, PageRequest(), RequestFilter())
    assert [each.user.user_name for each in found.items] == ["bob"]
    applications.remove(services.ctx, services.caller, "records", "Records")
    assert not services.rows(t.access_request)


def test_an_assignment_that_exists_already_decides_nothing(desk: Desk) -> None:
    ctx, caller = desk.services.ctx, desk.services.caller
    request_id = desk.ask()
    assignments.add(ctx, caller, AssignmentRequest("records", "viewer", user="ada"))
    with pytest.raises(AlreadyExists, match="same assignment exists"):
        desk.approve(request_id)
    assert decisions.one(ctx, request_id).status == "open"


def test_users_see_the_icons_of_their_applications_only(desk: Desk) -> None:
    services = desk.services
    for key in ("records", "closed"):
        icons.set_icon(services.ctx, services.caller, key, picture())
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    process_marks(services.ctx)
    (line,) = desk.as_user("ada", "GET", "/me/applications").json["applications"]
    seen = desk.as_user("ada", "GET", f"/me/applications/records/icon?version={line['icon']}")
    assert (seen.status_code, seen.mimetype) == (200, "image/png")
    assert seen.headers["Cache-Control"] == "private, max-age=86400"
    assert seen.headers["X-Content-Type-Options"] == "nosniff"
    for name, key in (("ada", "closed"), ("bob", "records"), ("ada", "nowhere")):
        assert desk.as_user(name, "GET", f"/me/applications/{key}/icon").status_code == 404, (name, key)


def test_a_user_cannot_request_and_withdraw_without_end(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "MOST_A_DAY", 3)
    for _ in range(3):
        asking.withdraw(desk.services.ctx, desk.users["ada"], desk.ask())
    with pytest.raises(InvalidInput, match="3 requests in 24 hours"):
        desk.ask()
    assert desk.ask("bob"), "other users are not limited by it"
    tomorrow = later(clock.now(), 90_000)
    monkeypatch.setattr("dravo.store.clock.now", lambda: tomorrow)
    assert desk.ask()
