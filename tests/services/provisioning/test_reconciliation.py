"""Reconciliation: what is found, what is done about it, and that nothing is concluded from half a list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import httpx
import pytest

from dravo.client import ApiError
from dravo.core import schedules
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.provisioning.drift import Expected, ExpectedGroup, agrees, compare, compare_groups
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.provisioning.drift import reconciliation
from dravo.store import clock
from dravo.store import tables as t
from tests import command_line
from tests.harness import Running, StandIn, eventually
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]
BODY = {
    "userName": "ada",
    "active": True,
    "roles": [{"value": "viewer", "primary": True}],
    "emails": [{"value": "a@x", "type": "work"}],
    "title": None,
}
ADA = Expected("a1", "7", "Ada", BODY)


@pytest.mark.parametrize(
    ("wanted", "found", "same"),
    [
        ("a", "a", True),
        ("a", "A", False),
        ("a", None, False),
        (None, None, True),
        ([], None, True),
        (None, "x", False),
        (True, True, True),
        (True, None, False),
        (False, None, True),
        (False, True, False),
        (12, "12", True),
        ({"value": "a"}, {"value": "a", "display": "A"}, True),
        ({"value": "a"}, {"value": "b"}, False),
        ([{"value": "a"}, {"value": "b"}], [{"value": "b", "primary": False}, {"value": "a"}], True),
        (["a"], ["a", "b"], False),
        (["a"], "a", False),
        ({"value": "a", "primary": False}, {"value": "a"}, True),
    ],
)
def test_values_that_count_as_equal(wanted: Any, found: Any, same: bool) -> None:
    assert agrees(wanted, found) is same


def test_each_kind_of_drift_is_distinguished() -> None:
    there = {
        "id": "7",
        "userName": "ada",
        "active": False,
        "roles": [],
        "emails": [{"value": "b@x", "type": "work"}],
        "nickName": "theirs",
    }
    kinds = {
        each.kind: each
        for each in compare([ADA], [there, {"id": "8", "userName": "eve"}, {"id": "9"}], frozenset({"9"}))
    }
    assert set(kinds) == {"status", "role", "attributes", "unexpected"}
    assert kinds["attributes"].differences[0]["attribute"] == "emails"
    assert (kinds["unexpected"].about, kinds["unexpected"].name) == ("8", "eve")
    assert [each.kind for each in compare([ADA], [])] == ["missing"]
    assert list(compare([ADA], [{"id": "7", **BODY}])) == []


@pytest.fixture
def garden(running: Running, app: StandIn, fresh: Fresh) -> str:
    key = fresh("records")
    running.application(key, app)
    provider = running.provider(fresh("source"))
    group = provider.group(
        fresh("Herbarium"),
        [provider.user(f"{name}-{key}", displayName=name.title()) for name in ("ada", "bob", "cai", "dan")],
    )
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", group=group)
    running.settled(key)
    assert len(app.accounts()) == 4
    running.settled(key)
    return key


def drifted(app: StandIn, key: str) -> None:
    """Change things there outside Dravo."""
    accounts = app.accounts()
    ada, bob, cai = (accounts[f"{name}-{key}"] for name in ("ada", "bob", "cai"))
    httpx.delete(f"{app.base_url}/Users/{ada['id']}", headers=app.headers, trust_env=False)
    httpx.put(
        f"{app.base_url}/Users/{bob['id']}",
        json={**bob, "roles": [{"value": "owner"}], "title": "King"},
        headers=app.headers,
        trust_env=False,
    )
    httpx.put(
        f"{app.base_url}/Users/{cai['id']}",
        json={**cai, "active": False},
        headers=app.headers,
        trust_env=False,
    )
    app.create(userName="stranger", displayName="Stranger", active=True)


def compared(running: Running, key: str) -> dict[str, Any]:
    with running.dravo as dravo:
        run = dravo.applications.reconcile(key)
        return dict(
            eventually(lambda: dravo.applications.run(run["id"]), lambda seen: seen["ended_at"] is not None)
        )


def warning(run: dict[str, Any]) -> dict[str, int]:
    return {kind: number for kind, number in run["counts"].items() if number}


def test_drift_is_found_fixed_linked_and_ignored(
    running: Running, app: StandIn, garden: str, fresh: Fresh
) -> None:
    assert warning(compared(running, garden)) == {}
    drifted(app, garden)
    run = compared(running, garden)
    assert (run["status"], run["read"]) == ("done", 4)
    # Bob's title, which he does not have here, differs too.
    assert warning(run) == {"missing": 1, "unexpected": 1, "attributes": 1, "role": 1, "status": 1}
    with running.dravo as dravo:
        found = {each["kind"]: each for each in dravo.applications.drift(garden)}
        assert dravo.applications.get(garden)["drifting"] == 5
        assert found["attributes"]["changes"] == [{"attribute": "title", "before": "King", "after": None}]
        assert (found["missing"]["name"], found["role"]["name"], found["status"]["name"]) == (
            "Ada",
            "Bob",
            "Cai",
        )
        with pytest.raises(ApiError, match="' has no user in Dravo"):
            dravo.applications.repair_drift(garden, [found["unexpected"]["id"]])
        ours = [each["id"] for kind, each in found.items() if kind != "unexpected"]
        assert dravo.applications.repair_drift(garden, ours) == 4
        name = fresh("newcomer")
        user = running.provider(fresh("other")).user(name)
        assert user
        with pytest.raises(ApiError, match="has no access"):
            dravo.applications.link_drift(garden, found["unexpected"]["id"], name)
        app.faults(refuse="Not now.")
        dravo.assignments.add(garden, "viewer", user=name)
        running.settled(garden)
        assert dravo.tasks.errors(garden)
        app.faults(refuse=False)
        dravo.applications.link_drift(garden, found["unexpected"]["id"], name)
        running.settled(garden)
        seen = {each["userName"] for each in app.accounts().values()}
        assert name in seen and "stranger" not in seen
        dravo.tasks.retry_all(garden)
        running.settled(garden)
        eventually(
            lambda: {each["status"] for each in dravo.applications.drift(garden)},
            lambda statuses: statuses <= {"repaired"},
        )
    assert warning(compared(running, garden)) == {}
    assert len(app.accounts()) == 5
    assert "title" not in app.accounts()[f"bob-{garden}"], "what he does not have here was removed there"
    app.create(userName="janitor", active=True)
    compared(running, garden)
    with running.dravo as dravo:
        other = dravo.applications.drift(garden, kind="unexpected").page().items[0]
        dravo.applications.ignore_drift(garden, [other["id"]])
        compared(running, garden)
        assert (
            list(dravo.applications.drift(garden)) == [] and dravo.applications.get(garden)["drifting"] == 0
        )
        dravo.applications.ignore_drift(garden, [other["id"]], ignored=False)
        assert len(list(dravo.applications.drift(garden))) == 1


TEAM = ExpectedGroup("g1", "40", "Herbarium", frozenset({"7", "8"}))
OURS = {"7": "Ada", "8": "Bob", "9": "Cai"}


def test_groups_differ_by_name_by_members_of_ours_or_by_not_being_there() -> None:
    there = {
        "id": "40",
        "displayName": "Herbarium",
        "members": [{"value": "7"}, {"value": "8"}, {"value": "stranger"}],
    }
    assert list(compare_groups([TEAM], [there], OURS)) == []
    assert [each.kind for each in compare_groups([TEAM], [], OURS)] == ["group_missing"]
    renamed, moved = compare_groups(
        [TEAM],
        [{"id": "40", "displayName": "Pressed plants", "members": [{"value": "7"}, {"value": "9"}]}],
        OURS,
    )
    assert (renamed.kind, renamed.differences) == (
        "group_name",
        ({"attribute": "displayName", "before": "Pressed plants", "after": "Herbarium"},),
    )
    assert (moved.kind, moved.differences) == (
        "group_members",
        ({"attribute": "members", "before": "Cai", "after": "Bob"},),
    )


def test_of_many_members_that_differ_some_are_named() -> None:
    many = {str(number): f"User {number:02d}" for number in range(30)}
    (found,) = compare_groups(
        [ExpectedGroup("g1", "40", "Crowd", frozenset(many))], [{"id": "40", "displayName": "Crowd"}], many
    )
    assert found.differences[0]["after"].endswith("User 19 and 10 more")


@pytest.mark.parametrize("listed", [True, False], ids=["members in the list", "members only one by one"])
def test_groups_that_drifted_are_found_and_fixed(
    running: Running, app: StandIn, fresh: Fresh, listed: bool
) -> None:
    key, provider = fresh("records"), running.provider(fresh("source"))
    running.application(key, app, provisioned_groups={"which": "with_roles"})
    names = {name: provider.user(f"{name}-{key}", displayName=name.title()) for name in ("ada", "bob", "cai")}
    provider.user(f"eve-{key}")
    herbarium, seeds, beds = (
        provider.group(f"{name} {key}", list(members))
        for name, members in (
            ("Herbarium", [names["ada"], names["bob"]]),
            ("Seeds", [names["cai"]]),
            ("Beds", [names["cai"]]),
        )
    )
    with running.dravo as dravo:
        for group in (herbarium, seeds, beds):
            dravo.assignments.add(key, "viewer", group=group)
        running.settled(key)
        assert sorted(len(each.get("members", [])) for each in app.groups()) == [1, 1, 2]
        running.settled(key)
        assert {each["status"] for each in dravo.applications.groups(key)} == {"done"}
        app.faults(members_left_out=not listed)
        assert warning(compared(running, key)) == {}
        by_name = {each["displayName"].split()[0]: each for each in app.groups()}
        cai, stranger = app.accounts()[f"cai-{key}"]["id"], app.create(userName="stranger", active=True)
        to = {"headers": app.headers, "trust_env": False}
        ada = app.accounts()[f"ada-{key}"]["id"]
        swapped = {**by_name["Herbarium"], "members": [{"value": ada}, {"value": cai}, {"value": stranger}]}
        httpx.put(f"{app.base_url}/Groups/{swapped['id']}", json=swapped, **to)  # type: ignore[arg-type]
        httpx.put(
            f"{app.base_url}/Groups/{by_name['Seeds']['id']}",
            json={**by_name["Seeds"], "displayName": "Pips"},
            **to,
        )  # type: ignore[arg-type]
        httpx.delete(f"{app.base_url}/Groups/{by_name['Beds']['id']}", **to)  # type: ignore[arg-type]
        run = compared(running, key)
        assert (run["groups"], warning(run)) == (
            3,
            {"unexpected": 1, "group_missing": 1, "group_name": 1, "group_members": 1},
        )
        found = {each["kind"]: each for each in dravo.applications.drift(key)}
        assert found["group_members"]["changes"] == [
            {"attribute": "members", "before": "Cai", "after": "Bob"}
        ]
        ours = [each["id"] for kind, each in found.items() if kind != "unexpected"]
        assert dravo.applications.repair_drift(key, ours) == 3
        eventually(
            lambda: [each["status"] for each in dravo.applications.drift(key)].count("repaired"),
            lambda number: number == 3,
        )
        assert warning(compared(running, key)) == {"unexpected": 1}
    after = {
        each["displayName"].split()[0]: {member["value"] for member in each.get("members", [])}
        for each in app.groups()
    }
    bob = app.accounts()[f"bob-{key}"]["id"]
    # Anyone who was put in there by others and is nobody's here is left alone.
    assert after == {"Herbarium": {ada, bob, stranger}, "Seeds": {cai}, "Beds": {cai}}


def test_from_half_a_list_nothing_is_concluded(running: Running, app: StandIn, garden: str) -> None:
    drifted(app, garden)
    compared(running, garden)
    with running.dravo as dravo:
        before = [dict(each) for each in dravo.applications.drift(garden)]
        app.faults(down=True)
        run = compared(running, garden)
        assert run["status"] == "failed" and "503" in run["message"]
        assert [dict(each) for each in dravo.applications.drift(garden)] == before
        app.faults(down=False)


def test_a_run_is_stopped_and_never_two_at_once(running: Running, app: StandIn, garden: str) -> None:
    app.faults(page=1, slow=300)
    with running.dravo as dravo:
        run = dravo.applications.reconcile(garden)
        with pytest.raises(ApiError, match="' is in progress"):
            dravo.applications.reconcile(garden)
        eventually(
            lambda: (
                dravo.applications.run(run["id"])["progress"]
                or dravo.applications.run(run["id"])["status"] == "running"
            )
        )
        dravo.applications.stop_run(run["id"])
        ended = eventually(
            lambda: dravo.applications.run(run["id"]), lambda seen: seen["ended_at"] is not None
        )
        assert ended["status"] == "stopped"
        assert dravo.applications.runs(garden).page().items[0]["id"] == run["id"]


def test_the_schedule_asks_by_itself_and_makes_up_for_one_that_was_missed(services: ServiceFixture) -> None:
    services.application("records", enabled=True, reconcile_schedule="0 3 * * *")
    connections.connect(
        services.ctx, services.caller, "records", ConnectionSettings("http://127.0.0.1:9/scim/v2", "token")
    )
    following = applications.one(services.ctx, "records").settings.reconcile_next_at
    assert following[11:16] == "03:00"
    reconciliation.request_scheduled(services.ctx, clock.now())
    assert services.rows(t.run) == []
    late = Instant(following.replace("T03", "T09"))
    reconciliation.request_scheduled(services.ctx, late)
    reconciliation.request_scheduled(services.ctx, late)
    assert [row.requested_by for row in services.rows(t.run)] == ["the schedule"]
    assert applications.one(services.ctx, "records").settings.reconcile_next_at > late


@pytest.mark.parametrize(
    ("text", "words", "following"),
    [
        ("0 * * * *", "Every hour", "2031-04-02T10:00"),
        ("15 * * * *", "At 15 minutes past the hour", "2031-04-02T09:15"),
        ("*/20 * * * *", "Every 20 minutes", "2031-04-02T09:20"),
        ("30 6 * * *", "At 06:30", "2031-04-03T06:30"),
        ("30 6 * * 1-5", "At 06:30, Monday through Friday", "2031-04-03T06:30"),
        ("0 8 * * 0", "At 08:00, only on Sunday", "2031-04-06T08:00"),
        ("0 8 * * 7", "At 08:00, only on Sunday", "2031-04-06T08:00"),
        ("0 8 * * mon", "At 08:00, only on Monday", "2031-04-07T08:00"),
        ("0 0 1 * *", "At 00:00, on day 1 of the month", "2031-05-01T00:00"),
    ],
)
def test_schedules_are_said_in_words_and_mean_what_users_know(text: str, words: str, following: str) -> None:
    now = Instant("2031-04-02T09:10:00.000000Z")
    assert schedules.in_words(text) == words
    times = schedules.next_times(text, now)
    assert times[0].startswith(following) and times == sorted(times) and len(set(times)) == 3


@pytest.mark.parametrize(
    "text", ["", "hourly", "* * * *", "61 * * * *", "0 0 * * 9", "0 0 32 * *", "a b c d e"]
)
def test_an_invalid_schedule_is_explained(text: str) -> None:
    with pytest.raises(InvalidInput) as told:
        schedules.next_time(text, clock.now())
    assert told.value.hint


def test_drift_on_the_command_line(running: Running, app: StandIn, garden: str) -> None:
    drifted(app, garden)

    def dravo(*arguments: str) -> str:
        done = command_line.dravo(running, *arguments)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "4 accounts read: 1 missing, 1 unexpected, 1 attributes, 1 role, 1 status." in dravo(
        "drift", "reconcile", garden
    )
    listed = dravo("drift", "list", garden)
    assert "account is missing" in listed and "stranger" in listed
    nothing_named = command_line.dravo(running, "drift", "repair", garden)
    assert nothing_named.returncode == 2 and "Name differences by ID, or use --all." in nothing_named.stderr
    assert "4 differences are being repaired" in dravo("drift", "repair", garden, "--all")
    running.settled(garden)
    assert len(app.accounts()) == 5
    running.settled(garden)
    assert "1 unexpected." in dravo("drift", "reconcile", garden)
    assert "the schedule" not in dravo("drift", "runs", garden)


def test_attributes_managed_in_the_application_are_not_compared(services: ServiceFixture) -> None:
    applications.add(services.ctx, services.caller, "payslips", "Payslips", None, tracked_only=True)
    with pytest.raises(InvalidInput, match="' is tracked only"):
        reconciliation.ask_for(services.ctx, services.caller, "payslips")


def test_a_user_is_made_of_an_account_that_was_found_and_the_account_is_theirs(
    running: Running, app: StandIn, garden: str, fresh: Fresh
) -> None:
    name = fresh("printer")
    remote = app.create(
        userName=name,
        displayName="Label Printer",
        active=True,
        roles=[{"value": "viewer"}],
        emails=[{"value": f"{name}@x.example"}],
    )
    app.create(userName=fresh("roleless"), displayName="A Roleless", active=True)
    app.create(userName=fresh("asleep"), displayName="Asleep", active=False, roles=[{"value": "viewer"}])
    app.create(userName=f"dan-{garden}2", displayName="B Dan", active=True, roles=[{"value": "viewer"}])
    running.provider(fresh("elsewhere")).user(f"dan-{garden}2")
    compared(running, garden)
    with running.dravo as dravo:
        found = {each["name"]: each["id"] for each in dravo.applications.drift(garden, kind="unexpected")}
        with pytest.raises(ApiError, match="no known role"):
            dravo.applications.create_user(garden, found["A Roleless"])
        with pytest.raises(ApiError, match="' is inactive"):
            dravo.applications.create_user(garden, found["Asleep"])
        with pytest.raises(ApiError, match=" has the same user name or email address"):
            dravo.applications.create_user(garden, found["B Dan"])
        user = dravo.users.get(dravo.applications.create_user(garden, found["Label Printer"]))
        assert (user["user_name"], user["records"][0]["connection_type"]) == (name, "local")
        running.settled(garden)
        why = dravo.users.why(name, garden)
        assert why["account"] is not None and (why["account"]["remote_id"], why["account"]["status"]) == (
            remote,
            "in_sync",
        )
        assert why["access"][0]["reasons"][0]["kind"] == "direct"
        second = dravo.users.get(dravo.applications.create_user(garden, found["A Roleless"], "curator"))
        # What an application says of somebody gives them nothing elsewhere unless that was seen.
        other = fresh("elsewhere")
        running.application(other)
        dravo.assignments.add(other, "viewer", rule=f'userName sw "dan-{garden}3"')
        app.create(userName=f"dan-{garden}3", displayName="C Dan", active=True, roles=[{"value": "viewer"}])
        compared(running, garden)
        third = next(
            each["id"]
            for each in dravo.applications.drift(garden, kind="unexpected")
            if each["name"] == "C Dan"
        )
        with pytest.raises(
            ApiError, match=f"The user would also get: Viewer in {other.title().replace('-', ' ')} \\(rule"
        ):
            dravo.applications.create_user(garden, third)
        assert dravo.users.list(words=f"dan-{garden}3").total() == 0
        dravo.applications.create_user(garden, third, confirm="C Dan")
        running.settled(garden)
    assert compared(running, garden)["counts"]["unexpected"] == 2
    assert (
        app.accounts()[name]["externalId"] == user["id"]
        and app.accounts()[second["user_name"]]["roles"][0]["value"] == "curator"
    )


ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


def test_a_role_given_by_hand_is_drift_without_desired_roles() -> None:
    ours = replace(ADA, empty=frozenset({"nickName", "entitlements", ENTERPRISE}))
    there = {
        "id": "7",
        **BODY,
        "entitlements": [{"value": "gold"}],
        "nickName": "King",
        "locale": "theirs",
        ENTERPRISE: {"department": "Moss", "manager": {}},
    }
    found = {each.kind: list(each.differences) for each in compare([ours], [there])}
    assert found == {
        "role": [{"attribute": "entitlements", "before": [{"value": "gold"}], "after": None}],
        "attributes": [
            {"attribute": "nickName", "before": "King", "after": None},
            {"attribute": f"{ENTERPRISE}:department", "before": "Moss", "after": None},
        ],
    }
    assert (
        list(compare([ours], [{"id": "7", **BODY, "nickName": "", "entitlements": [], "locale": "theirs"}]))
        == []
    )


def test_a_foreign_group_is_listed_with_members_known_here() -> None:
    there = [
        {"id": "40", "displayName": "Herbarium", "members": [{"value": "7"}, {"value": "8"}]},
        {"id": "50", "displayName": "Admins", "members": [{"value": "7"}]},
    ]
    (found,) = compare_groups([TEAM], there, OURS)
    assert (found.kind, found.name, found.differences[0]["before"]) == ("group_unexpected", "Admins", "Ada")
    assert list(compare_groups([TEAM], there, OURS, frozenset({"50"}))) == []


def test_failed_repairs_stay_listed_and_linking_replaces_a_missing_account(
    running: Running, app: StandIn, garden: str
) -> None:
    ada = app.accounts()[f"ada-{garden}"]
    to = {"headers": app.headers, "trust_env": False}
    httpx.delete(f"{app.base_url}/Users/{ada['id']}", **to)  # type: ignore[arg-type]
    compared(running, garden)
    with running.dravo as dravo:
        missing = next(iter(dravo.applications.drift(garden)))
        app.faults(refuse="Not now.")
        dravo.applications.repair_drift(garden, [missing["id"]])
        eventually(
            lambda: [each["status"] for each in dravo.tasks.list(application=garden, status="failed")], bool
        )
        assert warning(compared(running, garden)) == {"missing": 1}, "what failed is not forgotten"
        app.faults(refuse=False)
        # Somebody made it there by hand.
        other = app.create(userName="ada.by.hand", active=True)
        compared(running, garden)
        found = {each["kind"]: each for each in dravo.applications.drift(garden)}
        user = next(iter(dravo.users.list(words=f"ada-{garden}")))["id"]
        dravo.applications.link_drift(garden, found["unexpected"]["id"], user)
        running.settled(garden)
        assert warning(compared(running, garden)) == {}
        bob = next(iter(dravo.users.list(words=f"bob-{garden}")))["id"]
        app.create(userName="bob.by.hand", active=True)
        compared(running, garden)
        with pytest.raises(ApiError, match="another account"):
            dravo.applications.link_drift(garden, next(iter(dravo.applications.drift(garden)))["id"], bob)
    assert app.accounts()[f"ada-{garden}"]["id"] == other
