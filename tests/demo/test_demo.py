"""`dravo demo`: from nothing to a running demo, its ready file, and a quick second start that finds what it had."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx

from dravo.client import Dravo
from dravo.demo import contractors, reading, scenario
from dravo.demo.running import free_port
from tests.harness import Provider, eventually


def start(folder: Path, port: int, ready: Path) -> tuple[subprocess.Popen[str], dict[str, Any], float]:
    ready.unlink(missing_ok=True)
    began = time.monotonic()
    command = [sys.executable, "-m", "dravo.cli.main", "demo", "--data", str(folder), "--port", str(port), "--ready-file", str(ready)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    eventually(ready.exists)
    return process, json.loads(ready.read_text()), time.monotonic() - began


def made(dravo: Dravo) -> dict[str, int]:
    """Count what somebody made: people, applications, assignments, tokens."""
    return {
        "people": dravo.people.list().total(), "applications": dravo.applications.list().total(), "sources": dravo.sources.list().total(),
        "assignments": dravo.assignments.list().total(),
    }  # fmt: skip


def stop(process: subprocess.Popen[str]) -> str:
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=40)
    return out


def test_the_demo_is_up_with_what_others_rely_on_and_comes_back_quickly_with_what_it_had(tmp_path: Path) -> None:
    folder, ready, port = tmp_path / "demo", tmp_path / "ready.json", free_port()
    process, first, _ = start(folder, port, ready)
    try:
        assert oct(ready.stat().st_mode)[-3:] == "600"
        assert set(first) == {"url", "operator", "api_token", "push", "applications", "stand_ins", "try"}
        with Dravo(first["url"], first["api_token"]) as dravo:
            stages = {stage["name"]: stage["count"] for stage in dravo.overview()["stages"]}
            # A leaver of the staff, and one of the crew; the register has 26 volunteers, and one more registered.
            assert stages["people"] == len(scenario.staff()) - 1 + len(scenario.CONTRACTORS) + len(contractors.CAME) + 26 + 1 + len(reading.CREW) - 1
            assert [run["state"] for run in dravo.sources.runs("estates")] == ["held", "failed", "done", "done", "done", "done"]
            assert {each["kind"] for each in dravo.sources.conflicts("estates")} == {"leaver", "e-mail known"}
            assert [run["state"] for run in dravo.sources.runs("volunteers")] == ["done", "done"]
            failed = dravo.deliveries.list(state="failed").page().items
            assert {each["person"]["user_name"] for each in failed} == {"ravi.chandrasen", "aroha.ngatai"}
            assert dravo.people.get("sam.underhill")["id"] != dravo.people.get("sam.underhill2")["id"]
            assert dravo.people.get(scenario.LEAVER)["state"] == "gone"
        follow(first)
        for address in first["stand_ins"].values():
            assert "<table>" in httpx.get(address).text
        with Dravo(first["url"], first["api_token"]) as dravo:
            before = made(dravo)
    finally:
        told = stop(process)
    assert first["operator"]["password"] in told
    process, second, seconds = start(folder, port, ready)
    try:
        assert seconds < 20
        assert second["api_token"] == first["api_token"]
        # Nothing of the scenario is made a second time.
        with Dravo(second["url"], second["api_token"]) as dravo:
            assert made(dravo) == before
        follow(second)
    finally:
        stop(process)


def follow(ready: dict[str, Any]) -> None:
    """Provider somebody new into the group that the ready file names, and find them in its application."""
    trying, push_to = ready["try"], ready["push"][0]
    to = next(each for each in ready["applications"] if each["key"] == trying["application"])
    provider = Provider(push_to["base_url"], push_to["token"])
    name = f"visitor.{time.monotonic_ns()}"
    group = provider.http.get("/Groups", params={"filter": f'displayName eq "{trying["group"]}"'}).json()["Resources"][0]["id"]
    person = provider.person(name)
    provider.add(group, person)

    def there() -> dict[str, Any] | None:
        query = {"filter": f'userName eq "{name}"'}
        found = httpx.get(f"{to['base_url']}/Users", params=query, headers={"Authorization": f"Bearer {to['token']}"}).json()["Resources"]
        return dict(found[0]) if found else None

    account = eventually(there, seconds=2)
    assert account is not None
    assert [role["value"] for role in account["roles"]] == [trying["role"]]
    provider.http.delete(f"/Users/{person}")
    eventually(there, lambda seen: seen is None, 5)


def test_the_scenario_is_the_same_each_time_and_names_nobody_real() -> None:
    assert scenario.crowd(50) == scenario.crowd(50)
    people = scenario.staff()
    names = [person["userName"] for person in people]
    assert len(names) == len(set(names)) >= 60
    assert all(person["emails"][0]["value"].endswith("@fernhollow.example") for person in people)
    assert {member for members in scenario.groups(people).values() for member in members} <= set(names)
