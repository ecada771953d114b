"""Work that takes long: how far it is, stopping it, and nobody else's business."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import pytest

from dravo.client import ApiError
from dravo.core.errors import NotFound
from dravo.services import jobs
from dravo.services.access import assignment_changes
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import preview
from dravo.services.jobs import JobRegistry, JobStopped
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.web.app import create_app
from tests.harness import Running
from tests.service_fixture import ServiceFixture

USERS = 700
Fresh = Callable[[str], str]


def test_a_preview_tells_how_far_it_is_and_ends_where_it_is_not_wanted(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.application("records")
    staff = services.source()
    for number in range(12):
        services.user(staff, f"p{number}")
    monkeypatch.setattr(preview.user_snapshots, "CHUNK", 5)
    told: list[tuple[int, int]] = []
    known = JobRegistry()
    monkeypatch.setattr(
        jobs,
        "report_progress",
        lambda done, total, tell=jobs.report_progress: (told.append((done, total)), tell(done, total)),
    )
    with known.for_("edmund", "a-preview"):
        assert (
            assignment_changes.preview_adding(
                services.ctx, AssignmentRequest("records", "viewer", everyone=True)
            ).gained
            == 12
        )
        assert (known.get("edmund", "a-preview").done, known.get("edmund", "a-preview").total) == (12, 12)
    assert told == [(5, 12), (10, 12), (12, 12)]
    with known.for_("edmund", "a-preview"):
        known.stop("edmund", "a-preview")
        with pytest.raises(JobStopped):
            assignment_changes.preview_adding(
                services.ctx, AssignmentRequest("records", "viewer", everyone=True)
            )


def test_a_session_belongs_to_one_user_and_ends() -> None:
    known = JobRegistry()
    with known.for_("edmund", "a-preview"):
        with pytest.raises(NotFound):
            known.get("somebody", "a-preview")
        with pytest.raises(NotFound):
            known.stop("somebody", "a-preview")
    with pytest.raises(NotFound):
        known.get("edmund", "a-preview")


def test_a_caller_watches_and_stops_by_the_name_that_they_gave(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.application("records")
    staff = services.source()
    for number in range(12):
        services.user(staff, f"p{number}")
    made = operators.add(services.ctx, services.caller, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR))
    token = api_tokens.create(
        services.ctx, Caller(made.id, made.name, SUPER_ADMINISTRATOR), "Tests", "write"
    ).token
    app = create_app(services.ctx, "http://127.0.0.1:1")
    headers = {"Authorization": f"Bearer {token}", "Dravo-Job": "looked-at-by-a-test"}
    body: dict[str, Any] = {"application": "records", "role": "viewer", "everyone": True}
    # The preview stands still after its first chunk until it was watched and stopped.
    monkeypatch.setattr(preview.user_snapshots, "CHUNK", 5)
    reached, may_go_on = threading.Event(), threading.Event()
    tell = jobs.report_progress

    def stand_still(done: int, total: int) -> None:
        tell(done, total)
        reached.set()
        assert may_go_on.wait(30)

    monkeypatch.setattr(jobs, "report_progress", stand_still)
    answers: list[Any] = []
    asking = threading.Thread(
        target=lambda: answers.append(
            app.test_client().post("/api/v1/assignments/preview", json=body, headers=headers)
        )
    )
    asking.start()
    try:
        assert reached.wait(30)
        http = app.test_client()
        work = "/api/v1/jobs/looked-at-by-a-test"
        assert http.get(work, headers=headers).json == {"done": 5, "total": 12}
        twice = http.post("/api/v1/assignments/preview", json=body, headers=headers)
        assert (twice.status_code, twice.json["error"]["code"]) == (409, "work_name_in_use")
        # Also a caller that sends the header with every request stops its work.
        assert http.delete(work, headers=headers).status_code == 204
    finally:
        may_go_on.set()
        asking.join()
    assert answers[0].status_code == 409 and answers[0].json["error"]["code"] == "stopped"
    assert http.get(work, headers=headers).status_code == 404
    answer = http.post("/api/v1/assignments/preview", json=body, headers={**headers, "Dravo-Job": "no name!"})
    assert answer.status_code == 422 and "8 to 64" in answer.json["error"]["hint"]


def test_the_client_tells_how_far_it_is(running: Running, fresh: Fresh) -> None:
    key, told = fresh("records"), list[tuple[int, int]]()
    running.application(key)
    with running.dravo as dravo:
        with dravo.watched(lambda done, total: told.append((done, total)), every=0.01):
            dravo.call(
                "POST", "/assignments/preview", body={"application": key, "role": "viewer", "everyone": True}
            )
        assert all(0 < done <= total for done, total in told)
        with (
            pytest.raises(ApiError, match="There is no application with the key"),
            dravo.watched(lambda done, total: None),
        ):
            dravo.call(
                "POST",
                "/assignments/preview",
                body={"application": fresh("none"), "role": "viewer", "everyone": True},
            )
