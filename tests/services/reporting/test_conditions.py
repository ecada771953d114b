"""Each condition that needs an operator is found, with its words, number and page."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from dravo.core.instants import later
from dravo.core.notifications.event_kinds import EVENT_KINDS
from dravo.core.notifications.reporting import Condition
from dravo.services import settings
from dravo.services.access import license_plans
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.reporting import conditions
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from tests.service_fixture import ServiceFixture

DAY = 86_400
NOW = clock.now()


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    """A source with a user, and an application."""
    services.source("staff")
    services.user(services.rows(t.source, key="staff")[0].id, "una")
    services.application("records", "viewer")
    return services


ROUTER = (Path(__file__).parents[3] / "console/src/app/router.ts").read_text()
# The console's pages, as patterns of their paths.
PAGES = [
    re.sub(r"/:\w+", "/[^/]+", re.sub(r"/:\w+\?", "(/[^/]+)?", path))
    for path in re.findall(r"path: '(/[^'()]*)'", ROUTER)
]


def found(services: ServiceFixture) -> dict[str, Condition]:
    """Return what needs an operator by kind; each has a page of the console."""
    seen = {each.kind: each for each in conditions.current(services.ctx, clock.now())}
    for each in seen.values():
        path = each.path.partition("?")[0]
        assert any(re.fullmatch(page, path) for page in PAGES), each.path
    return seen


def ids(services: ServiceFixture) -> tuple[str, str, str]:
    """Return the IDs of the application, the source and the user."""
    tables = (t.application, t.source, t.user)
    application, source, user = (services.rows(table)[0].id for table in tables)
    return application, source, user


def write(services: ServiceFixture, table: Any, **values: Any) -> None:
    with services.ctx.database.writing() as connection:
        connection.execute(table.insert().values(**values))


def change(services: ServiceFixture, table: Any, **values: Any) -> None:
    with services.ctx.database.writing() as connection:
        connection.execute(table.update().values(**values))


def test_nothing_needs_an_operator_at_first(garden: ServiceFixture) -> None:
    assert found(garden) == {}


def test_tasks_pauses_drift_and_secrets_of_applications(garden: ServiceFixture) -> None:
    application, _, user = ids(garden)
    account = {"id": "account", "user_id": user, "application_id": application, "desired": {"want": "x"}}
    account |= {"desired_version": 1, "applied_version": 0, "pending_since": NOW}
    write(garden, t.account, **account)
    task = {"account_id": "account", "application_id": application, "user_id": user, "version": 1}
    task |= {"desired_state": "present", "attempts": 1, "created_at": NOW, "message": "403 Forbidden"}
    write(garden, t.task, **task, id=new_id(), status="failed")
    change(
        garden,
        t.application,
        paused_at=NOW,
        trouble="401 Unauthorized",
        secret="x",
        secret_expires_at=later(clock.now(), 5 * DAY),
    )
    drift = {"id": new_id(), "application_id": application, "kind": "missing", "about": "a", "name": "Una"}
    drift |= {"status": "open", "first_seen_at": NOW, "last_seen_at": NOW, "run_id": "run"}
    write(garden, t.drift, **drift)
    seen = found(garden)
    assert seen["task_failed"].title == "Records: 1 provisioning task failed"
    assert "403 Forbidden" in seen["task_failed"].text and seen["task_failed"].application_id == application
    assert "401 Unauthorized" in seen["application_paused"].text
    assert seen["drift_found"].title == "Records: 1 difference found"
    assert seen["secret_expiring"].level == 7
    change(garden, t.task, status="held")
    change(garden, t.application, secret_expires_at=later(clock.now(), -DAY))
    seen = found(garden)
    assert seen["removals_held"].title == "Records: 1 removal held" and "task_failed" not in seen
    assert seen["secret_expiring"].level == 0 and "expired on" in seen["secret_expiring"].title


def test_seats_that_are_nearly_full_and_full(garden: ServiceFixture) -> None:
    application, source, _ = ids(garden)
    license_plans.add(garden.ctx, garden.caller, "records", NewLicensePlan("full", "Full", 1, 10))
    plan = garden.rows(t.license_plan)[0].id
    for number in range(10):
        garden.user(source, f"user{number}")
        user = garden.rows(t.user, user_name=f"user{number}")[0].id
        seat = {"id": new_id(), "user_id": user, "application_id": application, "plan_id": plan}
        write(garden, t.seat, **seat, requested_at=NOW, from_at=NOW)
        kinds = found(garden).keys() & {"seats_nearly_full", "seats_full"}
        assert kinds == ({"seats_full"} if number == 9 else {"seats_nearly_full"} if number == 8 else set())
    assert found(garden)["seats_full"].title == "Records: 10 of 10 seats of Full are taken"


def test_conflicts_and_imports_of_sources(garden: ServiceFixture) -> None:
    _, source, _ = ids(garden)
    conflict = {"id": new_id(), "source_id": source, "subject": "user", "native_id": "1", "kind": "user"}
    conflict |= {
        "name": "Una",
        "message": "Two users match.",
        "entry": {},
        "candidates": [],
        "status": "open",
    }
    write(garden, t.conflict, **conflict, first_seen_at=NOW, last_seen_at=NOW)
    write(
        garden,
        t.source_import,
        source_id=source,
        kind="csv",
        settings={},
        enabled=True,
        schedule="0 * * * *",
    )
    run = {"id": new_id(), "kind": "import", "source_id": source, "requested_by": "una", "requested_at": NOW}
    run |= {"ended_at": NOW, "progress": 0, "stop_requested": False, "preview": False, "message": "No file."}
    write(garden, t.run, **run, status="failed")
    seen = found(garden)
    assert seen["conflict_waiting"].title.endswith("1 conflict waits for a decision")
    assert "No file." in seen["import_failed"].text and seen["import_failed"].source_id == source
    change(garden, t.run, status="held")
    assert found(garden)["import_held"].title.endswith("the last import is held")


def test_tokens_certificates_and_sign_ins_of_sources(garden: ServiceFixture) -> None:
    _, source, _ = ids(garden)
    scim_tokens.add_token(garden.ctx, garden.caller, "staff", "Provider")
    soon = later(clock.now(), DAY / 2)
    change(garden, t.source_token, created_at=later(NOW, -90 * DAY), last_used_at=NOW, expires_at=soon)
    sign_in_settings.change(garden.ctx, garden.caller, "staff", {"protocol": "saml"})
    change(
        garden,
        t.source_sign_in,
        status="enabled",
        provider={"ends_at": later(clock.now(), 20 * DAY)},
        waiting={"certificates": []},
        trouble="404 Not Found",
    )
    settings.change(garden.ctx, garden.caller, "refused_sign_ins", 3)
    trace = {"source_id": source, "at": clock.now(), "outcome": "refused", "message": "no", "hint": ""}
    trace |= {"name": "una", "steps": [], "received": {}, "result": {}}
    for _ in range(3):
        assert "sign_ins_refused" not in found(garden)
        write(garden, t.sign_in_trace, id=new_id(), **trace)
    seen = found(garden)
    assert seen["token_expiring"].level == 1 and "'Provider'" in seen["token_expiring"].title
    assert seen["certificate_expiring"].level == 30
    assert seen["provider_changed"].path == "/sources/staff/sign-in"
    assert seen["provider_unreadable"].text == "404 Not Found"
    assert "3 sign-ins were refused" in seen["sign_ins_refused"].title
    # A token that was made for one day is meant to end.
    change(garden, t.source_token, created_at=NOW)
    assert "token_expiring" not in found(garden)


def test_our_certificate_that_expires(garden: ServiceFixture) -> None:
    sign_in_settings.change(garden.ctx, garden.caller, "staff", {"protocol": "saml"})
    change(garden, t.source_sign_in, status="enabled")
    assert "key_expiring" not in found(garden)
    in_five_years = later(clock.now(), (5 * 365 - 3) * DAY)
    kinds = {each.kind: each for each in conditions.current(garden.ctx, in_five_years)}
    assert kinds["key_expiring"].level == 7


def test_a_review_that_is_due_soon(garden: ServiceFixture) -> None:
    application, _, user = ids(garden)
    review = {"id": "review", "label": "Autumn", "narrowed": {}, "created_at": NOW, "created_by": "una"}
    write(garden, t.review, **review, until_at=later(clock.now(), 3 * DAY))
    row = {"id": new_id(), "review_id": "review", "user_id": user, "application_id": application}
    row |= {"role_id": garden.rows(t.role)[0].id, "since": NOW, "reasons": []}
    write(garden, t.review_row, **row)
    assert found(garden)["review_due"].title == "Records: 1 row of the review 'Autumn' undecided"
    change(garden, t.review_row, decision="confirmed")
    assert "review_due" not in found(garden)


def test_kinds_have_keys_of_their_own() -> None:
    assert len({each.key for each in EVENT_KINDS}) == len(EVENT_KINDS)
