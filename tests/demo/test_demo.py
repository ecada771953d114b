"""`dravo demo`: from nothing to a running demo, its ready file, and a quick second start that finds what it
had.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest
from rich.console import Console

from dravo.client import Dravo
from dravo.demo import contractors, emails, import_sources, scenario
from dravo.demo.runner import Demo
from dravo.supervisor import Service, ServiceAddress
from tests.harness import Provider, RunningDemo, eventually, free_port


def test_the_first_start_says_what_it_does_and_where_everything_is(demo: RunningDemo) -> None:
    told = demo.first_start
    for step in (
        "Set up the data folder",
        "Start the service",
        "Add applications",
        "Import the estates directory",
        "Sign in contractors",
    ):
        assert step in told
    assert demo.ready["operator"]["password"] in told


def test_administrators_got_an_email_about_the_certificate_that_expires(demo: RunningDemo) -> None:
    def letters() -> list[dict[str, str]]:
        return list(httpx.get(f"{demo.ready['stand_ins']['mail']}/letters", trust_env=False).json())

    def about_the_certificate() -> bool:
        told = [each["subject"] for each in letters() if each["to"] == "edmund.sallow@fernhollow.example"]
        return any("the certificate of the provider expires on " in each for each in told)

    # What waited when the first start was stopped is sent by the second one.
    eventually(about_the_certificate)
    with demo.dravo as dravo:
        (event,) = dravo.notifications.list(kind="certificate_expiring", status="open")
        assert event["source"] is not None and event["source"]["key"] == contractors.KEY
        kinds = {each["kind"] for each in dravo.notifications.list()}
    assert kinds >= {"test_sign_in_refused", "access_requested", "import_held", "task_failed", "seats_full"}
    shown = {"Test email from Dravo", "Your sign-in code", "Your request for Ticket Desk"}
    shown |= {emails.ANNOUNCED[0], "Invitation to your applications", "Choose a new password"}
    eventually(lambda: {each["subject"] for each in letters()}, lambda seen: seen >= shown)
    # The hourly summary of the estates desk was sent at once.
    assert [each["subject"] for each in letters() if each["to"] == "estates.desk@fernhollow.example"]


def statuses_of_runs(dravo: Dravo, source: str) -> list[str]:
    """Return how a source's runs ended, without those of the schedule: one can be due while the tests run."""
    return [run["status"] for run in dravo.sources.runs(source) if run["requested_by"] != "the schedule"]


def test_the_demo_has_what_others_rely_on_and_finds_what_it_had(demo: RunningDemo) -> None:
    ready = demo.ready
    assert demo.ready_file_mode == "600"
    assert set(ready) == {"url", "operator", "api_token", "push", "applications", "stand_ins", "try"}
    # This is its second start: it finds what is there, and does nothing of the scenario a second time.
    assert demo.seconds < 20
    with demo.dravo as dravo:
        stages = {stage["name"]: stage["count"] for stage in dravo.overview()["stages"]}
        # A leaver of the staff, and one of the crew; the register has 26 volunteers, and one more registered.
        users = (
            len(scenario.staff())
            - 1
            + len(scenario.CONTRACTORS)
            + len(contractors.CAME)
            + 26
            + 1
            + len(import_sources.CREW)
            - 1
            # Guests: invited ones, and one with a one-time password.
            + len(emails.INVITED)
            + 1
        )
        # Tests of the sign-in page may have registered others.
        asked = sum(1 for each in dravo.users.list(words="asked.by."))
        assert stages["users"] - asked == users
        assert statuses_of_runs(dravo, "estates") == ["held", "failed", "done", "done", "done", "done"]
        assert {each["kind"] for each in dravo.sources.conflicts("estates")} == {"leaver", "email_known"}
        assert statuses_of_runs(dravo, "volunteers") == ["done", "done"]
        assert dravo.provisioning.summary(wait=60)["settled"]
        failed = dravo.tasks.list(status="failed").page().items
        assert {each["user"]["user_name"] for each in failed} == {"ravi.chandrasen", "aroha.ngatai"}
        assert dravo.users.get("sam.underhill")["id"] != dravo.users.get("sam.underhill2")["id"]
        assert dravo.users.get(scenario.LEAVER)["status"] == "left"
    for address in ready["stand_ins"].values():
        assert "<table>" in httpx.get(address).text
    follow(ready)


