"""What the commands print, read as somebody who never saw it: tables for users, JSON for programs."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from dravo.cli import output
from dravo.cli.access import access as access_commands
from dravo.core.access import reasons
from tests.command_line import dravo
from tests.harness import Running

Fresh = Callable[[str], str]


def columns(output: str) -> list[str]:
    """Return the headings of the first table in an output."""
    lines = output.splitlines()
    rule = next(number for number, line in enumerate(lines) if line.strip().startswith("──"))
    return [each.strip() for each in lines[rule - 1].split("  ") if each.strip()]


# Once for a worker: its tests may come in several parts.
@pytest.fixture(scope="session")
def garden(running: Running) -> dict[str, str]:
    """A small garden that the commands of this module read."""
    provider = running.provider("outputs")
    running.application("outputs-records", roles=("viewer", "curator"))
    ada = provider.user(
        "outputs.ada",
        displayName="Ada [bold] Fern",
        title="Keeper",
        emails=[{"value": "outputs.ada@fernhollow.example"}],
    )
    provider.user("outputs.bob", active=False)
    group = provider.group("Outputs group", [ada])
    with running.dravo as client:
        client.assignments.add("outputs-records", "viewer", group=group, note="for the outputs")
        client.assignments.add("outputs-records", "curator", user="outputs.ada")
    return {"ada": ada, "group": group}


@pytest.mark.parametrize(
    ("arguments", "headings", "words"),
    [
        (
            ["source", "list", "--limit", "0"],
            ["Key", "Label", "Connection type", "Users", "Groups", "Last activity (UTC)"],
            "outputs",
        ),
        (
            ["source", "tokens", "outputs"],
            ["ID", "Label", "Prefix", "For", "Created (UTC)", "By", "Expires", "Last used", "Revoked"],
            "dravo_push_",
        ),
        (
            ["user", "list", "outputs"],
            ["Name", "User name", "Email", "Status", "Since (UTC)"],
            "Ada [bold] Fern",
        ),
        (
            ["group", "list", "outputs"],
            ["Group", "Source", "Members", "Roles", "ID in the source", "ID"],
            "Outputs group",
        ),
        (["group", "members", "outputs group"], ["Name", "User name", "Status", "ID"], "outputs.ada"),
        (
            ["application", "list", "--limit", "0"],
            [
                "Key",
                "Label",
                "Status",
                "Users",
                "Accounts",
                "Waiting",
                "By hand",
                "Failed",
                "Drifted",
                "Last response (UTC)",
            ],
            "not_set_up",
        ),
        (
            ["application", "show", "outputs-records"],
            ["Key", "Label", "Rank", "Sent as", "Users", "Permits"],
            "curator",
        ),
        (
            ["assignment", "list", "--application", "outputs-records"],
            ["Application", "For", "Source", "Role", "Plan", "Users", "From (UTC)", "Until", "By", "ID"],
            "Outputs group",
        ),
        (
            ["access", "list", "--application", "outputs-records"],
            ["User", "Application", "Role", "Since (UTC)", "Reason", "Seat", "Account"],
            "direct, by edmund.sallow",
        ),
        (
            ["account", "list", "--application", "outputs-records"],
            ["User", "Application", "Desired state", "Roles", "Status", "Applied (UTC)", "Account ID"],
            "curator, viewer",
        ),
        (
            ["task", "list", "--application", "outputs-records"],
            ["User", "Application", "Desired state", "Status", "Attempts", "Since (UTC)", "Message", "ID"],
            "waiting (the application is disabled)",
        ),
        (
            ["audit", "list", "--limit", "3"],
            ["Entry", "Time (UTC)", "Operator", "Change", "Details"],
            "edmund.sallow",
        ),
        (
            ["operator", "list"],
            [
                "Name",
                "Kind",
                "Masked",
                "Hidden",
                "Email",
                "Applications",
                "Sign-in",
                "Since (UTC)",
                "Disabled",
                "ID",
            ],
            "super_administrator",
        ),
        (
            ["token", "list"],
            ["ID", "Label", "Scope", "Permissions", "Prefix", "Last used (UTC)", "Expires", "Revoked"],
            "dravo_api_",
        ),
    ],
)
def test_a_list_is_a_table_with_headings_and_the_same_as_json(
    running: Running, garden: dict[str, str], arguments: list[str], headings: list[str], words: str
) -> None:
    done = dravo(running, *arguments)
    assert done.returncode == 0, done.stderr
    assert columns(done.stdout) == headings
    assert words in done.stdout
    told = json.loads(dravo(running, *arguments, "--json").stdout)
    assert told


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["user", "list", "nobody-of-that-name"], "No user matches."),
        (["group", "list", "nothing-of-that-name"], "No group matches."),
        (["task", "list", "nobody-of-that-name"], "No task matches."),
        (["account", "list", "nobody-of-that-name"], "No account matches."),
        (["access", "list", "nobody-of-that-name"], "No access matches."),
    ],
)
def test_where_there_is_nothing_it_says_so(running: Running, arguments: list[str], words: str) -> None:
    done = dravo(running, *arguments)
    assert (done.returncode, done.stdout.strip()) == (0, words)
    assert json.loads(dravo(running, *arguments, "--json").stdout) == []


def test_a_cut_list_says_how_much_there_is(running: Running, garden: dict[str, str]) -> None:
    done = dravo(running, "user", "list", "outputs", "--limit", "1")
    assert done.stdout.count("outputs.") >= 1
    assert done.stderr.strip() == "1 of 2. --limit 0 prints all."


def test_a_user_is_shown_whole(running: Running, garden: dict[str, str]) -> None:
    shown = dravo(running, "user", "show", "outputs.ada").stdout
    for part in (
        "Attributes",
        "Groups",
        "Access",
        "Accounts",
        "Keeper",
        "Outputs directory",
        "outputs > Outputs group",
        "direct, by edmund.sallow",
    ):
        assert part in shown
    inactive = dravo(running, "user", "show", "outputs.bob").stdout
    assert "inactive since" in inactive
    assert "Access" not in inactive


def test_why_ends_in_a_chain_for_each_reason(running: Running, garden: dict[str, str]) -> None:
    chains = [
        line.strip()
        for line in dravo(running, "access", "why", "outputs.ada", "outputs-records").stdout.splitlines()
        if " > " in line
    ]
    assert set(chains) == {
        "Outputs directory > Outputs group > Viewer > account waiting",
        "direct assignment > Curator > account waiting",
    }
    answer = json.loads(dravo(running, "access", "why", "outputs.ada", "outputs-records", "--json").stdout)
    assert answer["has_access"]
    assert len(answer["access"]) == 2


def test_created_objects_are_printed_as_json(running: Running, fresh: Fresh) -> None:
    key = fresh("source")
    assert json.loads(dravo(running, "source", "add", key, "--label", "Staff", "--json").stdout)["key"] == key
    made = json.loads(
        dravo(
            running,
            "source",
            "create-token",
            key,
            "--label",
            "x",
            "--expires-at",
            "2031-01-01T00:00:00Z",
            "--json",
        ).stdout
    )
    assert made["expires_at"] == "2031-01-01T00:00:00.000000Z"
    assert dravo(running, "source", "revoke-token", key, made["id"]).stdout == "Revoked.\n"
    checklist = json.loads(dravo(running, "source", "checklist", key, "--json").stdout)
    assert checklist["usable_tokens"] == 0
    assert dravo(running, "source", "remove", key).stdout == f"Removed '{key}'.\n"
    operator = json.loads(dravo(running, "operator", "create", fresh("operator"), "--json").stdout)
    assert operator["password"]
    assert "is disabled." in dravo(running, "operator", "disable", operator["id"]).stdout
    token = json.loads(dravo(running, "token", "create", "--label", "x", "--json").stdout)
    assert dravo(running, "token", "revoke", token["id"]).stdout == "Revoked.\n"
    assert dravo(running, "user", "list", token=token["token"]).returncode == 4


def test_an_application_is_run_from_the_command_line(running: Running, fresh: Fresh) -> None:
    key = fresh("desk")
    dravo(running, "application", "add", key, "--label", "Ticket Desk", "--tracked-only")
    assert "tracked_only" in dravo(running, "application", "show", key).stdout
    made = json.loads(
        dravo(running, "application", "create-role", key, "cashier", "--label", "Cashier", "--json").stdout
    )
    assert [role["key"] for role in made["roles"]] == ["cashier"]
    refused = dravo(
        running, "application", "connect", key, "https://desk.fernhollow.example/scim/v2", stdin="token\n"
    )
    assert (refused.returncode, "tracked_only" in refused.stderr) == (2, True)
    assert dravo(running, "application", "connect", key, "https://x.example", stdin="").returncode == 2
    paused = dravo(running, "application", "pause", key, "--json")
    assert json.loads(paused.stdout)["connection"]["paused_at"]
    assert dravo(running, "application", "resume", key).returncode == 0
    valued = ("--sent-value", "ROLE_CASHIER", "--description", "Sells tickets.")
    looked = dravo(running, "application", "change-role", key, "cashier", *valued, "--preview")
    assert "Dravo sends 'ROLE_CASHIER' for the role instead of 'cashier'." in looked.stdout
    shown = dravo(running, "application", "change-role", key, "cashier", *valued).stdout
    assert "ROLE_CASHIER" in shown and "Sells tickets." in shown
    taken = dravo(
        running, "application", "create-role", key, "other", "--label", "x", "--sent-value", "ROLE_CASHIER"
    )
    assert (taken.returncode, "is already sent as 'ROLE_CASHIER'" in taken.stderr) == (1, True)
    plan = ("license-plan", "create", key, "gold", "Gold", "--sent-value", "urn:plan:gold")
    assert "urn:plan:gold" in dravo(running, *plan).stdout
    noted = dravo(running, "application", "set", key, "--note", "Renewed every spring.")
    assert "Renewed every spring." in noted.stdout
    left = json.loads(dravo(running, "application", "delete-role", key, "cashier", "--json").stdout)
    assert left["roles"] == []
    effects = dravo(running, "application", "delete", key, "--preview").stdout
    assert "0 roles and 1 license plan are deleted, with all settings." in effects
    wrong = dravo(running, "application", "delete", key, "--confirm", "Desk")
    assert (wrong.returncode, "to confirm" in wrong.stderr) == (2, True)
    assert dravo(running, "application", "delete", key, "--confirm", "Ticket Desk").returncode == 0
    assert dravo(running, "application", "show", key).returncode == 3


def test_a_pipe_gets_whole_cells_however_wide(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("COLUMNS", raising=False)
    fingerprints = [":".join(f"{number:02X}" for number in range(start, start + 32)) for start in range(4)]
    columns = {f"Column {place}": (lambda row, place=place: row[place]) for place in range(4)}
    output.table(columns, [fingerprints])
    printed = capsys.readouterr().out
    assert all(each in printed for each in fingerprints)


def test_cells_are_printed_as_they_are(capsys: pytest.CaptureFixture[str]) -> None:
    cells = ("F3:CD:C5", "[red]", "^desk-[0-9]+$", "a\\")
    output.table({"Text": str}, cells)
    printed = capsys.readouterr().out
    assert [cell for cell in cells if cell not in printed] == []


def test_each_kind_of_reason_has_its_words() -> None:
    for kind, words in reasons.WORDS.items():
        reason = {"group": None, "rule": "title pr", "kind": kind}
        assert access_commands._piece(reason).startswith(words)
