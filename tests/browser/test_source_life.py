"""The life of a source in the console: a directory is connected by its guide, and a source is retired within
the removal limit.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from dravo.demo import directory
from dravo.demo.directory import user_dn
from tests.browser.conftest import check_accessible, choose
from tests.directories import estates
from tests.harness import Running, StandIn

Fresh = Callable[[str], str]


def test_a_directory_is_connected_from_nothing_by_its_guide(
    open_page: Callable[..., Page], running: Running, fresh: Fresh, tmp_path: Path
) -> None:
    label = fresh("Depot")
    key = label.lower()
    names = [(f"{key}.una", "Una", label), (f"{key}.zofia", "Zofia", label)]
    entries = "".join(directory.user(uid, given, family) for uid, given, family in names)
    entries += directory.group(f"Surgeons {label}", [user_dn(f"{key}.una")])
    page = open_page(signed_in=True)
    with estates(tmp_path / "directory", entries) as depot:
        # 1. Add the source, from a template.
        page.goto("/sources")
        page.get_by_role("button", name="Add source").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Import: Dravo reads").check()
        choose(dialog.locator(".v-select"), "LDAP: inetOrgPerson and groupOfNames")
        expect(dialog).to_contain_text("Groups list the DNs of their members")
        dialog.get_by_label("Label").fill(label)
        check_accessible(page)
        dialog.get_by_role("button", name="Add", exact=True).click()
        # The guide of the template opens beside the page, with the guides that it links to.
        page.get_by_role("button", name="Guide").click()
        guide = page.get_by_role("dialog", name="Guide")
        expect(guide.get_by_role("heading", name="Connect a directory", level=1)).to_be_visible()
        check_accessible(page)
        guide.get_by_role("link", name="Expressions").first.click()
        expect(guide.get_by_role("heading", level=1)).to_have_text("Expressions")
        guide.get_by_role("button", name="Back").click()
        expect(guide.get_by_role("heading", name="Connect a directory", level=1)).to_be_visible()
        guide.get_by_role("button", name="Close").click()
        # 2. Enter the connection, and check it first.
        filter_field = page.get_by_label("Group filter")
        expect(filter_field).to_have_value("(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))")
        for name, title in (
            ("address", "Address"),
            ("ca", "CA certificate"),
            ("bind_dn", "Bind DN"),
            ("users_base", "User base"),
            ("groups_base", "Group base"),
        ):
            page.get_by_label(title, exact=True).fill(depot.settings[name])
        page.get_by_label("Password").fill("wrong")
        page.get_by_role("button", name="Check without saving").click()
        check = page.get_by_role("status", name="Connection check")
        expect(check).to_contain_text("failed")
        page.get_by_label("Password").fill(directory.READER_PASSWORD)
        page.get_by_role("button", name="Save and check").click()
        expect(check).to_contain_text("2 users read")
        # 3. Set the source policy: which groups match now is shown once they are known.
        # 4. Preview a run.
        page.get_by_role("tab", name="Import runs").click()
        page.get_by_role("button", name="Preview run").click()
        expect(page.get_by_role("row").filter(has_text=f"Una {label}")).to_contain_text("new")
        # 5. Enable the import and run it.
        page.get_by_role("tab", name="Source policy").click()
        page.get_by_label("Enabled", exact=True).check()
        page.get_by_role("button", name="Change status").click()
        expect(page.get_by_text("Dravo applies what each import run finds.")).to_be_visible()
        page.get_by_role("tab", name="Import runs").click()
        page.get_by_role("button", name="Run now").click()
        expect(page.get_by_role("link", name=f"Una {label}")).to_be_visible()
        # 3, once more: the groups that a pattern matches.
        page.get_by_role("tab", name="Source policy").click()
        choose(page.locator(".v-select").filter(has_text="Accepted groups"), "Groups that match a pattern")
        page.get_by_label("Pattern (RE2)").fill("^Surgeons")
        matches = page.get_by_role("status", name="Accepted groups: matches")
        expect(matches).to_contain_text(f"1 of 1 groups match now: Surgeons {label}.")
    with running.dravo as dravo:
        assert dravo.sources.get(key)["users"] == 2


def test_a_source_is_retired_within_the_removal_limit(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    source, desk = fresh("crew"), fresh("desk")
    running.application(desk, app)
    provider = running.provider(source)
    users = [provider.user(f"{source}-{number}", displayName=f"User {number}") for number in range(6)]
    provider.group(f"{source}-all", users)
    with running.dravo as dravo:
        label = dravo.sources.get(source)["label"]
        dravo.assignments.add(desk, "viewer", source=source, group=f"{source}-all")
        running.settled(desk)
        before = {each["name"]: each["value"] for each in dravo.settings()}
        dravo.change_setting("removal_limit_percent", 10)
        dravo.change_setting("removal_limit_minimum", 2)

    def active() -> int:
        running.settled(desk)
        return sum(each["active"] for each in app.accounts().values())

    try:
        page = open_page(signed_in=True)
        page.goto(f"/sources/{source}")
        page.get_by_role("button", name="Retire", exact=True).click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("6 lose access")
        expect(dialog).to_contain_text("More than 2 need a confirmation.")
        dialog.get_by_role("textbox").fill("something else")
        dialog.get_by_role("button", name="Retire", exact=True).click()
        expect(dialog.get_by_role("alert")).to_contain_text("to confirm")
        assert active() == 6
        dialog.get_by_role("textbox").fill(label)
        dialog.get_by_role("button", name="Retire", exact=True).click()
        retired = page.get_by_role("region", name="Retired source")
        expect(retired).to_be_visible()
        assert active() == 0
        retired.get_by_role("button", name="Restore").click()
        expect(retired).to_have_count(0)
        assert active() == 6
    finally:
        with running.dravo as dravo:
            for name in ("removal_limit_percent", "removal_limit_minimum"):
                dravo.change_setting(name, before[name])
