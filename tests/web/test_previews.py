"""Every operation that changes settings has a preview, which changes nothing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pytest
from sqlalchemy import select

from dravo.core.provisioning.drift import MISSING
from dravo.services.access import assignments, license_plans
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.changes.recompute import process_marks
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.store import clock, recompute_marks
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

API = "/api/v1"
# The preview of each operation that changes settings.
PREVIEWS = {
    ("POST", "/notifications/announcements"): ("POST", "/notifications/announcements/preview"),
    ("PUT", "/notifications/texts/{kind}"): ("POST", "/notifications/texts/{kind}/preview"),
    ("DELETE", "/notifications/texts/{kind}"): ("POST", "/notifications/texts/{kind}/preview"),
    ("PATCH", "/applications/{key}"): ("POST", "/applications/{key}/settings/preview"),
    ("PUT", "/applications/{key}/policy"): ("POST", "/applications/{key}/policy/preview"),
    ("PUT", "/applications/{key}/connection"): ("POST", "/applications/{key}/connection/preview"),
    ("PUT", "/applications/{key}/status"): ("POST", "/applications/{key}/status/preview"),
    ("PATCH", "/applications/{key}/roles/{role}"): ("POST", "/applications/{key}/roles/{role}/preview"),
    ("PATCH", "/applications/{key}/license-plans/{plan}"): (
        "POST",
        "/applications/{key}/license-plans/{plan}/preview",
    ),
    ("POST", "/applications/{key}/drift/adopt"): ("POST", "/applications/{key}/drift/adopt/preview"),
    ("POST", "/applications/{key}/drift/repair"): ("POST", "/applications/{key}/drift/repair/preview"),
    ("POST", "/assignments"): ("POST", "/assignments/preview"),
    ("PUT", "/assignments/{id}"): ("POST", "/assignments/{id}/preview"),
    ("POST", "/assignments/users"): ("POST", "/assignments/users/preview"),
    ("DELETE", "/assignments/{id}"): ("GET", "/assignments/{id}/removal"),
    ("POST", "/assignments/{id}/confirm"): ("POST", "/assignments/{id}/confirm/preview"),
    ("POST", "/audit/{id}/undo"): ("GET", "/audit/{id}/undo"),
    ("PUT", "/groups/{id}/authority"): ("POST", "/groups/{id}/authority/preview"),
    ("POST", "/groups/{id}/members"): ("POST", "/groups/{id}/members/preview"),
    ("POST", "/records/{record}/link"): ("POST", "/records/{record}/link/preview"),
    ("POST", "/reviews/{id}/decide"): ("POST", "/reviews/{id}/preview"),
    ("POST", "/access/requests/{id}/approve"): ("POST", "/access/requests/{id}/approve/preview"),
    ("PUT", "/settings/{name}"): ("POST", "/settings/{name}/preview"),
    ("PUT", "/sources/{key}/import"): ("POST", "/sources/{key}/policy/{connection_type}/preview"),
    ("PUT", "/sources/{key}/priority"): ("POST", "/sources/{key}/priority/preview"),
    ("PUT", "/sources/{key}/sign-in"): ("POST", "/sources/{key}/sign-in/preview"),
    ("POST", "/sources/{key}/sign-in/status"): ("POST", "/sources/{key}/sign-in/status/preview"),
    ("POST", "/sources/{key}/sign-in/protocol"): ("POST", "/sources/{key}/sign-in/protocol/preview"),
    ("POST", "/sources/{key}/hand-over"): ("POST", "/sources/{key}/hand-over/preview"),
    ("POST", "/sources/{key}/retire"): ("POST", "/sources/{key}/retire/preview"),
    ("PUT", "/sources/{key}/policy/{connection_type}"): (
        "POST",
        "/sources/{key}/policy/{connection_type}/preview",
    ),
    ("PUT", "/sources/{key}/policy/{connection_type}/status"): (
        "POST",
        "/sources/{key}/policy/{connection_type}/status/preview",
    ),
    ("POST", "/users/{user}/erase"): ("POST", "/users/{user}/erase/preview"),
    ("POST", "/invitations"): ("POST", "/invitations/preview"),
    ("POST", "/local-users/delete"): ("POST", "/local-users/delete/preview"),
    ("POST", "/user-marks"): ("POST", "/user-marks/preview"),
    ("POST", "/user-marks/remove"): ("POST", "/user-marks/remove/preview"),
    ("PUT", "/users/{user}"): ("POST", "/users/{user}/preview"),
    ("DELETE", "/users/{user}"): ("POST", "/users/{user}/preview"),
    ("DELETE", "/applications/{key}"): ("GET", "/applications/{key}/removal"),
    ("DELETE", "/groups/{id}"): ("POST", "/groups/{id}/members/preview"),
}
NEW, ITSELF, OWN, ACTS, NOTHING = (
    "creates something that nothing refers to yet",
    "is itself a preview, a test or a calculation",
    "changes the caller's own sign-in",
    "acts on what its list or its page shows; it changes no settings",
    "is refused as long as anything depends on it",
)
WITHOUT = {
    ("POST", "/applications"): NEW,
    ("POST", "/applications/{key}/roles"): NEW,
    ("POST", "/applications/{key}/copy"): NEW,
    ("POST", "/application-templates"): NEW,
    ("PUT", "/applications/{key}/icon"): "an icon has no effects",
    ("DELETE", "/applications/{key}/icon"): "an icon has no effects",
    ("DELETE", "/application-templates/{key}"): "applications keep what they have from the template",
    ("POST", "/applications/{key}/license-plans"): NEW,
    ("POST", "/groups"): NEW,
    ("POST", "/operators"): NEW,
    ("POST", "/reviews"): NEW,
    ("POST", "/sources"): NEW,
    ("POST", "/sources/{key}/links"): NEW,
    ("DELETE", "/sources/{key}/links/{link_id}"): ACTS,
    ("POST", "/sources/{key}/schemas"): NEW,
    ("POST", "/sources/{key}/sign-in/groups"): NEW,
    ("POST", "/sources/{key}/sign-in/tests"): NEW,
    ("POST", "/sources/{key}/tokens"): NEW,
    ("POST", "/tokens"): NEW,
    ("POST", "/users"): NEW,
    ("POST", "/access/simulate"): ITSELF,
    ("POST", "/applications/{key}/connection/test"): ITSELF,
    ("POST", "/applications/{key}/password-check"): ITSELF,
    ("POST", "/applications/{key}/mapping/bulk"): "has `apply`: without it, the operation is the preview",
    ("POST", "/applications/{key}/mapping/pattern"): ITSELF,
    ("POST", "/applications/{key}/reconciliation/runs"): ITSELF,
    ("POST", "/applications/{key}/manual-tasks/done"): "records what an operator did; it can be taken back",
    ("POST", "/applications/{key}/manual-tasks/open"): ACTS,
    ("POST", "/provisioning/tasks/approve"): "the list shows what each task does",
    ("POST", "/applications/{key}/manual-tasks/comparison"): "without `mark_done`, it changes nothing",
    ("POST", "/applications/several"): NEW,
    ("PUT", "/application-templates/{key}"): "changes no application; the former file can be saved again",
    ("POST", "/expressions/evaluate"): ITSELF,
    ("POST", "/mail/test"): ITSELF,
    ("POST", "/rules/matches"): ITSELF,
    ("POST", "/sources/{key}/import/check"): ITSELF,
    ("POST", "/sources/{key}/sign-in/check"): ITSELF,
    ("POST", "/sources/{key}/group-matches"): ITSELF,
    ("POST", "/sources/{key}/import/runs"): "has `preview` itself",
    ("POST", "/sources/{key}/sign-in/traces/{trace}/rerun"): ITSELF,
    ("POST", "/session"): OWN,
    ("DELETE", "/session"): OWN,
    ("DELETE", "/session/others"): OWN,
    ("PUT", "/session/password"): OWN,
    ("PUT", "/session/links"): OWN,
    ("DELETE", "/session/links/{id}"): OWN,
    ("POST", "/second-factor"): OWN,
    ("PUT", "/second-factor"): OWN,
    ("POST", "/second-factor/disable"): OWN,
    ("POST", "/recovery-codes"): OWN,
    ("POST", "/invitation/open"): OWN,
    ("POST", "/invitation/accept"): OWN,
    ("POST", "/invitation/accept-with-source"): OWN,
    ("POST", "/sign-in/password"): OWN,
    ("POST", "/sign-in/password/passkey"): OWN,
    ("POST", "/sign-in/password/factor"): OWN,
    ("POST", "/sign-in/password/new"): OWN,
    ("POST", "/sign-in/password/forgotten"): OWN,
    ("POST", "/sign-in/password/reset"): OWN,
    ("POST", "/session/passkey"): OWN,
    ("POST", "/second-factor/passkeys"): OWN,
    ("POST", "/second-factor/passkeys/ask"): OWN,
    ("POST", "/second-factor/passkeys/begin"): OWN,
    ("POST", "/second-factor/passkeys/{id}/delete"): OWN,
    ("POST", "/me/second-factor"): OWN,
    ("PUT", "/me/second-factor"): OWN,
    ("POST", "/me/second-factor/disable"): OWN,
    ("POST", "/me/passkeys"): OWN,
    ("POST", "/me/passkeys/ask"): OWN,
    ("POST", "/me/passkeys/begin"): OWN,
    ("POST", "/me/passkeys/{id}/delete"): OWN,
    ("POST", "/me/recovery-codes"): OWN,
    ("PUT", "/me/password"): OWN,
    ("DELETE", "/me/session"): OWN,
    ("POST", "/me/requests"): OWN,
    ("DELETE", "/me/requests/{id}"): OWN,
    ("POST", "/access/requests/{id}/refuse"): ACTS,
    ("POST", "/sign-in/code"): OWN,
    ("POST", "/sign-in/code/verify"): OWN,
    ("POST", "/applications/{key}/drift/ignore"): ACTS,
    ("POST", "/applications/{key}/drift/{id}/create-user"): ACTS,
    ("POST", "/applications/{key}/drift/{id}/link"): ACTS,
    ("POST", "/applications/{key}/groups/{id}/retry"): ACTS,
    ("POST", "/applications/{key}/pause"): ACTS,
    ("POST", "/applications/{key}/resume"): ACTS,
    ("POST", "/holds/{key}/approve"): ACTS,
    ("POST", "/holds/{key}/discard"): ACTS,
    ("DELETE", "/jobs/{id}"): ACTS,
    ("POST", "/provisioning/tasks/retry"): ACTS,
    ("POST", "/provisioning/tasks/{id}/resolve"): ACTS,
    ("POST", "/provisioning/tasks/{id}/retry"): ACTS,
    ("POST", "/reconciliation/runs/{id}/stop"): ACTS,
    ("POST", "/reviews/{id}/close"): ACTS,
    ("PATCH", "/operators/{id}"): ACTS,
    ("POST", "/operators/{id}/disable"): ACTS,
    ("POST", "/operators/{id}/enable"): ACTS,
    ("POST", "/operators/{id}/password"): ACTS,
    ("POST", "/operators/{id}/second-factor/reset"): ACTS,
    ("POST", "/users/{user}/second-factor/reset"): ACTS,
    ("POST", "/invitations/{id}/resend"): ACTS,
    ("POST", "/invitations/{id}/withdraw"): ACTS,
    ("POST", "/one-time-passwords"): ACTS,
    ("POST", "/sources/{key}/conflicts"): ACTS,
    ("POST", "/sources/{key}/restore"): ACTS,
    ("POST", "/sources/{key}/hand-over/undo"): ACTS,
    ("POST", "/erased-users/{id}/accept"): ACTS,
    ("POST", "/sources/{key}/conflicts/{conflict}"): ACTS,
    ("POST", "/sources/{key}/import/files"): "stores a file that the next run reads; a run has a preview",
    ("POST", "/sources/{key}/import/runs/{run}/stop"): ACTS,
    ("POST", "/sources/{key}/users/{user}/refresh"): ACTS,
    ("POST", "/sources/{key}/sign-in/certificates"): "the page shows both certificates before it",
    ("POST", "/sources/{key}/sign-in/keys"): "the old key stays valid until the new one is in use",
    ("DELETE", "/sources/{key}/tokens/{token_id}"): ACTS,
    ("DELETE", "/tokens/{id}"): ACTS,
    ("DELETE", "/users/{user}/sessions"): ACTS,
    ("DELETE", "/applications/{key}/roles/{role}"): NOTHING,
    ("DELETE", "/applications/{key}/license-plans/{plan}"): NOTHING,
    ("DELETE", "/sources/{key}"): NOTHING,
    ("DELETE", "/sources/{key}/import"): "its users and their access stay",
    ("DELETE", "/sources/{key}/sign-in"): "users and access stay; the status `disabled` previews the rest",
    ("DELETE", "/sources/{key}/schemas/{urn}"): NOTHING,
    ("PATCH", "/sources/{key}"): "changes a label, or the domains for later records",
    ("PATCH", "/groups/{id}"): "changes the name of a local group, to which nothing refers by name",
    ("PUT", "/mail"): "a test email shows the result",
    ("POST", "/notifications/rules"): NEW,
    ("PUT", "/notifications/rules/{id}"): "decides about later messages only",
    ("DELETE", "/notifications/rules/{id}"): "decides about later messages only",
    ("POST", "/notifications/webhooks"): NEW,
    ("PATCH", "/notifications/webhooks/{id}"): "a test message shows the result",
    ("DELETE", "/notifications/webhooks/{id}"): NOTHING,
    ("POST", "/notifications/webhooks/{id}/secret"): ACTS,
    ("POST", "/notifications/webhooks/{id}/test"): ITSELF,
    ("POST", "/notifications/messages/{id}/send-again"): ACTS,
    ("POST", "/notifications/announcements/{id}/withdraw"): ACTS,
}


@dataclass
class Desk:
    """An organization with something to preview at each place, and a token for the API."""

    services: ServiceFixture
    http: Any
    headers: dict[str, str]

    def call(self, method: str, path: str, body: Any = None) -> Any:
        answer = self.http.open(f"{API}{path}", method=method, json=body, headers=self.headers)
        assert answer.status_code == 200, (method, path, answer.text)
        return answer.json

    def stored(self) -> dict[str, list[tuple[Any, ...]]]:
        """Return every row of every table, but for what notes that a token was used."""
        with self.services.ctx.database.reading() as connection:
            return {
                table.name: [tuple(row) for row in connection.execute(select(table))]
                for table in t.metadata.sorted_tables
                if table.name not in ("api_token", "cached_report")
            }


@pytest.fixture
def desk(services: ServiceFixture) -> Desk:
    source = services.source("staff", "fernhollow.example")
    people = [services.user(source, name) for name in ("ada", "bob", "cyd")]
    group = services.group(source, "Herbarium", *people)
    services.application("records", "viewer", "curator")
    caller = services.caller
    license_plans.add(services.ctx, caller, "records", NewLicensePlan("full", "Full", 1, 1))
    for role in ("viewer", "curator"):
        assignments.add(services.ctx, caller, AssignmentRequest("records", role, group=group, plan="full"))
    sign_in_settings.change(services.ctx, caller, "staff", {"protocol": "saml"})
    operator = operators.add(services.ctx, operators.SYSTEM, NewOperator("una.kerrigan", SUPER_ADMINISTRATOR))
    known = Caller(operator.id, operator.name, SUPER_ADMINISTRATOR)
    token = api_tokens.create(services.ctx, known, "Walk", "write").token
    http = create_app(services.ctx, "http://127.0.0.1:1").test_client()
    return Desk(services, http, {"Authorization": f"Bearer {token}"})


def operations(desk: Desk) -> set[tuple[str, str]]:
    paths = desk.http.application.api_doc["paths"]
    return {(method.upper(), path.removeprefix(API)) for path, methods in paths.items() for method in methods}


def test_every_changing_operation_has_a_preview_or_a_reason_why_not(desk: Desk) -> None:
    known = operations(desk)
    changing = {each for each in known if each[0] != "GET" and not each[1].endswith("/preview")}
    assert not PREVIEWS.keys() & WITHOUT.keys()
    assert changing == PREVIEWS.keys() | WITHOUT.keys()
    assert set(PREVIEWS.values()) <= known


def test_a_rank_is_previewed_and_changed_only_as_seen(desk: Desk) -> None:
    desk.call("PUT", "/applications/records/policy", {"several": "highest", "confirm": "Records"})
    before = desk.stored()
    # The higher of two ranks gives way to the other: all three users change their role.
    seen = desk.call("POST", "/applications/records/roles/viewer/preview", {"rank": 900})
    assert seen["access"]["changed"] == 3
    assert seen["effects"][0] == "0 users gain access, 0 users lose access and 3 users change roles."
    assert {tuple(each["after"]) for each in seen["access"]["users"]} == {("Viewer",)}
    assert desk.stored() == before
    stale = {"rank": 900, "expect": {"gained": 0, "lost": 0, "changed": 1}}
    answer = desk.http.patch(f"{API}/applications/records/roles/viewer", json=stale, headers=desk.headers)
    assert (answer.status_code, answer.json["error"]["code"]) == (409, "stale_preview")
    assert desk.stored() == before
    desk.call(
        "PATCH",
        "/applications/records/roles/viewer",
        {**stale, "expect": {"gained": 0, "lost": 0, "changed": 3}},
    )
    held = [row for row in desk.services.rows(t.access) if row.until_at is None]
    assert len(held) == 3 and len({row.role_id for row in held}) == 1


def test_seats_and_labels_are_previewed(desk: Desk) -> None:
    before = desk.stored()
    path = "/applications/records/license-plans/full/preview"
    fewer, more = desk.call("POST", path, {"seats": 2}), desk.call("POST", path, {"seats": 0})
    assert fewer["effects"][0].startswith("Full has 2 seats; ")
    assert more["effects"][0].startswith("Full has no limit of seats; ")
    renamed = desk.call("POST", path, {"rank": 5, "label": "Full desk"})
    assert renamed["access"]["changed"] == 0
    labelled = desk.call("POST", "/applications/records/roles/viewer/preview", {"label": "Reader"})
    assert labelled["effects"][0] == "The role 'Viewer' is called 'Reader'."
    assert desk.call("POST", path, {"seats": 1})["effects"] == ["Nothing changes."]
    assert desk.stored() == before


@pytest.mark.parametrize(
    ("name", "value", "sentence"),
    [
        ("time_zone", "Pacific/Auckland", "The days of 1 assignment begin and end in Pacific/Auckland."),
        ("removal_limit_number", 0, "The limits of all applications stay the same."),
        ("removal_limit_minimum", 2, "Records: 2 removals need no approval (now 10)."),
        ("second_factor", True, "1 operator has no second factor"),
        ("trace_days", 1, "0 inbound SCIM requests are deleted."),
        ("attempt_days", 1, "0 task attempts are deleted."),
        ("traces_per_source", 100, "0 stored requests are deleted."),
        ("user_session_hours", 1, "The lifetime applies to new sessions."),
        ("support_contact", "the gate office", "Refused users see the new text"),
        ("highest_role_confirmation", 11, "The setting has this value already."),
    ],
)
def test_each_kind_of_setting_tells_what_it_would_do(
    desk: Desk, name: str, value: Any, sentence: str
) -> None:
    wish = AssignmentRequest("records", "viewer", user="ada", until_at="2999-12-31")
    assignments.add(desk.services.ctx, desk.services.caller, wish)
    before = desk.stored()
    found = desk.call("POST", f"/settings/{name}/preview", {"value": value})
    assert found["effects"][0].startswith(sentence), found["effects"]
    assert desk.stored() == before
    wrong = desk.http.post(f"{API}/settings/{name}/preview", json={"value": []}, headers=desk.headers)
    assert wrong.status_code == 422


def test_a_time_zone_that_ends_access_today_is_seen_before(desk: Desk) -> None:
    now = clock.now()
    wish = AssignmentRequest("records", "curator", user="ada", until_at=now[:10])
    desk.services.application("desk", "viewer")
    assignments.add(
        desk.services.ctx,
        desk.services.caller,
        AssignmentRequest("desk", "viewer", user="bob", until_at=now[:10]),
    )
    assignments.add(desk.services.ctx, desk.services.caller, wish)
    ends_first, ends_last = (
        desk.call("POST", "/settings/time_zone/preview", {"value": zone})["access"]
        for zone in ("Pacific/Kiritimati", "Etc/GMT+12")
    )
    # In one of the two zones it is another day than in UTC: there the access is over, or not yet.
    assert ends_last["lost"] == 0
    assert ends_first["lost"] == (1 if int(now[11:13]) >= 10 else 0)


def test_the_age_of_claims_is_previewed_with_the_access_that_ends(desk: Desk) -> None:
    services = desk.services
    source = services.rows(t.source, key="staff")[0]
    user = services.rows(t.user, user_name="ada")[0]
    services.application("desk", "viewer")
    group = services.group(source.id, "Visitors")
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "viewer", group=group))
    with services.ctx.database.writing() as connection:
        record = {
            "id": "r-claims",
            "source_id": source.id,
            "connection_type": "sign_in",
            "user_id": user.id,
            "user_name_key": "ada",
            "data": {"userName": "ada"},
            "version": 1,
            "created_at": clock.now(),
            "modified_at": clock.now(),
            "claims_seen_at": "2020-01-01T00:00:00.000000Z",
        }
        connection.execute(t.record.insert().values(**record))
        member = {"group_id": group, "record_id": "r-claims", "from_at": clock.now()}
        connection.execute(t.membership.insert().values(**member))
        recompute_marks.mark_users(connection, [user.id], clock.now())
    process_marks(services.ctx)
    before = desk.stored()
    found = desk.call("POST", "/sources/staff/sign-in/preview", {"settings": {"claim_days": 90}})
    assert found["effects"][0] == "`claim_days`: 90 (now 30)."
    assert "1 membership of 1 user expires: the last sign-in was more than 90 days ago." in found["effects"]
    assert found["access"]["lost"] == 1
    assert desk.stored() == before


def test_a_sign_in_status_and_other_settings_are_previewed(desk: Desk) -> None:
    before = desk.stored()
    path = "/sources/staff/sign-in"
    enabled = desk.call("POST", f"{path}/status/preview", {"status": "enabled"})["effects"]
    assert enabled[0].startswith("The status cannot be set yet. Missing: ")
    pilot = desk.call("POST", f"{path}/status/preview", {"status": "pilot"})["effects"]
    assert pilot[0] == enabled[0]
    same = desk.call("POST", f"{path}/status/preview", {"status": "disabled"})["effects"]
    assert same == ["The source has this status already."]
    found = desk.call("POST", f"{path}/preview", {"settings": {"force_authn": True}})["effects"]
    assert found == [
        "`force_authn`: on (now off).",
        "The settings need a new test sign-in, or the label of the source to confirm them.",
    ]
    # What the change refuses, the preview refuses in the same words; nobody is linked, so serving operators
    # is fine while the source is disabled.
    for given in ({"settings": {"nope": 1}}, {"policy": {"attributes": [{"attribute": "userName"}]}}):
        shown = desk.http.post(f"{API}{path}/preview", json=given, headers=desk.headers)
        changed = desk.http.put(f"{API}{path}", json=given, headers=desk.headers)
        assert shown.status_code == changed.status_code == 422
        assert shown.json == changed.json
    served = desk.call("POST", f"{path}/preview", {"serves": "both"})["effects"]
    assert served == ["Users and operators can sign in."]
    policy = desk.call("POST", f"{path}/preview", {"policy": {"domains": ["fernhollow.example"]}})["effects"]
    assert policy[0] == "The source policy changes." and "need a new test sign-in" in policy[1]
    assert desk.stored() == before


def test_a_repair_tells_what_it_would_send(desk: Desk) -> None:
    services = desk.services
    application = services.rows(t.application, key="records")[0]
    account = next(iter(services.rows(t.account)), None)
    row = {
        "application_id": application.id,
        "about": "one",
        "account_id": account.id if account else None,
        "remote_id": "r1",
        "there": {},
        "status": "open",
        "first_seen_at": clock.now(),
        "last_seen_at": clock.now(),
        "run_id": "run",
    }
    roles = [[{"value": "viewer", "display": "Viewer"}], [{"value": "curator", "display": "Curator"}]]
    changed = [
        {"attribute": "displayName", "before": "Ada", "after": None},
        {"attribute": "roles", "before": roles[0], "after": roles[1]},
    ]
    with services.ctx.database.writing() as connection:
        connection.exec_driver_sql("PRAGMA defer_foreign_keys = ON")
        run = {"id": "run", "kind": "reconciliation", "application_id": application.id, "status": "done"}
        run |= {"requested_by": "una", "requested_at": clock.now(), "progress": 0, "stop_requested": False}
        connection.execute(t.run.insert().values(**run))
        for kind, about, differences in (
            ("attributes", "one", changed),
            (MISSING, "two", None),
            ("unexpected", "three", None),
        ):
            values = {**row, "id": f"d-{kind}", "kind": kind, "about": about, "name": f"Ada {about}"}
            connection.execute(t.drift.insert().values(**values, differences=differences))
    before = desk.stored()
    path = "/applications/records/drift/repair/preview"
    found = desk.call("POST", path, {"ids": ["d-attributes", f"d-{MISSING}"]})
    assert [each["effect"] for each in found["items"]] == [
        "displayName: 'Ada' becomes empty; roles: 'Viewer' becomes 'Curator'.",
        "Dravo creates the account again, or adopts a matching one.",
    ]
    foreign = desk.http.post(f"{API}{path}", json={"ids": ["d-unexpected"]}, headers=desk.headers)
    assert foreign.status_code == 422 and "has no user in Dravo" in foreign.json["error"]["message"]
    assert desk.stored() == before
