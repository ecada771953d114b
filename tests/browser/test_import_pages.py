"""Sources that read, in the console: from files to users, a look first, a run, a conflict, and leaving that
is held.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose
from tests.harness import Running, eventually

Fresh = Callable[[str], str]


def test_files_become_users_a_look_first(
    open_page: Callable[..., Page], running: Running, fresh: Fresh, tmp_path: Path
) -> None:
    label = fresh("Register")
    key = label.lower()
    users = tmp_path / "users.csv"
    users.write_text(
        f"number;login;name\n1;{key}.una;Una {label}\n2;{key}.grace;Grace {label}\n;lost;Nobody\n"
    )
    running.provider(fresh("source")).user(f"{key}.grace", displayName="Grace of the staff")
    page = open_page(signed_in=True)
    page.goto("/sources")
    page.get_by_role("button", name="Add source").click()
    page.get_by_label("Import: Dravo reads").check()
    page.get_by_label("Label").fill(label)
    page.get_by_role("dialog").get_by_role("button", name="Add", exact=True).click()
    form = page.get_by_role("form", name="Connection")
    choose(form.locator(".v-select").first, "CSV files")
    page.get_by_label("User ID column", exact=True).fill("number")
    page.get_by_role("button", name="Save and check").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text("users.csv is missing")
    page.locator("input[type=file]").set_input_files(users)
    expect(page.get_by_role("listitem").filter(has_text="bytes")).to_contain_text("users.csv")
    page.get_by_role("button", name="Save and check").click()
    check = page.get_by_role("status", name="Connection check")
    expect(check).to_contain_text("2 users read")
    expect(check).to_contain_text("users.csv, line 4")
    check_accessible(page)

    page.get_by_role("tab", name="Source policy").click()
    rows = page.get_by_role("region", name="Attribute mapping")
    rows.get_by_label("Expression").first.fill("login then")
    expect(rows.get_by_role("status").first).to_contain_text("is invalid")
    rows.get_by_label("Expression").first.fill("log")
    rows.get_by_role("group", name="Attributes of the source").get_by_role("button", name="login").click()
    expect(rows.get_by_label("Expression").first).to_have_value("login")
    rows.get_by_label("Expression").nth(1).fill("name")
    expect(rows.get_by_role("status").first).to_contain_text("login")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved. The policy applies from the next run.")).to_be_visible()

    page.get_by_role("tab", name="Import runs").click()
    page.get_by_role("button", name="Preview run").click()
    expect(page.get_by_role("heading", name="Preview of")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text=f"Una {label}")).to_contain_text("new")
    check_accessible(page)
    with running.dravo as dravo:
        assert dravo.sources.get(key)["users"] == 0

    page.get_by_role("tab", name="Source policy").click()
    page.get_by_label("Enabled", exact=True).check()
    page.get_by_role("button", name="Change status").click()
    expect(page.get_by_text("Dravo applies what each import run finds.")).to_be_visible()
    page.get_by_role("tab", name="Import runs").click()
    page.get_by_role("button", name="Run now").click()
    page.get_by_role("link", name=f"Una {label}").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(f"Una {label}")

    page.goto(f"/sources/{key}/conflicts")
    row = page.get_by_role("row").filter(has_text=f"Grace {label}")
    expect(row).to_contain_text("Grace of the staff")
    page.get_by_role("button", name=f"Create user: Grace {label}").click()
    page.get_by_role("dialog").get_by_role("button", name="Create user").click()
    expect(page.get_by_text("No conflicts")).to_be_visible()
    with running.dravo as dravo:
        assert dravo.sources.get(key)["users"] == 2
        una = dravo.users.get(f"{key}.una")["id"]

    page.goto(f"/sources/{key}/policy")
    page.get_by_role("button", name="Edit priority").click()
    page.get_by_role("dialog").get_by_label("Priority").fill("7")
    expect(page.get_by_role("dialog")).to_contain_text("0 lose")
    page.get_by_role("dialog").get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("This source has priority 7")).to_be_visible()
    page.goto(f"/users/{una}")
    page.get_by_role("button", name="Refresh").click()
    expect(page.get_by_text("Refreshed: nothing has changed.")).to_be_visible()
    page.get_by_role("button", name="Link to another user").click()
    page.get_by_role("dialog").get_by_label("Create a new user").check()
    expect(page.get_by_role("dialog")).to_contain_text("This is the only record of the user.")
    check_accessible(page)


def test_implausible_leavers_are_held_and_approved_by_name(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    # The first of all sources by its name: the overview lists a hundred of them.
    key = f"a-{fresh('crew')}"
    lines = [f"{number};{key}.{number};User {number}" for number in range(30)]
    answers = {
        "attributes": [
            {"attribute": "userName", "expression": "login"},
            {"attribute": "displayName", "expression": "name"},
        ]
    }
    with running.dravo as dravo:
        dravo.change_setting("removal_limit_percent", 10)
        dravo.sources.add(key, f"A crew {key}")
        dravo.sources.change_import(key, kind="csv", policy=answers, schedule="", enabled=True)
        dravo.sources.upload(key, "users.csv", "\n".join(["id;login;name", *lines]).encode())
        wait_for_run(running, key)
        dravo.sources.upload(key, "users.csv", "\n".join(["id;login;name", *lines[:12]]).encode())
        wait_for_run(running, key, whole=True)
    try:
        page = open_page(signed_in=True)
        page.goto("/")
        expect(page.get_by_role("listitem").filter(has_text=f"A crew {key}")).to_contain_text(
            "run held: too many users are missing"
        )
        page.locator("ul").get_by_role("link", name=f"A crew {key}").click()
        expect(page.get_by_text("18 of 30 users are missing")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="missing")).to_have_count(18)
        page.get_by_role("button", name="Approve removals").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_role("button", name="Run and approve")).to_be_disabled()
        dialog.get_by_label(f"Type A crew {key} to confirm").fill(f"A crew {key}")
        check_accessible(page)
        dialog.get_by_role("button", name="Run and approve").click()
        expect(page.locator("dl").get_by_text("left")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="left")).to_have_count(18)
    finally:
        with running.dravo as dravo:
            dravo.change_setting("removal_limit_percent", 100)


def wait_for_run(running: Running, key: str, **how: bool) -> None:
    """Have a source be read, to its end."""
    with running.dravo as dravo:
        run = dravo.sources.start_run(key, **how)["id"]
        eventually(lambda: dravo.sources.run(key, run)["ended_at"])
