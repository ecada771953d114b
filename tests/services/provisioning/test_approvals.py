"""Applications whose tasks wait for an operator's approval."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from dravo.client import ApiError
from tests.client.test_access_commands import ran
from tests.harness import Running, StandIn

Fresh = Callable[[str], str]


def test_each_task_waits_for_an_approval_of_the_version_that_was_seen(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    key, names = fresh("vault"), [fresh("ada"), fresh("bob")]
    running.application(key, app, approve_tasks=True)
    provider = running.provider(fresh("source"))
    users = [provider.user(name) for name in names]
    with running.dravo as dravo:
        for name in names:
            dravo.assignments.add(key, "viewer", user=name)
        running.settled(key)
        assert app.accounts() == {} and dravo.provisioning.summary(key)["stopped"] == 2
        waiting = {
            each["user"]["user_name"]: each for each in dravo.tasks.list(status="approval", application=key)
        }
        assert waiting[names[0]]["waits_for"] == "an operator's approval"
        # The desired state changes after the operator looked.
        provider.patch(f"/Users/{users[0]}", {"op": "replace", "path": "title", "value": "Keeper"})
        with pytest.raises(ApiError, match="A task changed"):
            dravo.tasks.approve(key, waiting.values())
        running.settled(key)
        assert app.accounts() == {}, "nothing was approved"
        assert dravo.tasks.approve(key, [waiting[names[1]]]) == 1
        running.settled(key)
        assert set(app.accounts()) == {names[1]}
        (done,) = dravo.tasks.list(status="done", application=key)
        assert done["approved_by"] == "edmund.sallow"
        assert "1 task approved." in ran(running, "task", "approve", key, "--all")
        running.settled(key)
        assert app.accounts()[names[0]]["title"] == "Keeper"
        # A later change, and a removal, are approved again.
        provider.set_active(users[1], False)
        running.settled(key)
        assert app.accounts()[names[1]]["active"] is True
        (task,) = dravo.tasks.list(status="approval", application=key)
        dravo.tasks.approve(key, [task])
        running.settled(key)
        assert app.accounts()[names[1]]["active"] is False
        assert "waits for no approval" in ran(running, "task", "approve", key, "--id", task["id"], code=2)
        assert "or use --all" in ran(running, "task", "approve", key, code=2)


def test_without_the_setting_tasks_start_at_once(running: Running, app: StandIn, fresh: Fresh) -> None:
    key, name = fresh("vault"), fresh("ada")
    running.application(key, app, approve_tasks=True)
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(key, "viewer", user=name)
        running.settled(key)
        waiting = list(dravo.tasks.list(status="approval", application=key))
        dravo.applications.change(key, approve_tasks=False)
        running.settled(key)
        assert set(app.accounts()) == {name}
        with pytest.raises(ApiError, match="asks for no approval"):
            dravo.tasks.approve(key, waiting)
