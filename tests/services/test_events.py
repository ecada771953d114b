"""The log says what the service does, a line for each event, and `/metrics` counts the same."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import httpx
import pytest
import structlog

from dravo.core.errors import NotSignedIn
from dravo.services import events
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.provisioning import holds
from dravo.services.reporting import metrics as reporting_metrics
from dravo.services.security import operators
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR
from dravo.services.security.rate_limits import RateLimiter
from dravo.store import clock
from tests.directories import Reading
from tests.harness import PASSWORD, Running, StandIn, eventually
from tests.service_fixture import ServiceFixture
from tests.services.imports.test_scim_and_csv import files


def counted(event: str, outcome: str) -> int:
    return events.counts()[event][outcome]


def lines_of(logged: Any, event: str) -> list[dict[str, Any]]:
    return [dict(each) for each in logged if each["event"] == events.WORDS[event]]


@pytest.mark.parametrize(
    ("content", "outcome"), [("id,login\n1,una\n2,ada\n", "done"), ('id,login\n1,"una\n', "failed")]
)
def test_an_import_run_is_one_line_and_counted(services: ServiceFixture, content: str, outcome: str) -> None:
    reading = Reading(
        services,
        "csv",
        {},
        key="register",
        policy={"attributes": [{"attribute": "userName", "expression": "login"}]},
    )
    files(reading, users=content)
    before = counted(events.RUN, outcome)
    with structlog.testing.capture_logs() as logged:
        run = reading.run()
    (line,) = lines_of(logged, events.RUN)
    assert (line["outcome"], line["source"], line["run"]) == (outcome, "register", run["id"])
    assert counted(events.RUN, outcome) == before + 1


def test_held_removals_are_one_line_for_each_application(services: ServiceFixture) -> None:
    staff = services.source()
    services.application("records")
    users = [services.user(staff, f"p{number}") for number in range(12)]
    assignment = assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group=services.group(staff, "All", *users)),
    )
    now = clock.now()
    with services.ctx.database.writing() as connection:
        # They have all gone over.
        connection.exec_driver_sql(
            "UPDATE account SET applied = desired, last_applied = desired, "
            "applied_version = desired_version, remote_id = id"
        )
        connection.exec_driver_sql(f"UPDATE task SET status = 'done', closed_at = '{now}'")
    assignments.remove(services.ctx, operators.SYSTEM, assignment.id, Confirmation("Records"))
    with services.ctx.database.writing() as connection:
        # Nobody has looked at these removals.
        connection.exec_driver_sql(
            "UPDATE task SET released_at = NULL, released_by = NULL WHERE closed_at IS NULL"
        )
    process_marks(services.ctx)
    before = counted(events.HOLD, "removals")
    with structlog.testing.capture_logs() as logged:
        holds.hold_removals(services.ctx, clock.now())
    (line,) = lines_of(logged, events.HOLD)
    assert (line["application"], line["number"], line["log_level"]) == ("records", 12, "warning")
    assert counted(events.HOLD, "removals") == before + 12


def test_a_failed_sign_in_is_one_line_without_the_password(services: ServiceFixture) -> None:
    operators.add(services.ctx, services.caller, NewOperator("una.kerrigan", SUPER_ADMINISTRATOR), PASSWORD)
    with structlog.testing.capture_logs() as logged, pytest.raises(NotSignedIn):
        operator_sessions.sign_in(
            services.ctx, RateLimiter(9, 60), "una.kerrigan", "a-wrong-password", "192.0.2.7"
        )
    (line,) = lines_of(logged, events.SIGN_IN)
    assert (line["outcome"], line["operator"], line["address"]) == ("operator", "una.kerrigan", "192.0.2.7")
    assert "a-wrong-password" not in str(logged)


def test_an_unknown_outcome_is_logged_and_stops_no_other_task() -> None:
    with structlog.testing.capture_logs() as logged:
        events.note_tasks("records", {"something new": 2, "done": 1})
    assert [(line["something new"], line["done"]) for line in lines_of(logged, events.TASK)] == [(2, 1)]


def test_metrics_count_what_the_log_tells() -> None:
    events.note(events.PAUSE, "application", application="records")
    text = list(reporting_metrics.as_text(reporting_metrics.of_events()))
    assert "# TYPE dravo_pauses counter" in text
    assert f'dravo_pauses_total{{outcome="application"}} {counted(events.PAUSE, "application")}' in text


def test_requests_tasks_and_pauses_are_logged(
    running: Running, app: StandIn, fresh: Callable[[str], str]
) -> None:
    """The service itself: each line is JSON, and the lines of a request carry the ID that its response
    has.
    """
    key, name = fresh("records"), fresh("ada")
    running.application(key, app)
    provider = running.provider(fresh("source"))
    provider.user(name)
    asked = httpx.get(
        f"{running.url}/api/v1/users?q={name}",
        headers={"Authorization": f"Bearer {running.api_token}"},
        trust_env=False,
    )
    given = httpx.get(
        f"{running.url}/api/v1/none", headers={"X-Request-ID": "from-the-proxy-7"}, trust_env=False
    )
    forged = httpx.get(
        f"{running.url}/api/v1/none", headers={"X-Request-ID": '"} forged {"'}, trust_env=False
    )
    assert given.headers["X-Request-ID"] == "from-the-proxy-7"
    assert "forged" not in forged.headers["X-Request-ID"]

    def logged() -> list[dict[str, Any]]:
        text = (running.folder / "service.log").read_text().splitlines()
        return [json.loads(line) for line in text if line.startswith("{")]

    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", user=name)
        running.settled(key)
        app.faults(token="another")
        dravo.assignments.add(key, "curator", user=name)
        eventually(
            lambda: [
                each
                for each in logged()
                if each["event"] == "application paused" and each["application"] == key
            ]
        )
    lines = logged()
    of_request = [each for each in lines if each.get("request_id") == asked.headers["X-Request-ID"]]
    assert [(each["event"], each["path"], each["status"]) for each in of_request] == [
        ("request", "/api/v1/users", 200)
    ]
    assert name not in str(of_request), "what was searched for is not in the log"
    tasks = [each for each in lines if each["event"] == "tasks attempted" and each["application"] == key]
    assert sum(each.get("done", 0) for each in tasks) == 1
    metrics = httpx.get(
        f"{running.url}/metrics", headers={"Authorization": f"Bearer {running.api_token}"}, trust_env=False
    ).text
    assert 'dravo_tasks_total{outcome="done"}' in metrics
    assert 'dravo_pauses_total{outcome="application"} ' in metrics
