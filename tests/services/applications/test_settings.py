"""Settings of an application: previewed on its accounts before they are changed; the bind; what waits for a
user.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from dravo.client import ApiError
from dravo.core.errors import InvalidInput
from dravo.services.applications import applications, connections
from dravo.services.applications import settings as provisioning_settings
from dravo.services.applications.connections import ConnectionSettings
from dravo.store import tables as t
from dravo.worker.loop import Worker
from tests.harness import Running, StandIn, eventually, stand_in
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]


@pytest.fixture
def garden(running: Running, app: StandIn, fresh: Fresh) -> dict[str, str]:
    """An application with three users in a group that gives a role."""
    key, source = fresh("records"), fresh("source")
    running.application(key, app)
    provider = running.provider(source)
    users = [provider.user(fresh("p"), displayName=f"User {number}", title="Guide") for number in range(3)]
    group = provider.group(fresh("Herbarium"), users)
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", group=group)
    running.settled(key)
    assert len(app.accounts()) == 3
    running.settled(key)
    return {"key": key, "group": group, "user": users[0], "source": source}


def test_a_change_of_settings_is_shown_before_it_is_made(
    running: Running, app: StandIn, garden: dict[str, str]
) -> None:
    change = {
        "attributes": [{"attribute": "title", "expression": "title then upper"}],
        "role_encoding": {"way": "entitlements", "shape": "strings"},
    }
    with running.dravo as dravo:
        shown = dravo.applications.preview_settings(garden["key"], **change)
        assert (shown["accounts"], shown["changed"], shown["whole"]) == (3, 3, True)
        changes = {
            each["attribute"]: (each["before"], each["after"]) for each in shown["users"][0]["changes"]
        }
        assert changes["title"] == ("Guide", "GUIDE")
        assert changes["entitlements"] == (None, ["viewer"]) and changes["roles"][1] is None
        assert {each["title"] for each in app.accounts().values()} == {"Guide"}, "a preview changes nothing"
        dravo.applications.change(garden["key"], **change)
        eventually(
            lambda: {(each["title"], *each.get("entitlements", [])) for each in app.accounts().values()},
            lambda seen: seen == {("GUIDE", "viewer")},
        )
        assert all(not each.get("roles") for each in app.accounts().values())
        assert dravo.applications.preview_settings(garden["key"], **change)["changed"] == 0
        dravo.applications.change(garden["key"], attributes=[], role_encoding={})
        running.settled(garden["key"])
        assert {each["title"] for each in app.accounts().values()} == {"Guide"}


def test_groups_are_provisioned_by_name_and_removed(
    running: Running, app: StandIn, garden: dict[str, str]
) -> None:
    provider = running.provider(garden["source"])
    with running.dravo as dravo:
        dravo.applications.change(
            garden["key"],
            provisioned_groups={
                "which": "selected",
                "groups": [{"group": garden["group"], "name": "Pressed plants"}],
            },
        )
        running.settled(garden["key"])
        made = app.groups() and len(app.groups()[0].get("members", [])) == 3 and app.groups()[0]
        assert made["displayName"] == "Pressed plants"
        provider.take_out(garden["group"], garden["user"])
        running.settled(garden["key"])
        assert len(app.groups()[0]["members"]) == 2
        dravo.applications.change(garden["key"], provisioned_groups={"which": "with_roles"})
        running.settled(garden["key"])
        assert app.groups()[0]["displayName"].startswith("Herbarium")
        provider.patch(
            f"/Groups/{garden['group']}", {"op": "replace", "path": "displayName", "value": "Dried plants"}
        )
        running.settled(garden["key"])
        assert app.groups()[0]["displayName"] == "Dried plants"
        running.settled(garden["key"])
        line = next(each for each in dravo.applications.groups(garden["key"]) if each["status"] == "done")
        assert (line["name"], line["members"], line["members_there"], line["origin"]) == (
            "Dried plants",
            2,
            2,
            "made",
        )
        dravo.applications.change(garden["key"], provisioned_groups={"which": "none"})
        eventually(app.groups, lambda seen: seen == [])


def test_a_group_in_the_way_is_adopted_only_if_that_is_switched_on(
    running: Running, app: StandIn, garden: dict[str, str]
) -> None:
    theirs = httpx.post(
        f"{app.base_url}/Users", json={"userName": "theirs"}, headers=app.headers, trust_env=False
    ).json()["id"]
    httpx.post(
        f"{app.base_url}/Groups",
        json={"displayName": "Plants", "members": [{"value": theirs}]},
        headers=app.headers,
        trust_env=False,
    )
    with running.dravo as dravo:
        dravo.applications.change(
            garden["key"],
            provisioned_groups={
                "which": "selected",
                "groups": [{"group": garden["group"], "name": "Plants"}],
            },
        )
        running.settled(garden["key"])
        failed = next(each for each in dravo.applications.groups(garden["key"]) if each["status"] == "failed")
        assert (
            "To manage this group with Dravo, enable adopting groups by name. Otherwise set another "
            "name for the provisioned group." in (failed["hint"] or "")
        )
        dravo.applications.change(garden["key"], adopt_groups=True)
        running.settled(garden["key"])
        group = len(app.groups()[0]["members"]) == 4 and app.groups()[0]
        assert theirs in {each["value"] for each in group["members"]}, "who was there outside Dravo stays"
        dravo.applications.change(garden["key"], provisioned_groups={"which": "none"})
        running.settled(garden["key"])
        assert [each["value"] for each in app.groups()[0]["members"]] == [theirs]


def test_roles_are_sent_as_groups(running: Running, app: StandIn, garden: dict[str, str]) -> None:
    with running.dravo as dravo:
        dravo.applications.change(garden["key"], role_encoding={"way": "groups"})
    running.settled(garden["key"])
    group = app.groups() and len(app.groups()[0].get("members", [])) == 3 and app.groups()[0]
    assert group["displayName"] == "Viewer"
    assert all(not each.get("roles") for each in app.accounts().values())


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"attributes": [{"attribute": "shoeSize", "expression": "title"}]}, "shoeSize"),
        ({"attributes": [{"attribute": "title", "expression": "titel"}]}, "titel"),
        ({"attributes": [{"attribute": "title", "expression": "title"}] * 2}, "two expressions"),
        ({"attributes": [{"attribute": "userName", "expression": ""}]}, "' cannot be empty"),
        ({"role_encoding": {"way": "attribute"}}, "attribute"),
        ({"role_encoding": {"way": "attribute", "attribute": "id"}}, "id"),
        ({"provisioned_groups": {"which": "selected", "groups": [{"group": "nothing"}]}}, "no group"),
        ({"rate_limit": 5_000}, "1,000"),
        ({"max_concurrency": 99}, "32"),
    ],
)
def test_invalid_settings_are_explained_and_change_nothing(
    services: ServiceFixture, settings: dict[str, Any], words: str
) -> None:
    services.application()
    before = applications.one(services.ctx, "records")
    for act in (
        lambda: applications.change(services.ctx, services.caller, "records", {}, settings),
        lambda: provisioning_settings.preview(services.ctx, "records", settings),
    ):
        with pytest.raises(InvalidInput, match=words) as told:
            act()
        assert told.value.hint
    assert applications.one(services.ctx, "records") == before


@pytest.mark.parametrize("kind", ["basic", "client_credentials"])
def test_it_signs_in_as_the_application_wants(
    running: Running, app: StandIn, fresh: Fresh, kind: str
) -> None:
    key, name = fresh("records"), fresh("elswyth")
    running.application(key, app)
    app.faults(lasts=31)
    auth = (
        {"kind": "basic", "user": "dravo"}
        if kind == "basic"
        else {"kind": kind, "token_url": f"http://127.0.0.1:{app.port}/oauth/token", "client_id": "dravo"}
    )
    with running.dravo as dravo:
        dravo.applications.connect(key, app.base_url, app.token, auth=auth)
        assert dravo.applications.check(key)["ok"]
        running.provider(fresh("source")).user(name)
        dravo.assignments.add(key, "viewer", user=name)
        running.settled(key)
        assert name in app.accounts()
        with pytest.raises(ApiError, match="saved token belongs to another address"):
            dravo.applications.connect(
                key,
                app.base_url,
                auth={"kind": kind, "user": "x", "token_url": "https://elsewhere.example/t", "client_id": "x"}
                if kind != "basic"
                else None,
            )
        dravo.applications.connect(key, app.base_url, "wrong", auth=auth)
        steps = {each["name"]: each for each in dravo.applications.check(key)["steps"]}
        assert steps["Token"]["outcome"] == "failed" and steps["Token"]["hint"]


def test_the_connection_test_removes_its_test_user(running: Running, app: StandIn, fresh: Fresh) -> None:
    key = fresh("records")
    running.application(key, app)
    with running.dravo as dravo:
        result = dravo.applications.check(key, with_test_user=True)
        assert [(step["name"], step["outcome"]) for step in result["steps"]][4:] == [
            ("Creating", "ok"),
            ("Changing", "ok"),
            ("Deactivating", "ok"),
            ("Removing", "ok"),
        ]
        assert app.accounts() == {}
        app.faults(refuse="Seats are used up.")
        refused = {step["name"]: step for step in dravo.applications.check(key, with_test_user=True)["steps"]}
        assert (
            refused["Creating"]["outcome"] == "failed"
            and "Seats are used up" in refused["Creating"]["message"]
        )
        assert refused["Deactivating"]["outcome"] == "skipped"


def test_all_of_a_kind_are_tried_again_together(running: Running, app: StandIn, fresh: Fresh) -> None:
    key = fresh("records")
    running.application(key, app)
    app.faults(refuse="Seats are used up.")
    provider = running.provider(fresh("source"))
    group = provider.group(fresh("Many"), [provider.user(fresh("p")) for _ in range(4)])
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", group=group)
        running.settled(key)
        kinds = dravo.tasks.errors(key)
        assert bool(kinds) and kinds[0]["number"] == 4
        assert (kinds[0]["kind"], kinds[0]["status"]) == ("refused_400", "failed")
        assert "Seats are used up" in kinds[0]["message"] and kinds[0]["hint"]
        assert dravo.tasks.retry_all(key, "another kind") == 0
        app.faults(refuse=False)
        assert dravo.tasks.retry_all(key, "refused_400") == 4
        running.settled(key)
        assert len(app.accounts()) == 4
        assert list(dravo.tasks.errors(key)) == []


def test_an_expression_is_tried_on_a_user(running: Running, garden: dict[str, str]) -> None:
    with running.dravo as dravo:
        name = dravo.users.list(words="User 1").page().items[0]["id"]
        tried = dravo.evaluate_expression("displayName then upper", name, "title")
        assert (
            tried["result"] == "USER 1"
            and tried["words"] == "displayName, in upper case"
            and tried["uses"] == ["displayName"]
        )
        with pytest.raises(ApiError, match="character 13"):
            dravo.evaluate_expression("displayName upper")
        answer = httpx.post(
            f"{running.url}/api/v1/expressions/evaluate",
            json={"expression": "title then x"},
            headers={"Authorization": f"Bearer {running.api_token}"},
            trust_env=False,
        )
        assert (answer.status_code, answer.json()["error"]["position"]) == (422, 11)


@pytest.fixture
def blind(services: ServiceFixture, tmp_path: Path) -> Iterator[tuple[ServiceFixture, StandIn]]:
    """A organization at work for an application that can neither be searched nor listed, and does not mind
    doubles.
    """
    with stand_in(tmp_path) as app:
        app.faults(no_filter=True, no_list=True, doubles=True)
        services.application("records", "viewer")
        connections.connect(
            services.ctx, services.caller, "records", ConnectionSettings(app.base_url, app.token)
        )
        applications.change(services.ctx, services.caller, "records", {}, {"enabled": True})
        worker = Worker(services.ctx)
        thread = threading.Thread(target=worker.run, daemon=True)
        thread.start()
        yield services, app
        worker.stop()
        thread.join()


@pytest.mark.parametrize("found", ["exists", "missing"])
def test_an_unknowable_outcome_is_left_to_an_operator(
    blind: tuple[ServiceFixture, StandIn], found: str
) -> None:
    from dravo.services.access import assignments
    from dravo.services.access.assignment_targets import AssignmentRequest
    from dravo.services.provisioning import tasks

    services, app = blind
    staff = services.source()
    services.user(staff, "ada")
    services.user(staff, "bob")
    app.faults(lose=1)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    held = eventually(lambda: [row for row in services.rows(t.task) if row.status == "held"], seconds=15)[0]
    assert (
        held.kind,
        "The outcome is unknown: the response was lost, and the application cannot be searched."
        in held.message,
    ) == ("unknown", True)
    assert tasks.retry_all(services.ctx, services.caller, "records", None).number == 0, (
        "trying blindly could make a double"
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="bob"))
    eventually(lambda: "bob" in {each["userName"] for each in app.status()["accounts"]})
    there = next(each["id"] for each in app.status()["accounts"] if each["userName"] == "ada")
    if found == "exists":
        with pytest.raises(InvalidInput, match="The account ID is missing"):
            tasks.resolve(services.ctx, services.caller, held.id, "exists", None)
        tasks.resolve(services.ctx, services.caller, held.id, "exists", there)
    else:
        httpx.delete(f"{app.base_url}/Users/{there}", headers=app.headers, trust_env=False)
        tasks.resolve(services.ctx, services.caller, held.id, "missing", None)
    eventually(
        lambda: [row.status for row in services.rows(t.task)], lambda statuses: set(statuses) == {"done"}
    )
    assert sorted(each["userName"] for each in app.status()["accounts"]) == ["ada", "bob"]
    with pytest.raises(InvalidInput, match="This task is not unresolved"):
        tasks.resolve(services.ctx, services.caller, held.id, "missing", None)


def test_errors_with_another_hint_are_another_kind(running: Running, app: StandIn, fresh: Fresh) -> None:
    key, names = fresh("records"), [fresh("in-the-way"), fresh("elsewhere")]
    app.create(userName=names[0], active=True)
    app.create(userName=names[1], active=True, externalId="till-7")
    running.application(key, app)
    provider = running.provider(fresh("source"))
    group = provider.group(fresh("Both"), [provider.user(name) for name in names])
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", group=group)
        running.settled(key)
        kinds = dravo.tasks.errors(key)
        assert len(kinds) == 2
        told = {each["kind"]: each["hint"] for each in kinds}
        assert (
            "adopt" in told["not_adopted"]
            and "The account belongs to another user or system. Rename or delete it in the "
            "application, then retry."
            in told["other_system"]
        )
        dravo.applications.change(key, adopt_by=["userName"])
        running.settled(key)
        assert [each["kind"] for each in dravo.tasks.errors(key)] == ["other_system"]


def test_groups_are_provisioned_by_a_pattern_of_names(running: Running, app: StandIn, fresh: Fresh) -> None:
    key, source, name = fresh("records"), fresh("source"), fresh("ada")
    running.application(key, app)
    provider = running.provider(source)
    user = provider.user(name)
    plants = provider.group(f"plants-{key}", [user])
    provider.group(f"desk-{key}", [user])
    running.provider(fresh("other")).group(f"plants-x-{key}", [])
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", user=name)
        wish = {"which": "pattern", "source": source, "pattern": "^plants-"}
        settings = dravo.applications.change(key, provisioned_groups=wish)["settings"]["provisioned_groups"]
        assert settings == {**wish, "groups": []}
        running.settled(key)
        assert {each["displayName"] for each in app.groups()} == {f"plants-{key}"}
        # A later group follows by its name, and one with another name goes.
        provider.group(f"plants-new-{key}", [user])
        provider.patch(f"/Groups/{plants}", {"op": "replace", "path": "displayName", "value": f"herbs-{key}"})
        running.settled(key)
        assert {each["displayName"] for each in app.groups()} == {f"plants-new-{key}"}
        for wrong, words in (
            ({"which": "pattern", "pattern": "^plants-"}, "needs its source"),
            ({"which": "pattern", "pattern": "(", "source": source}, "pattern is invalid"),
            ({"which": "pattern", "pattern": "x", "source": "nowhere"}, "nowhere"),
        ):
            with pytest.raises(ApiError, match=words):
                dravo.applications.change(key, provisioned_groups=wrong)
