"""The commands for accounts of tracked-only applications, in the order of the guide."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from tests.client.test_access_commands import ran
from tests.harness import Running

Fresh = Callable[[str], str]


def test_the_list_is_worked_through_compared_and_handed_to_dravo(
    running: Running, fresh: Fresh, tmp_path: Path
) -> None:
    desk, source = fresh("lending"), fresh("staff")
    provider, names = running.provider(source), [fresh("ada"), fresh("bob")]
    provider.group("Herbarium", [provider.user(name) for name in names])
    ran(running, "application", "add", desk, "--label", desk, "--tracked-only")
    ran(running, "application", "create-role", desk, "clerk", "--label", "Clerk", "--rank", "10")
    ran(running, "assignment", "create", desk, "clerk", "--source", source, "--group", "Herbarium")
    listed = ran(running, "task", "list-manual", desk)
    assert all(f"{name}" in listed for name in names) and "create" in listed and "Clerk" in listed
    file = tmp_path / "to-do.csv"
    assert "Wrote" in ran(running, "task", "list-manual", desk, "--export", str(file))
    assert len(file.read_text().splitlines()) == 3
    tasks = json.loads(ran(running, "task", "list-manual", desk, "--json"))
    assert "1 task marked as done." in ran(running, "task", "mark-done", desk, "--id", tasks[0]["id"])
    done = ran(running, "task", "list-manual", desk, "--done")
    assert "Done by hand by edmund.sallow." in done and names[0] in done
    assert "1 task reopened." in ran(running, "task", "mark-open", desk, "--id", tasks[0]["id"])
    refused = ran(running, "task", "mark-done", desk, code=2)
    assert "Name tasks with --id, or use --all." in refused
    assert "is not an open task" in ran(running, "task", "mark-done", desk, "--id", "x", code=2)

    accounts = tmp_path / "accounts.csv"
    accounts.write_text(f"Kennung;Role\n{names[0]};Clerk\nzoe;Clerk\n")
    compare = ("task", "compare-list", desk, str(accounts))
    assert "no column with user names" in ran(running, *compare, code=2)
    assert "Write --column as NAME=HEADING" in ran(running, *compare, "--column", "name=Kennung", code=2)
    compared = ran(running, *compare, "--column", "user_name=Kennung")
    assert "1 as they should be, 1 missing, 1 without a user" in compared and "zoe" in compared
    assert "1 open task is done in the list." in compared
    marked = ran(running, *compare, "--column", "user_name=Kennung", "--mark-done")
    assert "1 task marked as done." in marked
    assert "1 task marked as done." in ran(running, "task", "mark-done", desk, "--all", "--action", "create")
    assert "Nothing to do by hand." in ran(running, "task", "list-manual", desk)

    switch = ("application", "set", desk, "--tracked-only", "no")
    assert "Dravo looks for 2 accounts that exist already." in ran(running, *switch, "--preview")
    assert "disabled" in ran(running, *switch)
    assert "Dravo provisions the accounts" in ran(
        running, "task", "mark-open", desk, "--id", tasks[0]["id"], code=2
    )


def test_templates_are_shown_saved_and_several_are_added(
    running: Running, fresh: Fresh, tmp_path: Path
) -> None:
    key, other = fresh("our-records"), fresh("our-desk")
    shown = json.loads(ran(running, "application", "show-template", "plant-records"))
    file = tmp_path / "records.json"
    file.write_text(json.dumps({**shown, "label": "Our records"}))
    assert "Saved the template" in ran(running, "application", "save-template", key, str(file))
    toml = tmp_path / "desk.toml"
    toml.write_text('label = "Our desk"\n[[roles]]\nkey = "clerk"\nlabel = "Clerk"\n')
    assert "Our desk" in ran(running, "application", "save-template", other, str(toml))
    assert '"label"' in ran(running, "application", "template-schema")
    wanted = ("application", "add-several", "--templates", key, "--templates", other)
    added = ran(running, *wanted)
    assert "Our records" in added and "Our desk" in added and "assignment create" in added
    assert "exists already" in ran(running, *wanted, code=1)
    toml.write_text("label = ")
    assert "cannot be read" in ran(running, "application", "save-template", other, str(toml), code=2)
