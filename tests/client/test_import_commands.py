"""How a source is read, from the command line and through the client, against a running service and a real
directory.
"""

from __future__ import annotations

import functools
import json
import os
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from dravo.client import ApiError
from dravo.demo import directory
from dravo.demo.directory import user_dn
from tests import command_line, harness
from tests.command_line import Completed
from tests.directories import Estates, crowd, estates
from tests.harness import Running, eventually

Dravo = Callable[..., Completed]


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[Running]:
    with harness.service(tmp_path / "data") as started:
        yield started


@pytest.fixture
def crew(tmp_path: Path) -> Iterator[Estates]:
    with estates(tmp_path / "directory", crowd(400, 8, 30)) as made:
        yield made


@pytest.fixture
def dravo(alone: Running) -> Dravo:
    return functools.partial(command_line.dravo, alone)


def test_a_directory_is_connected_looked_at_and_read_to_the_letter_of_the_guide(
    dravo: Dravo, alone: Running, crew: Estates, tmp_path: Path
) -> None:
    (tmp_path / "ca.pem").write_text(crew.directory.ca)
    assert dravo("source", "add", "estates", "--label", "Estates directory").returncode == 0
    wrong = dravo("source", "set-import", "estates", "ldap", "--set", "adress=ldaps://x")
    assert wrong.returncode != 0 and "no setting 'adress'" in wrong.stderr
    assert "Did you mean 'address'?" in wrong.stderr
    listed = dravo("source", "connectors", "ldap")
    assert all(
        name in listed.stdout for name in ("users_base", "subtree, one_level", "required", "yes or no")
    )
    unknown = dravo("source", "connectors", "ladp")
    assert unknown.returncode != 0 and "There is no connector 'ladp'" in unknown.stderr
    settings = [
        f"--set={name}={value}" for name, value in {**crew.settings, "ca": f"@{tmp_path / 'ca.pem'}"}.items()
    ]
    shown = dravo(
        "source",
        "set-import",
        "estates",
        "ldap",
        *settings,
        "--secret-file",
        "-",
        stdin=directory.READER_PASSWORD + "\n",
    )
    assert (
        shown.returncode == 0 and directory.READER_PASSWORD not in shown.stdout and "kept" in shown.stdout
    ), shown.stderr
    check = dravo("source", "check-import", "estates")
    assert (
        check.returncode == 0
        and "Bound as " in check.stdout
        and "\nResult of the source policy for the first records:\n" in check.stdout
    )
    refused = dravo("source", "run", "estates")
    assert refused.returncode != 0 and "' is disabled." in refused.stderr
    look = dravo("source", "run", "estates", "--preview")
    assert look.returncode == 0 and "Nothing was changed" in look.stdout and "400" in look.stdout
    assert (
        dravo("source", "set-import", "estates", "--enabled", "--schedule", "30 * * * *").stdout.count(
            "At 30 minutes past the hour"
        )
        == 1
    )
    assert dravo("source", "run", "estates").returncode == 0
    crew.change(user_dn(first_of(alone)), title=["Keeper"])
    run = json.loads(dravo("source", "run", "estates", "--whole", "--json").stdout)
    assert {each["name"]: each["number"] for each in run["counts"]}["changed"] == 1
    assert (
        "title: Seasonal -> Keeper" in dravo("source", "run-entries", "estates", "--kind", "changed").stdout
    )
    assert "done" in dravo("source", "runs", "estates").stdout
    wish = '{"users": "title ne \\"Seasonal\\""}'
    tried = dravo("source", "set-policy", "estates", "--file", "-", "--preview", stdin=wish)
    assert "399 leave" in tried.stdout
    answers = json.loads(dravo("source", "policy", "estates", "--json").stdout)
    assert answers["match"] == "ask"
    with alone.dravo as client:
        user = client.users.get(first_of(alone))
        # Nobody is known by several sources.
        assert client.sources.preview_priority("estates", deactivation_wins=True)["unchanged"] == 0
        assert client.sources.change_priority("estates", priority=5)["priority"] == 5
    assert "unchanged 1" in dravo("source", "refresh", "estates", user["user_name"]).stdout
    refused = dravo("source", "link-record", "estates", user["user_name"], "--to-new-user")
    assert refused.returncode != 0 and "only record" in refused.stderr
    assert "No conflicts." in dravo("source", "conflicts", "estates").stdout
    assert "No import is running." in dravo("source", "stop-run", "estates").stderr


