"""Commands about one object, each as a user reads it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from tests.client.test_access_commands import ran
from tests.harness import Running, StandIn
from tests.services.applications.test_icons import picture

Fresh = Callable[[str], str]


def test_one_account_source_group_and_icon_are_shown(
    running: Running, app: StandIn, fresh: Fresh, tmp_path: Path
) -> None:
    desk, source, name = fresh("desk"), fresh("staff"), fresh("ada")
    running.application(desk, app, role_encoding={"way": "groups"})
    running.provider(source).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", user=name)
        running.settled(desk)
        account = next(iter(dravo.accounts.list(application=desk)))["id"]
        group = next(iter(dravo.applications.groups(desk)))["id"]
        dravo.applications.set_icon(desk, picture())
    shown = ran(running, "account", "show", account)
    assert "in_sync" in shown and "Desired state:" in shown and name in shown
    assert "retries the group" in ran(running, "application", "retry-group", desk, group)
    icon = tmp_path / "icon.png"
    assert "Wrote" in ran(running, "application", "icon", desk, str(icon))
    assert icon.read_bytes().startswith(b"\x89PNG")
    assert f"({source})" in ran(running, "source", "show", source)
    assert "No session." in ran(running, "user", "sessions", name)
    run = ran(running, "drift", "reconcile", desk)
    assert "accounts" in run
    refused = ran(running, "drift", "stop", "nothing", code=3)
    assert "nothing" in refused


def test_setups_made_by_mistake_are_deleted(running: Running, fresh: Fresh) -> None:
    source = fresh("estates")
    with running.dravo as dravo:
        dravo.sources.add(source, "Estates", "import")
        dravo.sources.change_import(source, kind="csv")
    assert "Deleted." in ran(running, "source", "delete-import", source)
    with running.dravo as dravo:
        dravo.sign_ins.change(source, protocol="saml")
    assert "Deleted." in ran(running, "sign-in", "delete", source)
    assert "nothing" in ran(running, "operator", "unlink", "nothing", code=3)


def test_the_groups_of_a_pattern_are_confirmed(running: Running, fresh: Fresh) -> None:
    desk, source = fresh("desk"), fresh("staff")
    running.application(desk)
    group = running.provider(source).group(f"{desk}-curator", [])
    with running.dravo as dravo:
        made = dravo.assignments.add(desk, None, source=source, pattern=f"^{desk}-(.+)$")["id"]
    confirm = ("assignment", "confirm-groups", made)
    assert "1 confirmed groups" in ran(running, *confirm, "--confirmed", group)
    assert "0 confirmed groups" in ran(running, *confirm)


def test_how_roles_and_plans_are_sent_is_set_by_options(running: Running, fresh: Fresh) -> None:
    desk = fresh("desk")
    running.application(desk)
    ran(running, "application", "set", desk, "--role-encoding", "entitlements", "--which", "highest")
    ran(running, "application", "set", desk, "--plan-encoding", "userType")
    with running.dravo as dravo:
        settings = dravo.applications.get(desk)["settings"]
    roles, plan = settings["role_encoding"], settings["plan_encoding"]
    assert (roles["way"], roles["which"]) == ("entitlements", "highest")
    assert (plan["way"], plan["attribute"]) == ("attribute", "userType")
    change = ("application", "set", desk)
    assert "work only with --role-encoding" in ran(running, *change, "--shape", "objects", code=2)
    assert "only with --groups pattern" in ran(running, *change, "--pattern", "^x", code=2)
