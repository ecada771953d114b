"""Roles are read from the application, and connections are tested before they are saved."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from dravo.client.errors import ApiError
from tests.command_line import dravo
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


@pytest.fixture
def records(running: Running, app: StandIn, fresh: Fresh) -> str:
    key = fresh("records")
    for name, role in (("a", "viewer"), ("b", "viewer"), ("c", "URN:admin")):
        app.create(userName=fresh(name), active=True, roles=[{"value": role, "display": role.title()}])
    running.application(key, app)
    return key


def test_roles_are_read_by_the_connection_check_and_compared(running: Running, records: str) -> None:
    with running.dravo as client:
        before = client.applications.available_roles(records)
        assert before["seen_at"] is None and before["items"] == []
        client.applications.check(records)
        found = client.applications.available_roles(records)
        assert (found["attribute"], found["complete"]) == ("roles", True)
        roles = {each["value"]: each for each in found["items"] if each["attribute"] == "roles"}
        assert (roles["viewer"]["accounts"], roles["viewer"]["role"]) == (2, "viewer")
        assert (roles["URN:admin"]["label"], roles["URN:admin"]["role"]) == ("Urn:Admin", None)
        assert found["missing"] == ["curator"]
        client.applications.change_role(records, "curator", sent_value="URN:admin")
        found = client.applications.available_roles(records)
        assert {each["role"] for each in found["items"] if each["attribute"] == "roles"} == {
            "viewer",
            "curator",
        }
        assert found["missing"] == []
    shown = dravo(running, "application", "available-roles", records)
    assert "URN:admin" in shown.stdout and "curator" in shown.stdout


def test_a_reconciliation_reads_the_values_of_all_accounts(
    running: Running, records: str, app: StandIn, fresh: Fresh
) -> None:
    with running.dravo as client:
        client.applications.check(records)
        app.create(userName=fresh("d"), active=True, roles=[{"value": "keeper"}])
        run = client.applications.reconcile(records)
        eventually(lambda: client.applications.run(run["id"])["ended_at"])
        found = client.applications.available_roles(records)
    values = {each["value"]: each["accounts"] for each in found["items"] if each["attribute"] == "roles"}
    assert values == {"viewer": 2, "URN:admin": 1, "keeper": 1}


def test_a_connection_is_tested_before_it_is_saved(
    running: Running, records: str, app: StandIn, fresh: Fresh
) -> None:
    new = fresh("new")
    with running.dravo as client:
        client.applications.add(new, "New")
        first = client.applications.preview_connection(new, f" {app.base_url}/Users/ ")
        assert (first["ok"], first["base_url"]) == (False, app.base_url)
        assert {each["name"]: each["outcome"] for each in first["steps"]}["Token"] == "pending"
        wrong = client.applications.preview_connection(new, app.base_url, "wrong")
        assert {each["name"]: each["outcome"] for each in wrong["steps"]}["Token"] == "failed"
        assert client.applications.preview_connection(new, app.base_url, app.token)["ok"]
        with pytest.raises(ApiError, match="not an HTTP URL"):
            client.applications.preview_connection(new, "ftp://x.example", "t")
        saved = client.applications.get(new)["connection"]
        assert (saved["base_url"], saved["has_secret"], saved["checked_at"]) == (None, False, None)
        # The saved token is used where it could stay, and goes to no other host.
        assert client.applications.preview_connection(records, app.base_url)["ok"]
        elsewhere = app.base_url.replace("127.0.0.1", "localhost")
        steps = client.applications.preview_connection(records, elsewhere)["steps"]
        assert {each["name"]: each["outcome"] for each in steps}["Token"] == "pending"
    told = dravo(running, "application", "connect", new, app.base_url, "--preview", stdin=f"{app.token}\n")
    assert told.returncode == 0 and "The application has" in told.stdout
    with running.dravo as client:
        assert client.applications.get(new)["connection"]["base_url"] is None
