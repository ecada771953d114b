"""The commands for access: what each prints, and that a mistake is told with its hint."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.command_line import dravo
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def desk(running: Running, fresh: Fresh) -> dict[str, str]:
    source, desk, name = fresh("staff"), fresh("desk"), fresh("ada")
    provider = running.provider(source)
    running.application(desk)
    provider.group("desk-viewer", [provider.user(name, displayName=f"Ada {name}", title=f"Guide {name}")])
    return {"source": source, "desk": desk, "name": name}


def ran(running: Running, *arguments: str, stdin: str = "", code: int = 0) -> str:
    done = dravo(running, *arguments, stdin=stdin)
    assert done.returncode == code, (done.stdout, done.stderr)
    return done.stdout if code == 0 else done.stdout + done.stderr


def test_rules_patterns_and_exclusions_are_made_and_read(running: Running, desk: dict[str, str]) -> None:
    key, name = desk["desk"], desk["name"]
    rule = f'title eq "Guide {name}"'
    assert f"1 users match {rule}." in ran(running, "assignment", "matches", rule)
    assert "1 gain" in ran(running, "assignment", "create", key, "viewer", "--rule", rule, "--preview")
    assert "users who match title" in ran(running, "assignment", "create", key, "viewer", "--rule", rule)
    tried = ran(running, "mapping", "check-pattern", key, "--source", desk["source"], "^desk-(.+)$")
    assert "The pattern matches 1 users in 1 groups." in tried
    assert "from the group name" in ran(
        running, "assignment", "create", key, "--source", desk["source"], "--pattern", "^desk-(.+)$"
    )
    listed = ran(running, "mapping", "list", key)
    assert "groups that match ^desk-(.+)$" in listed and rule in listed
    # The worker computes the access of those who match.
    running.settled(key)
    assert "rule title eq" in ran(running, "access", "why", name, key)
    assert "excluded" in ran(running, "assignment", "create", key, "--user", name, "--exclude")
    assert "is excluded from " in ran(running, "access", "why", name, key)
    assert "one of --user" in ran(running, "assignment", "create", key, "viewer", code=2)
    assert "A rule on a group name must also name the source." in ran(
        running, "assignment", "create", key, "viewer", "--rule", 'groups.display eq "x"', code=2
    )


def test_several_users_get_a_role_at_once(running: Running, desk: dict[str, str], fresh: Fresh) -> None:
    key, names = desk["desk"], (desk["name"], fresh("bob"))
    running.provider(fresh("more")).user(names[1], displayName="Bob Lane")
    several = ("assignment", "create", key, "viewer", "--user", names[0], "--user", names[1])
    # No option is left out in silence.
    refused = ran(running, *several, "--new-users-only", code=2)
    assert "--new-users-only cannot be combined with --user." in refused
    assert "2 gain" in ran(running, *several, "--preview")
    made = ran(running, *several)
    assert "'Bob Lane' in " in made and f"'Ada {names[0]}' in " in made
    again = ran(running, *several, code=1)
    assert "2 of 2 users have the same assignment already: " in again and "Leave these users out." in again


def test_many_are_mapped_from_a_file(running: Running, desk: dict[str, str], tmp_path: Path) -> None:
    file = tmp_path / "rows.csv"
    file.write_text(
        f"source,group,role\n{desk['source']},desk-viewer,viewer\n{desk['source']},nothing,viewer\n"
    )
    assert "There is no group" in ran(running, "mapping", "assign", desk["desk"], str(file), code=2)
    good = f"{desk['source']},desk-viewer,viewer\n"
    assert "1 gain" in ran(running, "mapping", "assign", desk["desk"], "-", "--preview", stdin=good)
    assert "1 groups were mapped." in ran(running, "mapping", "assign", desk["desk"], "-", stdin=good)
    assert "cannot be read" in ran(running, "mapping", "assign", desk["desk"], str(tmp_path / "none"), code=2)


def test_the_policy_is_shown_previewed_and_set(running: Running, desk: dict[str, str]) -> None:
    key = desk["desk"]
    assert "assigned users only" in ran(running, "policy", "show", key)
    wanted = ("--eligibility", "everyone", "--fallback", "fallback_role", "--fallback-role", "viewer")
    assert "gain" in ran(running, "policy", "set", key, *wanted, "--preview")
    assert "the fallback role, viewer" in ran(running, "policy", "set", key, *wanted)
    assert json.loads(ran(running, "policy", "show", key, "--json"))["eligibility"] == "everyone"
    # It takes something from more users than go without being confirmed.
    ran(
        running,
        "policy",
        "set",
        key,
        "--eligibility",
        "assigned",
        "--confirm",
        key.replace("-", " ").capitalize(),
    )


def test_the_matrix_changes_and_what_a_user_would_get(
    running: Running, desk: dict[str, str], tmp_path: Path
) -> None:
    key, name = desk["desk"], desk["name"]
    ran(running, "assignment", "create", key, "viewer", "--source", desk["source"], "--group", "desk-viewer")
    eventually(lambda: f"{key}: Viewer" in ran(running, "access", "matrix", "--application", key))
    assert f"{key}: Viewer" in ran(running, "access", "matrix", name)
    assert "No user matches." in ran(running, "access", "matrix", "--application", key, "--at", "2020-01-01")
    assert "group desk-viewer" in ran(
        running, "access", "changes", "2020-01-01", "2999-01-01", "--application", key
    )
    file = tmp_path / "access.json"
    assert " bytes to " in ran(running, "access", "matrix", "--application", key, "--export", str(file))
    assert json.loads(file.read_text())[0]["roles"] == {key: ["Viewer"]}
    assert f"{name},," in ran(running, "access", "matrix", "--application", key, "--export", "-")
    assert f"{key}: Viewer" in ran(
        running, "access", "matrix", "--groups", "desk-viewer", "--application", key
    )
    assert "--groups works only with words and --application." in ran(
        running, "access", "matrix", "--groups", "--at", "2020-01-01", code=2
    )
    compared = ran(running, "access", "compare", name, name)
    assert (
        "same" in compared
        and "> desk-viewer)" in compared
        and "Groups of both users: desk-viewer" in compared
    )
    assert "There is no user with the ID" in ran(running, "access", "compare", name, "nobody-at-all", code=3)
    assert "desk-viewer" in ran(running, "access", "simulate", desk["source"], "--group", "desk-viewer")
    assert "The user would have no access: no group, rule or policy assigns a role." in ran(
        running, "access", "simulate", desk["source"], "--attribute", "title=None"
    )
    assert "An inactive user has no access." in ran(
        running, "access", "simulate", desk["source"], "--user", "-", stdin='{"active": false}'
    )
    assert "is not NAME=VALUE" in ran(
        running, "access", "simulate", desk["source"], "--attribute", "title", code=2
    )
    assert "Swap `since` and `until`." in ran(
        running, "access", "changes", "2026-01-02", "2026-01-01", code=2
    )


def test_holds_are_listed(running: Running, desk: dict[str, str]) -> None:
    assert "Nothing is held." in ran(running, "hold", "list")
    label = desk["desk"].replace("-", " ").title()
    assert "This change needs a confirmation." in ran(
        running, "hold", "approve", desk["desk"], "--confirm", "x", code=1
    )
    assert "Nothing is held for '" in ran(
        running, "hold", "discard", desk["desk"], "--confirm", label, code=3
    )


def test_an_assignment_is_changed_and_what_is_not_named_stays(running: Running, desk: dict[str, str]) -> None:
    made = json.loads(
        ran(
            running,
            *("assignment", "create", desk["desk"], "viewer", "--user", desk["name"]),
            *("--until", "2099-12-31", "--note", "Season", "--json"),
        )
    )
    change = ("assignment", "change", made["id"])
    assert "1 change roles" in ran(running, *change, "--role", "curator", "--preview")
    label = made["application"]["label"]
    changed = json.loads(ran(running, *change, "--role", "curator", "--confirm", label, "--json"))
    assert (changed["role"]["key"], changed["until_day"], changed["note"]) == (
        "curator",
        "2099-12-31",
        "Season",
    )
    assert ", Curator." in ran(running, *change, "--until", "", "--note", "Permanent")
    shown = json.loads(ran(running, "assignment", "list", "--application", desk["desk"], "--json"))
    assert (shown[0]["until"], shown[0]["note"]) == (None, "Permanent")
    assert "No value given. Use --role" in ran(running, *change, code=2)


def test_operators_take_the_members_of_a_group_over(
    running: Running, desk: dict[str, str], fresh: Fresh
) -> None:
    source, key, other = desk["source"], desk["desk"], fresh("ida")
    running.provider(source).user(other)
    group = ("desk-viewer", "--source", source)
    ran(running, "assignment", "create", key, "viewer", "--source", source, "--group", "desk-viewer")
    assert "belongs to the source" in ran(
        running, "group", "add-members", "desk-viewer", other, "--source", source, code=2
    )
    authority = ("group", "set-authority", *group, "--members-from")
    assert "1 lose access" in ran(running, *authority, "sign_in", "--preview")
    assert "0 lose access" in ran(running, *authority, "dravo", "--preview")
    assert "Members of 'desk-viewer' come from Dravo now." in ran(running, *authority, "dravo")
    assert "lists 2 users now" in ran(
        running, "group", "add-members", "desk-viewer", other, "--source", source
    )
    assert "Dravo (the source differs)" in ran(running, "group", "show", *group)
    assert "come from every connection type now" in ran(running, *authority, "source")
    assert "1 user," in ran(running, "group", "show", *group)
    changed = ran(running, "source", "set-priority", source, "--members-from", "inbound_scim")
    assert "inbound SCIM" in changed
    assert "invalid choice: 'nobody'" in ran(running, *authority, "nobody", code=2)


def test_local_users_and_groups_are_kept_by_hand(
    running: Running, desk: dict[str, str], fresh: Fresh
) -> None:
    key, name, ida, group = desk["desk"], desk["name"], fresh("ida"), fresh("Planting")
    assert f"Created Ida Vosper {ida}" in ran(
        running,
        "user",
        "create",
        ida,
        "--given-name",
        "Ida",
        "--family-name",
        f"Vosper {ida}",
        "--email",
        f"{ida}@fernhollow.example",
    )
    assert "Ida Vosper" in ran(running, "user", "create", ida, code=1)
    assert "' is not an email address." in ran(running, "user", "create", "x", "--email", "nobody", code=2)
    assert f"dravo group add-members '{group}'" in ran(running, "group", "create", group)
    assert "matches 0 users" in ran(
        running, "assignment", "create", key, "viewer", "--source", "local", "--group", group
    )
    assert "2 gain" in ran(running, "group", "add-members", group, ida, name, "--preview")
    assert "lists 2 users" in ran(running, "group", "add-members", group, "-", stdin=f"{ida}\n\n{name}\n")
    assert f"Local > {group} > Viewer" in ran(running, "access", "why", ida, key)
    assert "2 users" in ran(running, "group", "show", group) and "Viewer" in ran(
        running, "group", "show", group
    )
    assert ida in ran(running, "group", "members", group)
    assert "1 lose" in ran(
        running, "group", "remove-members", group, name, "--preview"
    ) and "lists 1 user now" in ran(running, "group", "remove-members", group, name)
    assert "No member given. Add users, '-' to read them from standard input, or --group." in ran(
        running, "group", "add-members", group, code=2
    )
    assert "There is no local group 'desk-viewer'" in ran(
        running, "group", "remove-members", "desk-viewer", name, code=2
    )
    assert "1 lose" in ran(running, "user", "change", ida, "--active", "no", "--preview")
    assert "is active" in ran(running, "user", "change", ida, "--title", "Botanist", "--manager", name)
    wrong = ran(running, "user", "change", ida, "--manager", "nobody-at-all", code=2)
    assert "There is no user 'nobody-at-all'" in wrong
    assert "is active" in ran(running, "user", "change", ida, "--mobile-phone", "+351 000", "--country", "PT")
    shown = json.loads(ran(running, "user", "show", ida, "--json"))
    assert shown["manager"]["user_name"] == name
    assert {"title": "Botanist", "name.givenName": "Ida"}.items() <= {
        each["name"]: each["value"] for each in shown["attributes"]
    }.items()
    assert " and is not a local user." in ran(running, "user", "remove", name, code=2)
    edit = ("group", "change", group, "--name", f"Summer {group}", "--description", "Who plants")
    assert "Summer" in ran(running, *edit)
    assert "Who plants" in ran(running, "group", "show", f"Summer {group}")
    assert "No change given" in ran(running, "group", "change", f"Summer {group}", code=2)
    assert "1 lose" in ran(running, "user", "remove", ida, "--preview") and "has left" in ran(
        running, "user", "remove", ida
    )
    assert "0 lose" in ran(running, "group", "delete", f"Summer {group}", "--preview")
    assert "Deleted." in ran(running, "group", "delete", f"Summer {group}")


def test_a_plan_with_one_seat_is_made_filled_and_widened(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    source, key, first, second = fresh("staff"), fresh("desk"), fresh("ada"), fresh("bob")
    running.application(key, app)
    provider = running.provider(source)
    group = provider.group(fresh("Clerks"), [provider.user(first)])
    provider.user(second)
    assert "Supervisor desk" in ran(
        running, "license-plan", "create", key, "desk", "Supervisor desk", "--seats", "1"
    )
    assert "has no license plan '" in ran(
        running, "assignment", "create", key, "viewer", "--group", group, "--plan", "none", code=3
    )
    assert "1 free" in ran(
        running, "assignment", "create", key, "viewer", "--group", group, "--plan", "desk", "--preview"
    )
    ran(running, "assignment", "create", key, "viewer", "--group", group, "--plan", "desk")
    running.settled(key)
    seen = app.accounts().get(first, {}).get("entitlements")
    assert bool(seen) and seen[0]["value"] == "desk"
    ran(running, "assignment", "create", key, "viewer", "--user", second, "--plan", "desk")
    listed = eventually(
        lambda: ran(running, "license-plan", "seats", key, "--waiting"), lambda text: second in text
    )
    assert first not in listed and first in ran(running, "license-plan", "seats", key)
    assert "next in line" in ran(running, "access", "why", second, key)
    assert "full" in ran(running, "license-plan", "list", key) and second not in app.accounts()
    assert "no limit" in ran(running, "license-plan", "change", key, "desk", "--seats", "0")
    running.settled(key)
    assert second in app.accounts()
    assert "No waiting users." in ran(running, "license-plan", "seats", key, "--waiting")
    assert "was" in ran(running, "license-plan", "delete", key, "desk", code=1)
    assert "between 0 and" in ran(running, "license-plan", "create", key, "x", "X", "--seats=-1", code=2)


def test_a_review_is_begun_decided_and_written_to_a_file(
    running: Running, desk: dict[str, str], tmp_path: Path
) -> None:
    key, name = desk["desk"], desk["name"]
    ran(running, "assignment", "create", key, "viewer", "--source", desk["source"], "--group", "desk-viewer")
    ran(running, "assignment", "create", key, "curator", "--user", name)
    eventually(
        lambda: ran(running, "access", "matrix", "--application", key),
        lambda text: "Curator" in text and "Viewer" in text,
    )
    assert "The due date is missing or in the past." in ran(
        running, "review", "create", "Spring", "--until", "2020-01-01", "--application", key, code=2
    )
    review = json.loads(
        ran(running, "review", "create", "Spring", "--until", "2999-12-31", "--application", key, "--json")
    )
    assert "Spring" in ran(running, "review", "list") and "2999-12-31" in ran(
        running, "review", "show", review["id"]
    )
    rows = {
        row["role"]["key"]: row["id"]
        for row in json.loads(ran(running, "review", "rows", review["id"], "--json"))
    }
    assert "1 change role" in ran(
        running, "review", "revoke", review["id"], key, rows["curator"], "--preview"
    )
    ran(running, "review", "revoke", review["id"], key, rows["curator"], "--note", "moved on")
    assert "The assignment was deleted." in ran(
        running, "review", "rows", review["id"], name, "--decision", "removed"
    )
    assert "already" in ran(running, "review", "confirm", review["id"], key, rows["curator"], code=2)
    assert "No row given. Add IDs of rows, or --all." in ran(
        running, "review", "confirm", review["id"], key, code=2
    )
    ran(running, "review", "confirm", review["id"], key, "--all")
    file = tmp_path / "review.json"
    assert " bytes to " in ran(running, "review", "export", review["id"], str(file))
    assert {row["decision"] for row in json.loads(file.read_text())["rows"]} == {"confirmed", "removed"}
    assert "ended at" in ran(running, "review", "close", review["id"])
    assert "Curator" not in ran(running, "access", "matrix", name)


def test_the_overview_and_the_flow_are_printed(running: Running, desk: dict[str, str]) -> None:
    ran(
        running,
        "assignment",
        "create",
        desk["desk"],
        "viewer",
        "--source",
        desk["source"],
        "--group",
        "desk-viewer",
    )
    assert " active users; " in ran(running, "overview")
    eventually(lambda: ran(running, "flow"), lambda text: "As of" in text and "Viewer" in text)
    assert json.loads(ran(running, "flow", "--json"))["bands"]


def test_users_are_marked_listed_and_unmarked(running: Running, desk: dict[str, str]) -> None:
    name = desk["name"]
    mark = ("user", "mark", name, "--status", "left", "--note", "Retired")
    assert ran(running, "assignment", "create", desk["desk"], "viewer", "--user", name)
    assert "1 lose" in ran(running, *mark, "--preview")
    assert "active" in ran(running, "user", "show", name)
    assert ran(running, *mark, "--confirm", f"Ada {name}") == "Marked as left: 1.\n"
    shown = ran(running, "user", "show", name)
    assert "Marked as left from" in shown and ": Retired" in shown
    assert "A source still reports the user as active." in shown
    assert f"Ada {name}" in ran(running, "user", "marked", name)
    assert "1 gain" in ran(running, "user", "unmark", name, "--preview")
    assert ran(running, "user", "unmark", name) == "Removed marks: 1.\n"
    assert "has no mark" in ran(running, "user", "unmark", name, code=2)
    assert "No marked users." in ran(running, "user", "marked", name)
