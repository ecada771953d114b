"""The client library and the command line against the running service."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

import pytest

from dravo.client import (
    ApiError,
    AuthenticationRequired,
    Conflict,
    Dravo,
    InvalidRequest,
    NotAllowed,
    NotFound,
    ServiceUnreachable,
)
from dravo.demo.support import free_port
from tests.command_line import dravo
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_pages_are_iterated_over_as_one_list(running: Running, fresh: Fresh) -> None:
    provider, mark = running.provider(fresh("source")), fresh("iterated")
    for number in range(5):
        provider.user(f"{mark}.{number}")
    with running.dravo as dravo:
        pages = dravo.users.list(words=mark)
        pages._count = 2
        assert [user["user_name"] for user in pages] == [f"{mark}.{number}" for number in range(5)]
        assert pages.total() == 5


def test_each_way_to_fail_has_its_class(running: Running, fresh: Fresh) -> None:
    source = fresh("source")
    with running.dravo as dravo:
        dravo.sources.add(source, "Staff")
        reading = dravo.tokens.add("Reader", "read")["token"]
        for failing, kind in (
            (lambda: dravo.users.get("nobody-there"), NotFound),
            (lambda: dravo.sources.add(source, "Twice"), Conflict),
            (lambda: dravo.sources.add("Bad Key", "x"), InvalidRequest),
            (lambda: Dravo(running.url, "wrong").overview(), AuthenticationRequired),
            (lambda: Dravo(running.url, reading).sources.add("x", "x"), NotAllowed),
            (lambda: Dravo(f"http://127.0.0.1:{free_port()}", "x").overview(), ServiceUnreachable),
        ):
            with pytest.raises(kind) as told:
                failing()
            assert isinstance(told.value, ApiError)
            assert told.value.message
            assert told.value.hint


def test_the_whole_walk_on_the_command_line(running: Running, app: StandIn, fresh: Fresh) -> None:
    source, records, name = fresh("staff"), fresh("records"), fresh("anselm")

    def ran(*arguments: str, stdin: str = "") -> str:
        done = dravo(running, *arguments, stdin=stdin)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "Next" in ran("source", "add", source, "--label", "Staff directory")
    token = ran("source", "create-token", source, "--label", "Provider").split("\n\n")[1].strip()
    running.push_tokens[source] = token
    provider = running.provider(source)
    user = provider.user(name, displayName=f"Anselm {name}")
    group = provider.group(f"Botanists {name}", [user])
    assert "[x] First user created" in ran("source", "checklist", source)
    ran("application", "add", records, "--label", "Plant Records", "--owner", "edmund.sallow")
    ran("application", "create-role", records, "curator", "--label", "Curator", "--rank", "30")
    assert "saved, encrypted" in ran("application", "connect", records, app.base_url, stdin=f"{app.token}\n")
    assert "The application has 0 accounts." in ran("application", "test-connection", records)
    switched = ran("application", "set", records, "--enabled", "yes", "--on-leaving", "delete")
    assert re.search(r"^Enabled +yes$", switched, re.M)
    preview = ran(
        "assignment",
        "create",
        records,
        "curator",
        "--source",
        source,
        "--group",
        f"Botanists {name}",
        "--preview",
    )
    assert preview.startswith("1 gain access, 0 lose access")
    assert app.accounts() == {}
    assert "matches 1 users" in ran(
        "assignment", "create", records, "curator", "--source", source, "--group", f"Botanists {name}"
    )
    eventually(lambda: app.accounts().get(name))
    running.settled(records)
    why = ran("access", "why", name, records)
    assert f"Anselm {name} has been Curator in Plant Records since" in why
    assert f"Staff directory > Botanists {name} > Curator > account in sync" in why
    assert name in ran("user", "list", name)
    assert "Curator" in ran("user", "show", name)
    assert name in ran("group", "members", group)
    assert "in_sync" in ran("account", "list", "--application", records)
    assert "Curator" in ran("access", "list", "--application", records)
    task = json.loads(ran("task", "list", "--application", records, "--json"))[0]
    assert "POST /Users -> 201" in ran("task", "show", task["id"])
    ran("task", "retry", task["id"])
    assignment = json.loads(ran("assignment", "list", "--application", records, "--json"))[0]
    assert ran("assignment", "delete", assignment["id"], "--preview").startswith(
        "0 gain access, 1 lose access"
    )
    assert ran("assignment", "delete", assignment["id"]) == "Deleted.\n"
    eventually(lambda: app.accounts()[name], lambda seen: not seen["active"])
    assert "has no access" in ran("access", "why", name, records)
    assert "deleted assignment" in ran("audit", "list", "--limit", "5")
    assert "is intact" in ran("audit", "verify")
    assert records in ran("application", "list", "--limit", "0")


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["access", "why", "nobody-there", "none"], 3, "There is no user"),
        (["source", "add", "Bad Key", "--label", "x"], 2, "' is not a valid key."),
        (["assignment", "create", "none", "viewer"], 2, "--user"),
        (["assignment", "create", "none", "viewer", "--user", "x"], 3, "There is no application"),
        (["application", "set", "none"], 2, "No setting given"),
        (["user", "list", "--after"], 2, "unrecognized"),
        (["user"], 2, ""),
    ],
)
def test_a_failure_says_the_hint_and_has_its_exit_code(
    running: Running, arguments: list[str], code: int, words: str
) -> None:
    done = dravo(running, *arguments)
    assert done.returncode == code
    assert words in done.stderr
    assert "Traceback" not in done.stderr


def test_without_token_or_service_it_says_what_to_do(running: Running, tmp_path: Path) -> None:
    assert dravo(running, "user", "list", token="wrong").returncode == 4
    away = dravo(running, "--url", f"http://127.0.0.1:{free_port()}", "user", "list")
    assert (away.returncode, "Check that the service is running and the URL is right." in away.stderr) == (
        5,
        True,
    )
    file = tmp_path / "connection.json"
    file.write_text(json.dumps({"url": running.url, "api_token": running.api_token}))
    assert dravo(running, "--connection", str(file), "source", "list").returncode == 0
    file.write_text("nonsense")
    assert dravo(running, "--connection", str(file), "source", "list").returncode == 2


def test_every_command_explains_itself(running: Running) -> None:
    top = dravo(running, "--help").stdout
    for noun in (
        "source",
        "group",
        "user",
        "access",
        "account",
        "hold",
        "application",
        "assignment",
        "task",
        "audit",
        "operator",
        "token",
        "serve",
    ):
        assert noun in top
        assert dravo(running, noun, "--help").returncode == 0
    assert "examples:" in dravo(running, "assignment", "create", "--help").stdout
    assert dravo(running, "--version").stdout.startswith("dravo 0.")


def test_a_folder_is_set_up_once_and_its_key_is_its_owner_s(running: Running, tmp_path: Path) -> None:
    done = dravo(running, "init", "--data", str(tmp_path / "new"), "--operator", "honor.blackthorn")
    assert "shown only once" in done.stdout
    assert oct((tmp_path / "new" / "keys").stat().st_mode)[-3:] == "600"
    again = dravo(running, "init", "--data", str(tmp_path / "new"), "--operator", "Honor.Blackthorn")
    assert (again.returncode, "already" in again.stderr) == (1, True)
    busy = dravo(running, "init", "--data", str(running.folder), "--operator", "x")
    assert "Another service uses the folder '" in busy.stderr
    short = dravo(
        running,
        "init",
        "--data",
        str(tmp_path / "other"),
        "--operator",
        "x",
        "--ask-password",
        stdin="short\n",
    )
    assert "at least 12" in short.stderr
