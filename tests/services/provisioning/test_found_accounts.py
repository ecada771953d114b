"""Accounts found in an application are adopted, become users, wait or are ignored; and the whole list beside
ours.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from dravo.client import ApiError, Dravo
from tests.client.test_access_commands import ran
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


@dataclass
class Garden:
    """A connected application, three users, and accounts that Dravo did not create."""

    running: Running
    app: StandIn
    key: str
    names: dict[str, str]

    def found(self, name: str, role: str = "viewer", **more: Any) -> str:
        return self.app.create(userName=self.names[name], roles=[{"value": role}], **more)

    def reconcile(self) -> dict[str, dict[str, Any]]:
        """Reconcile; return the open differences by name."""
        with self.running.dravo as dravo:
            run = dravo.applications.reconcile(self.key)
            eventually(lambda: dravo.applications.run(run["id"])["ended_at"])
            return {each["name"]: dict(each) for each in dravo.applications.drift(self.key, status="open")}

    def accounts(self) -> dict[str, str | None]:
        with self.running.dravo as dravo:
            listed = dravo.accounts.list(application=self.key)
            return {each["user"]["user_name"]: each["remote_id"] for each in listed}

    def status(self) -> dict[str, str]:
        with self.running.dravo as dravo:
            return {each["name"]: each["status"] for each in dravo.applications.compare_accounts(self.key)}


@pytest.fixture
def garden(running: Running, app: StandIn, fresh: Fresh) -> Garden:
    key = fresh("records")
    names = {name: fresh(name) for name in ("ada", "bob", "cai", "zoe", "boss")}
    running.application(key, app)
    provider = running.provider(fresh("source"))
    for name in ("ada", "bob", "boss"):
        provider.user(names[name], displayName=names[name])
    return Garden(running, app, key, names)


@pytest.fixture
def each_highest_role_confirmed(running: Running) -> Iterator[None]:
    running.change_setting("highest_role_confirmation", 1)
    yield
    running.change_setting("highest_role_confirmation", 11)


@pytest.mark.usefixtures("each_highest_role_confirmed")
def test_many_accounts_are_adopted_at_once_and_the_doubtful_ones_are_left(garden: Garden) -> None:
    names = garden.names
    there = {name: garden.found(name) for name in ("bob", "zoe")}
    garden.found("boss", "curator")
    garden.found("cai", active=False)
    drift = garden.reconcile()
    ids = [each["id"] for each in drift.values()]
    with garden.running.dravo as dravo:
        preview = dravo.applications.preview_adopting(garden.key, ids)
        actions = {each["name"]: each["action"] for each in preview["items"]}
        assert actions == {
            names["bob"]: "assign_and_link",
            names["zoe"]: "leave",
            names["boss"]: "leave",
            names["cai"]: "leave",
        }
        assert garden.accounts() == {}, "a preview changes nothing"
        done = dravo.applications.adopt_accounts(garden.key, ids)
        assert (done["linked"], done["created"], done["left"]) == (1, 0, 3)
        reasons = {each["name"]: each["message"] for each in done["items"]}
        assert reasons[names["boss"]] == "The account has the highest role, 'Curator'."
        garden.running.settled(garden.key)
        assert garden.accounts() == {names["bob"]: there["bob"]}
        ours = list(dravo.assignments.list(application=garden.key))
        assert [each["note"] for each in ours] == [
            f"Found as '{names['bob']}' in {ours[0]['application']['label']}"
        ]
        # With users for the others: only the one whose role is harmless.
        ids = [each["id"] for each in dravo.applications.drift(garden.key, status="open")]
        done = dravo.applications.adopt_accounts(garden.key, ids, create_users=True)
        assert (done["linked"], done["created"], done["left"]) == (0, 1, 2)
        garden.running.settled(garden.key)
        assert garden.accounts()[names["zoe"]] == there["zoe"]
        left = {each["name"]: each["id"] for each in dravo.applications.drift(garden.key)}
        with pytest.raises(ApiError, match="highest role"):
            dravo.applications.create_user(garden.key, left[names["boss"]])


def test_a_reconciliation_follows_the_policy_and_says_what_it_left(garden: Garden) -> None:
    names = garden.names

    def one_left(dravo: Dravo) -> dict[str, Any]:
        (left,) = dravo.applications.drift(garden.key, kind="unexpected")
        return dict(left)

    with garden.running.dravo as dravo:
        dravo.applications.change(garden.key, unlinked_accounts="adopt")
        dravo.assignments.add(garden.key, "viewer", user=names["ada"])
    garden.running.settled(garden.key)
    bob = garden.found("bob")
    garden.found("zoe", "unknown")
    garden.reconcile()
    # The policy follows after the end of the run.
    eventually(lambda: garden.accounts().get(names["bob"]) == bob)
    with garden.running.dravo as dravo:
        left = eventually(lambda: one_left(dravo), lambda seen: bool(seen["message"]))
        assert (left["name"], left["message"]) == (names["zoe"], "No user matches the account.")
        assert left["hint"]
        dravo.applications.change(garden.key, unlinked_accounts="create_users")
    garden.reconcile()
    with garden.running.dravo as dravo:
        no_role = "The account has no known role."
        eventually(lambda: one_left(dravo), lambda seen: seen["message"] == no_role)
        dravo.applications.change(garden.key, unlinked_accounts="ignore")
        garden.reconcile()
        eventually(lambda: not list(dravo.applications.drift(garden.key, kind="unexpected")))
        with pytest.raises(ApiError, match="unlinked_accounts"):
            dravo.applications.change(garden.key, unlinked_accounts="delete")


def test_the_whole_list_is_beside_ours(garden: Garden) -> None:
    names = garden.names
    with garden.running.dravo as dravo:
        for name in ("ada", "bob"):
            dravo.assignments.add(garden.key, "viewer", user=names[name])
    garden.running.settled(garden.key)
    garden.found("zoe", "owner")
    ada = garden.app.accounts()[names["ada"]]
    garden.app.change(ada["id"], {**ada, "roles": [{"value": "owner"}]})
    drift = garden.reconcile()
    assert garden.status() == {names["ada"]: "different", names["bob"]: "same", names["zoe"]: "unexpected"}
    with garden.running.dravo as dravo:
        by_name = {each["name"]: each for each in dravo.applications.compare_accounts(garden.key)}
        assert by_name[names["ada"]]["desired"] == "active, Viewer"
        assert by_name[names["ada"]]["differences"] == ["roles: 'owner'"]
        assert by_name[names["zoe"]]["listed"] == "active, owner" and by_name[names["zoe"]]["user"] is None
        only = dravo.applications.compare_accounts(garden.key, status="unexpected", words=names["zoe"][:6])
        assert [each["name"] for each in only] == [names["zoe"]]
        dravo.applications.ignore_drift(garden.key, [drift[names["zoe"]]["id"]])
    assert garden.status()[names["zoe"]] == "ignored"
    listed = ran(garden.running, "drift", "accounts", garden.key, "--status", "different")
    assert names["ada"] in listed and "active, Viewer" in listed and names["bob"] not in listed
    adopted = ran(garden.running, "drift", "adopt", garden.key, "--all", "--preview")
    assert "0 linked, 0 users created, 0 left to operators. Nothing has been changed yet." in adopted
    assert "or use --all" in ran(garden.running, "drift", "adopt", garden.key, code=2)