def first_of(running: Running) -> str:
    with running.dravo as client:
        return min(each["user_name"] for each in client.users.list())


def test_a_killed_import_resumes_without_duplicates(alone: Running, crew: Estates) -> None:
    with alone.dravo as client:
        client.sources.add("estates", "Estates directory")
        client.sources.change_import(
            "estates",
            kind="ldap",
            settings=crew.settings,
            secret=directory.READER_PASSWORD,
            schedule="",
            enabled=True,
        )
        client.sources.start_run("estates")
        time.sleep(0.3)
        killed = alone.pid("worker")
        os.kill(killed, signal.SIGKILL)
        eventually(lambda: alone.pid("worker") != killed)
        runs = eventually(
            lambda: list(client.sources.runs("estates")),
            lambda found: all(each["ended_at"] for each in found),
        )
        assert runs[0]["status"] == "done", runs
        users = list(client.users.list())
        assert len(users) == len({each["user_name"] for each in users}) == 400
        assert {each["members"] for each in client.groups.list(source="estates")} == {30}


def test_sources_are_read_side_by_side_and_a_run_can_be_stopped(alone: Running, crew: Estates) -> None:
    with alone.dravo as client:
        for key in ("one", "other"):
            client.sources.add(key, key.title())
            # Each has the same users; the second one's are in doubt.
            client.sources.change_import(
                key,
                kind="ldap",
                settings=crew.settings,
                secret=directory.READER_PASSWORD,
                schedule="",
                enabled=True,
            )
        runs = {key: client.sources.start_run(key)["id"] for key in ("one", "other")}
        with pytest.raises(ApiError, match="' is in progress"):
            client.sources.start_run("one")
        done = {
            key: eventually(
                lambda key=key: client.sources.run(key, runs[key]), lambda run: run["ended_at"] is not None
            )
            for key in runs
        }
        counts: dict[str, Any] = {
            key: {each["name"]: each["number"] for each in run["counts"]} for key, run in done.items()
        }
        # Anyone who came first is somebody; nobody is two, and nobody is guessed to be the same.
        assert (
            counts["one"].get("new", 0) + counts["other"].get("new", 0)
            == 400
            == len(list(client.users.list()))
        )
        assert counts["one"].get("conflict", 0) + counts["other"].get("conflict", 0) == 400
        again = client.sources.start_run("other", whole=True)
        client.sources.stop_run("other", again["id"])
        ended = eventually(
            lambda: client.sources.run("other", again["id"]), lambda run: run["ended_at"] is not None
        )
        assert ended["status"] in ("stopped", "done")
        kinds = {each["kind"] for each in client.activity(kind="run")}
        assert kinds == {"run"}


@pytest.mark.parametrize(
    "command",
    [
        ("source", "set-import", "estates", "ldap", "--set", "ca=@{file}"),
        ("source", "set-import", "estates", "ldap", "--secret-file", "{file}"),
        ("source", "set-import", "estates", "csv", "--policy", "{file}"),
        ("source", "upload", "estates", "{file}"),
        ("source", "add-schema", "estates", "{file}"),
        ("sign-in", "set", "estates", "--protocol", "saml", "--metadata", "{file}"),
        ("sign-in", "set", "estates", "--protocol", "saml", "--certificate", "{file}"),
        ("sign-in", "set", "estates", "--policy", "{file}"),
        ("mapping", "assign", "records", "{file}"),
    ],
)
def test_a_missing_file_or_a_folder_is_explained(
    running: Running, tmp_path: Path, command: tuple[str, ...]
) -> None:
    for file in (tmp_path / "nothing-here.csv", tmp_path):
        done = command_line.dravo(running, *(word.format(file=file) for word in command))
        assert done.returncode == 2 and f"'{file}' cannot be read" in done.stderr, done.stderr
