"""Work that takes long: how far it is, stopping it, and nobody else's business."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

import httpx
import pytest

from dravo.client import ApiError
from dravo.core.errors import NotFound
from dravo.services import previewing, waiting
from dravo.services.subjects import Wish
from dravo.services.waiting import Waiting, WasStopped
from tests.harness import Running, eventually
from tests.rooms import Rooms

PEOPLE = 700
Fresh = Callable[[str], str]


def test_a_preview_tells_how_far_it_is_and_ends_where_it_is_not_wanted(rooms: Rooms, monkeypatch: pytest.MonkeyPatch) -> None:
    rooms.application("records")
    staff = rooms.source()
    for number in range(12):
        rooms.person(staff, f"p{number}")
    monkeypatch.setattr(previewing.snapshots, "CHUNK", 5)
    told: list[tuple[int, int]] = []
    known = Waiting()
    monkeypatch.setattr(waiting, "tell", lambda done, total, tell=waiting.tell: (told.append((done, total)), tell(done, total)))
    with known.for_("edmund", "a-preview"):
        assert previewing.preview_adding(rooms.house, Wish("records", "viewer", everybody=True))["gained"] == 12
        assert (known.get("edmund", "a-preview").done, known.get("edmund", "a-preview").total) == (12, 12)
    assert told == [(5, 12), (10, 12), (12, 12)]
    with known.for_("edmund", "a-preview"):
        known.stop("edmund", "a-preview")
        with pytest.raises(WasStopped):
            previewing.preview_adding(rooms.house, Wish("records", "viewer", everybody=True))


def test_it_is_nobody_elses_and_gone_when_it_has_ended() -> None:
    known = Waiting()
    with known.for_("edmund", "a-preview"):
        with pytest.raises(NotFound):
            known.get("somebody", "a-preview")
        with pytest.raises(NotFound):
            known.stop("somebody", "a-preview")
    with pytest.raises(NotFound):
        known.get("edmund", "a-preview")


def test_a_caller_watches_and_stops_by_the_name_that_they_gave(running: Running, fresh: Fresh) -> None:
    provider, key = running.provider(fresh("source")), fresh("records")
    running.application(key)
    for number in range(PEOPLE):
        provider.person(f"{key}-{number}")
    headers = {"Authorization": f"Bearer {running.api_token}", "Dravo-Work": "looked-at-by-a-test"}
    body: dict[str, Any] = {"application": key, "role": "viewer", "everybody": True}
    answers: list[httpx.Response] = []

    def ask() -> None:
        url = f"{running.url}/api/v1/assignments/preview"
        answers.append(httpx.post(url, json=body, headers=headers, timeout=60, trust_env=False))

    with httpx.Client(base_url=f"{running.url}/api/v1", headers=headers, trust_env=False) as http:
        asking = threading.Thread(target=ask)
        asking.start()
        eventually(lambda: answers or http.delete("/work/looked-at-by-a-test").status_code == 204)
        asking.join()
        assert http.get("/work/looked-at-by-a-test").status_code == 404
        stopped = answers[0]
        assert stopped.status_code in (200, 409)
        assert stopped.status_code == 200 or stopped.json()["error"]["code"] == "stopped"
        answer = http.post("/assignments/preview", json=body, headers={"Dravo-Work": "no name!"})
        assert answer.status_code == 422 and "8 to 64" in answer.json()["error"]["mend"]


def test_the_client_tells_how_far_it_is(running: Running, fresh: Fresh) -> None:
    key, told = fresh("records"), list[tuple[int, int]]()
    running.application(key)
    with running.dravo as dravo:
        with dravo.watched(lambda done, total: told.append((done, total)), every=0.01):
            dravo.call("POST", "/assignments/preview", body={"application": key, "role": "viewer", "everybody": True})
        assert all(0 < done <= total for done, total in told)
        with pytest.raises(ApiError, match="no application"), dravo.watched(lambda done, total: None):
            dravo.call("POST", "/assignments/preview", body={"application": fresh("none"), "role": "viewer", "everybody": True})
