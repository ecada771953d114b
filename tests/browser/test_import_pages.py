"""Sources that are read, in the console: from files to people, a look first, a run, a conflict, and leaving that is held."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose
from tests.harness import Running, eventually

Fresh = Callable[[str], str]


def test_files_become_people_a_look_first(open_page: Callable[..., Page], running: Running, fresh: Fresh, tmp_path: Path) -> None:
    label = fresh("Register")
    key = label.lower()
    people = tmp_path / "people.csv"
    people.write_text(f"number;login;name\n1;{key}.una;Una {label}\n2;{key}.grace;Grace {label}\n;lost;Nobody\n")
    running.provider(fresh("source")).person(f"{key}.grace", displayName="Grace of the staff")
    page = open_page(signed_in=True)
    page.goto("/sources")
    page.get_by_role("button", name="Add a source").click()
    page.get_by_label("Import: Dravo reads").check()
    page.get_by_label("Label").fill(label)
    page.get_by_role("dialog").get_by_role("button", name="Add the source").click()
    form = page.get_by_role("form", name="Connection")
    choose(form.locator(".v-select").first, "CSV files")
    page.get_by_label("Column with the id", exact=True).fill("number")
    page.get_by_role("button", name="Keep and check").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text("people.csv is not there")
    page.locator("input[type=file]").set_input_files(people)
    expect(page.get_by_role("listitem").filter(has_text="bytes")).to_contain_text("people.csv")
    page.get_by_role("button", name="Keep and check").click()
    check = page.get_by_role("status", name="Connection check")
    expect(check).to_contain_text("2 people were read")
    expect(check).to_contain_text("people.csv, line 4")
    check_accessible(page)

    page.get_by_role("tab", name="Five questions").click()
    rows = page.get_by_role("region", name="What do they bring?")
    rows.get_by_label("Expression").first.fill("login then")
    expect(rows.get_by_role("status").first).to_contain_text("cannot be read")
    rows.get_by_label("Expression").first.fill("login")
    rows.get_by_label("Expression").nth(1).fill("name")
    expect(rows.get_by_role("status").first).to_contain_text("login")
    page.get_by_role("button", name="Keep these answers").click()
    expect(page.get_by_text("Kept; they count from the next run on.")).to_be_visible()

    page.get_by_role("tab", name="Runs").click()
    page.get_by_role("button", name="Look what a run would do").click()
    expect(page.get_by_role("heading", name="A look of")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text=f"Una {label}")).to_contain_text("new")
    check_accessible(page)
    with running.dravo as dravo:
        assert dravo.sources.get(key)["people"] == 0

    page.get_by_role("tab", name="Five questions").click()
    page.get_by_role("button", name="Put in force").click()
    expect(page.get_by_text("What is read is taken in, every hour.")).to_be_visible()
    page.get_by_role("tab", name="Runs").click()
    page.get_by_role("button", name="Read now").click()
    page.get_by_role("link", name=f"Una {label}").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(f"Una {label}")

    page.goto(f"/sources/{key}/conflicts")
    row = page.get_by_role("row").filter(has_text=f"Grace {label}")
    expect(row).to_contain_text("Grace of the staff")
    page.get_by_role("button", name=f"Somebody new: Grace {label}").click()
    page.get_by_role("dialog").get_by_role("button", name="Somebody new").click()
    expect(page.get_by_text("Nothing waits for a decision")).to_be_visible()
    with running.dravo as dravo:
        assert dravo.sources.get(key)["people"] == 2
        una = dravo.people.get(f"{key}.una")["id"]

    page.goto(f"/sources/{key}/answers")
    page.get_by_role("button", name="Change whose word counts").click()
    page.get_by_role("dialog").get_by_label("Place").fill("7")
    expect(page.get_by_role("dialog")).to_contain_text("0 lose")
    page.get_by_role("button", name="Count like this").click()
    expect(page.get_by_text("this one has place 7")).to_be_visible()
    page.goto(f"/users/{una}")
    page.get_by_role("button", name="Read anew").click()
    expect(page.get_by_text("Read: nothing has changed.")).to_be_visible()
    page.get_by_role("button", name="It is somebody else").click()
    page.get_by_role("dialog").get_by_label("Somebody new").check()
    expect(page.get_by_role("dialog")).to_contain_text("This is the only record of this person.")
    check_accessible(page)


def test_leaving_that_is_not_plausible_is_held_and_let_through_by_its_name(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    # The first of all sources by its name: the overview lists a hundred of them.
    key = f"a-{fresh('crew')}"
    lines = [f"{number};{key}.{number};Person {number}" for number in range(30)]
    answers = {"attributes": [{"attribute": "userName", "expression": "login"}, {"attribute": "displayName", "expression": "name"}]}
    with running.dravo as dravo:
        dravo.change_setting("guard_share", 10)
        dravo.sources.add(key, f"A crew {key}")
        dravo.sources.change_reading(key, kind="csv", policy=answers, schedule="", enabled=True)
        dravo.sources.upload(key, "people.csv", "\n".join(["id;login;name", *lines]).encode())
        wait_for_run(running, key)
        dravo.sources.upload(key, "people.csv", "\n".join(["id;login;name", *lines[:12]]).encode())
        wait_for_run(running, key, whole=True)
    try:
        page = open_page(signed_in=True)
        page.goto("/")
        expect(page.get_by_role("listitem").filter(has_text=f"A crew {key}")).to_contain_text("nobody was taken away")
        page.locator("ul").get_by_role("link", name=f"A crew {key}").click()
        expect(page.get_by_text("18 of 30 people did not come.")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="missing")).to_have_count(18)
        page.get_by_role("button", name="Let them leave").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_role("button", name="Read again and let them leave")).to_be_disabled()
        dialog.get_by_label(f"Type A crew {key} to confirm").fill(f"A crew {key}")
        check_accessible(page)
        dialog.get_by_role("button", name="Read again and let them leave").click()
        expect(page.locator("dl").get_by_text("left")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="left")).to_have_count(18)
    finally:
        with running.dravo as dravo:
            dravo.change_setting("guard_share", 100)


def wait_for_run(running: Running, key: str, **how: bool) -> None:
    """Have a source be read, to its end."""
    with running.dravo as dravo:
        run = dravo.sources.begin_run(key, **how)["id"]
        eventually(lambda: dravo.sources.run(key, run)["ended_at"])