def test_ctrl_c_in_a_terminal_reaches_no_stand_in(demo: RunningDemo) -> None:
    """It goes to the whole group of processes in the foreground: a stand-in in it would end with a
    traceback.
    """
    process = psutil.Process(demo.process.pid)
    group = os.getpgid(process.pid)
    stand_ins = [
        each
        for each in process.children()
        if "dravo.demo." in " ".join(each.cmdline()) or each.name() == "slapd"
    ]
    assert len(stand_ins) >= 6
    assert all(os.getpgid(each.pid) != group for each in stand_ins)


def test_ctrl_c_ends_a_first_start_in_the_middle(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "dravo.cli.main",
        "demo",
        "--data",
        str(tmp_path / "data"),
        "--port",
        str(free_port()),
    ]
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, start_new_session=True
    )
    assert process.stdout is not None
    while "Start the service" not in process.stdout.readline():
        assert process.poll() is None
    everyone = psutil.Process(process.pid).children(recursive=True)
    os.killpg(process.pid, signal.SIGINT)
    told, _ = process.communicate(timeout=10)
    assert process.returncode == 130 and "Traceback" not in told
    eventually(
        lambda: [each for each in everyone if each.is_running() and each.status() != psutil.STATUS_ZOMBIE],
        lambda left: left == [],
        10,
    )


def test_an_interrupt_that_a_destructor_swallowed_ends_the_next_step(tmp_path: Path) -> None:
    demo = Demo(tmp_path, 1, None, Console(quiet=True))
    service = demo.service = Service(tmp_path, ServiceAddress("127.0.0.1", 1))
    with demo._step("Before"):
        pass
    with contextlib.suppress(KeyboardInterrupt):
        service.stop_soon()
    with pytest.raises(KeyboardInterrupt), demo._step("After"):
        raise AssertionError("the step was begun")


def follow(ready: dict[str, Any]) -> None:
    """Provider somebody new into the group that the ready file names, and find them in its application."""
    trying, push_to = ready["try"], ready["push"][0]
    to = next(each for each in ready["applications"] if each["key"] == trying["application"])
    provider = Provider(push_to["base_url"], push_to["token"])
    name = f"visitor.{time.monotonic_ns()}"
    group = provider.http.get("/Groups", params={"filter": f'displayName eq "{trying["group"]}"'}).json()[
        "Resources"
    ][0]["id"]
    user = provider.user(name)
    provider.add(group, user)

    def there() -> dict[str, Any] | None:
        query = {"filter": f'userName eq "{name}"'}
        found = httpx.get(
            f"{to['base_url']}/Users", params=query, headers={"Authorization": f"Bearer {to['token']}"}
        ).json()["Resources"]
        return dict(found[0]) if found else None

    account = eventually(there, seconds=2)
    assert account is not None
    assert [role["value"] for role in account["roles"]] == [trying["role"]]
    provider.http.delete(f"/Users/{user}")
    eventually(there, lambda seen: seen is None, 5)


def test_the_scenario_is_repeatable_and_names_no_real_person() -> None:
    assert scenario.crowd(50) == scenario.crowd(50)
    users = scenario.staff()
    names = [user["userName"] for user in users]
    assert len(names) == len(set(names)) >= 60
    assert all(user["emails"][0]["value"].endswith("@fernhollow.example") for user in users)
    assert {member for members in scenario.groups(users).values() for member in members} <= set(names)
