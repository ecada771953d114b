"""The commands for what sources ask for and what is sent to applications, as somebody would type them."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.client.test_outputs import columns
from tests.command_line import dravo
from tests.harness import Running, StandIn, eventually, stand_in

GARDEN = {"id": "urn:fernhollow:commands:User", "name": "Garden", "attributes": [{"name": "badge"}]}


class Garden:
    """A source with two users, and an application to which they are sent."""

    def __init__(self, running: Running, app: StandIn, key: str = "commands") -> None:
        self.running, self.app, self.application = running, app, f"{key}-app"
        provider = running.provider(key)
        users = [
            provider.user(f"{key}.{name}", displayName=name.title(), title="Guide") for name in ("ada", "bob")
        ]
        self.group = provider.group("Commands group", users)
        provider.http.post("/Users", json={"userName": f"{key}.ada"})
        running.application(self.application, app)
        with running.dravo as client:
            client.assignments.add(self.application, "viewer", group=self.group)
        running.settled(self.application)
        assert len(app.accounts()) == 2

    def run(self, *arguments: str) -> str:
        done = dravo(self.running, *arguments)
        assert done.returncode == 0, done.stderr
        return done.stdout


# Once for a worker: its tests may come in several parts.
@pytest.fixture(scope="session")
def garden(running: Running, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Garden]:
    with stand_in(tmp_path_factory.mktemp("commands")) as app:
        yield Garden(running, app)


@pytest.fixture
def own_garden(running: Running, app: StandIn, fresh: Callable[[str], str]) -> Garden:
    """One that no other test has changed."""
    return Garden(running, app, fresh("garden"))


def test_requests_are_listed_with_what_they_led_to_and_shown_whole(garden: Garden) -> None:
    listed = garden.run("source", "requests", "commands")
    assert columns(listed) == ["Time (UTC)", "Request", "Response", "Result", "ID"]
    refused = json.loads(garden.run("source", "requests", "commands", "--outcome", "refused", "--json"))
    assert [each["status"] for each in refused] == [409]
    whole = garden.run("source", "request", "commands", refused[0]["id"])
    assert (
        "Refused (uniqueness)" in whole
        and '"userName":"commands.ada"' in whole
        and "body without schemas" in whole
    )
    assert "Created Ada." in garden.run("source", "requests", "commands", "created ada")


def test_schemas_are_added_from_a_file_listed_and_removed(garden: Garden, tmp_path: Path) -> None:
    file = tmp_path / "garden.json"
    file.write_text(json.dumps(GARDEN))
    assert "No schema extensions." in garden.run("source", "schemas", "commands")
    assert "' can send its attributes from now on." in garden.run(
        "source", "add-schema", "commands", str(file)
    )
    assert "badge" in garden.run("source", "schemas", "commands")
    again = dravo(garden.running, "source", "add-schema", "commands", str(file))
    assert again.returncode == 1 and "has a schema" in again.stderr
    garden.run("source", "remove-schema", "commands", str(GARDEN["id"]))
    file.write_text("{")
    wrong = dravo(garden.running, "source", "add-schema", "commands", str(file))
    assert wrong.returncode == 2 and "cannot be read as JSON" in wrong.stderr


def test_a_token_is_made_for_a_part_only(garden: Garden) -> None:
    assert "Token (shown only once):\n" in garden.run(
        "source", "create-token", "commands", "--label", "Reports", "--kinds", "groups", "--access", "read"
    )
    assert "groups, read" in garden.run("source", "tokens", "commands")


def test_an_expression_is_evaluated_and_an_error_explained(garden: Garden) -> None:
    told = garden.run(
        "application", "evaluate", 'userName then after "." then upper', "--user", "commands.ada"
    )
    assert "Ada gets: ADA" in told and "In words: userName, the text after “.”, in upper case" in told
    assert "nothing, it is missing" in garden.run(
        "application", "evaluate", "nickName", "--user", "commands.ada"
    )
    wrong = dravo(garden.running, "application", "evaluate", "userName then")
    assert wrong.returncode == 2 and "character 14" in wrong.stderr


def test_settings_are_looked_at_then_made(own_garden: Garden) -> None:
    change = (
        "application",
        "set",
        own_garden.application,
        "--attribute",
        "title=title then upper",
        "--role-encoding",
        "userType",
        "--rate-limit",
        "200",
    )
    looked = own_garden.run(*change, "--preview")
    assert (
        "2 of 2 accounts would change. Nothing has been changed." in looked
        and "title: Guide -> GUIDE" in looked
    )
    assert {each["title"] for each in own_garden.app.accounts().values()} == {"Guide"}
    shown = own_garden.run(*change)
    assert "title = title then upper" in shown and "attribute, userType" in shown
    eventually(
        lambda: {(each["title"], each.get("userType")) for each in own_garden.app.accounts().values()},
        lambda seen: seen == {("GUIDE", "viewer")},
    )
    own_garden.run(
        "application",
        "set",
        own_garden.application,
        "--no-expressions",
        "--role-encoding",
        "roles",
        "--rate-limit",
        "0",
    )
    eventually(
        lambda: {each["title"] for each in own_garden.app.accounts().values()}, lambda seen: seen == {"Guide"}
    )
    for wrong in (
        ("--attribute", "title"),
        ("--attribute", "title=titel"),
        ("--role-encoding", "shoeSize"),
        ("--groups", "nothing"),
    ):
        done = dravo(own_garden.running, "application", "set", own_garden.application, *wrong)
        assert done.returncode == 2, wrong
    assert dravo(own_garden.running, "application", "set", own_garden.application).returncode == 2


def test_provisioned_groups_are_listed(own_garden: Garden) -> None:
    assert (
        "No provisioned groups. Enable them: dravo application set KEY --groups with_roles"
        in own_garden.run("application", "groups", own_garden.application)
    )
    own_garden.run("application", "set", own_garden.application, "--groups", own_garden.group)
    eventually(lambda: own_garden.app.groups() and len(own_garden.app.groups()[0].get("members", [])) == 2)
    eventually(lambda: "done" in own_garden.run("application", "groups", own_garden.application))
    listed = own_garden.run("application", "groups", own_garden.application)
    assert columns(listed)[:5] == ["Group", "Source", "Desired", "In the application", "Status"]
    own_garden.run("application", "set", own_garden.application, "--groups", "none")
    eventually(lambda: own_garden.app.groups() == [])


def test_the_check_with_a_test_user(garden: Garden) -> None:
    told = garden.run("application", "test-connection", "commands-app", "--with-test-user")
    assert [line.split()[1] for line in told.splitlines()] == [
        "Address",
        "Service",
        "Token",
        "Reading",
        "Creating",
        "Changing",
        "Deactivating",
        "Removing",
    ]


def test_failures_are_counted_by_kind_and_retried(garden: Garden, fresh: Callable[[str], str]) -> None:
    assert "No task has failed" in garden.run("task", "errors", "--application", "commands-app")
    garden.app.faults(refuse="Seats are used up.")
    name = fresh("commands.cai")
    user = garden.running.provider("commands").user(name)
    garden.running.provider("commands").add(garden.group, user)
    eventually(lambda: "refused_400" in garden.run("task", "errors", "--application", "commands-app"))
    assert "Seats are used up" in garden.run("task", "errors", "--application", "commands-app")
    garden.app.faults(refuse=False)
    assert "1 tasks are retried" in garden.run("task", "retry-all", "commands-app", "--kind", "refused_400")
    eventually(lambda: name in garden.app.accounts())
    task = json.loads(garden.run("task", "list", name, "--json"))[0]["id"]
    assert dravo(garden.running, "task", "resolve", task).returncode == 2, "nobody has to say anything here"


def test_settings_of_the_organization_are_listed_and_changed(garden: Garden) -> None:
    assert columns(garden.run("setting", "list")) == [
        "Group",
        "Name",
        "Value",
        "Unit",
        "Meaning",
        "Minimum",
        "Maximum",
    ]
    assert "91" in garden.run("setting", "set", "attempt_days", "91")
    garden.run("setting", "set", "attempt_days", "90")
    wrong = dravo(garden.running, "setting", "set", "attempt_days", "0")
    assert wrong.returncode == 2 and " is out of range for '" in wrong.stderr


def test_when_an_application_is_compared_is_set_and_said_in_words(garden: Garden) -> None:
    shown = garden.run("application", "set", "commands-app", "--reconcile-schedule", "30 2 * * 1-5")
    assert "At 02:30, Monday through Friday" in shown
    assert "No schedule" in garden.run("application", "set", "commands-app", "--reconcile-schedule", "")
    wrong = dravo(garden.running, "application", "set", "commands-app", "--reconcile-schedule", "nightly")
    assert wrong.returncode == 2 and "not a schedule" in wrong.stderr


def test_a_match_rule_links_a_user_that_another_source_reports(
    running: Running, fresh: Callable[[str], str]
) -> None:
    first, second, name = fresh("staff"), fresh("partners"), fresh("ada")
    providers = {key: running.provider(key) for key in (first, second)}
    mail = {"emails": [{"value": f"{name}@{first}.example"}]}
    providers[first].user(name, displayName=f"Ada {name}", **mail)

    def ran(*arguments: str, code: int = 0) -> str:
        done = dravo(running, "source", *arguments)
        assert done.returncode == code, (done.stdout, done.stderr)
        return done.stdout + done.stderr

    assert "domains of the source are missing" in ran("set-policy", second, "--match", "email", code=2)
    for key in (first, second):
        ran("change", key, "--domain", f"{first}.example", "--note", "Shares its users")
    assert "0 users" in ran("set-policy", second, "--match", "email", "--preview")
    assert "an operator decides" in ran("policy", second)
    assert "the email address" in ran("set-policy", second, "--match", "email")
    answer = providers[second].http.post("/Users", json={"userName": f"{name}.two", **mail})
    assert answer.status_code == 201
    read = providers[second].http.get(f"/Users/{answer.json()['id']}").json()
    assert (read["userName"], read["id"]) == (f"{name}.two", answer.json()["id"])
    with running.dravo as client:
        (user,) = client.users.list(words=name)
        records = client.users.get(user["id"])["records"]
    assert [each["source"]["key"] for each in records] == [first, second]
    assert {"name": "userName", "value": f"{name}.two"} in records[1]["attributes"]
    assert "linked to the existing user" in ran("requests", second)
    assert "Updates users of other sources" in ran("set-priority", second, "--updates", "no")
    assert "No value given" in ran("set-priority", second, code=2)


def test_conflicts_are_decided_together(running: Running, fresh: Callable[[str], str]) -> None:
    first, second, name = fresh("staff"), fresh("partners"), fresh("ada")
    providers = {key: running.provider(key) for key in (first, second)}
    for number in range(3):
        for key in (first, second):
            providers[key].user(f"{name}.{number}", displayName=f"Ada {number}")

    def ran(*arguments: str, code: int = 0) -> str:
        done = dravo(running, "source", "decide-conflicts", second, *arguments)
        assert done.returncode == code, (done.stdout, done.stderr)
        return done.stdout + done.stderr

    assert "No conflict given" in ran("link", code=2)
    with running.dravo as client:
        one = next(iter(client.sources.conflicts(second)))
    assert "Not decided: unknown." in ran("ignore", one["id"], "unknown", code=1)
    assert ran("link", "--all") == "Decided: 2.\n"
    assert ran("link", "--all") == "Decided: 0.\n"
    with running.dravo as client:
        assert len(list(client.users.list(words=name))) == 4, "two are linked, and one is ignored"


def test_a_source_is_retired_and_restored(running: Running, fresh: Callable[[str], str]) -> None:
    key, name = fresh("partners"), fresh("ada")
    provider = running.provider(key)
    provider.user(name, displayName=f"Ada {name}")

    def ran(*arguments: str, code: int = 0) -> str:
        done = dravo(running, "source", *arguments)
        assert done.returncode == code, (done.stdout, done.stderr)
        return done.stdout + done.stderr

    assert "1 user becomes a leaver" in ran("retire", key, "--preview")
    refused = ran("retire", key, code=1)
    assert "Retiring a source ends everything that it reports." in refused
    with running.dravo as client:
        label = client.sources.get(key)["label"]
        assert "Retired" in ran("retire", key, "--confirm", label)
        assert client.users.get(name)["status"] == "left"
        assert provider.http.get("/Users").status_code == 401
        assert "with 1 users" in ran("restore", key)
        assert client.users.get(name)["status"] == "active"
    assert "not retired" in ran("restore", key, code=2)
