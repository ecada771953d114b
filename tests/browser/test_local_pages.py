"""The console's rooms for people and groups of no source."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_somebody_is_entered_put_into_a_local_group_changed_and_leaves(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    desk, name, group = fresh("desk"), fresh("ida"), fresh("Planting")
    running.application(desk)
    running.provider(fresh("source")).person(f"{name}-ada", displayName=f"Ada {name}", emails=[{"value": f"{name}@fernhollow.example"}])
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("button", name="Add a person").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Given name").fill("Ida")
    dialog.get_by_label("Family name").fill(name.title())
    dialog.get_by_role("button", name="Add them").click()
    expect(dialog).to_contain_text("A person needs a user name.")
    dialog.get_by_label("User name").fill(name)
    dialog.get_by_label("E-mail").fill(f"{name}@fernhollow.example")
    dialog.get_by_role("button", name="Add them").click()
    expect(dialog).to_contain_text(f"Ada {name} has that user name or e-mail address.")
    check_accessible(page)
    dialog.get_by_label("E-mail").fill("")
    dialog.get_by_role("button", name="Add them").click()
    expect(page.get_by_role("heading", name=f"Ida {name.title()}")).to_be_visible()
    person = page.url

    page.goto("/groups")
    page.get_by_role("button", name="Add a group").click()
    page.get_by_role("dialog").get_by_label("Name").fill(group)
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("heading", name=group)).to_be_visible()
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", source="local", group=group)
    page.get_by_role("button", name="Put somebody in").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("People: user names").fill(f"{name}\nnobody-{name}")
    expect(dialog).to_contain_text(f"'nobody-{name}'")
    dialog.get_by_label("People: user names").fill(f"{name}\n{name}-ada")
    expect(dialog).to_contain_text("2 gain")
    expect(dialog.get_by_role("row").filter(has_text=f"Ada {name}")).to_contain_text(desk.replace("-", " ").title())
    with page.expect_download() as kept:
        dialog.get_by_role("button", name="Save as CSV").click()
    lines = kept.value.path().read_text().splitlines()
    assert lines[0] == "person,user name,application,what,before,after" and len(lines) == 3 and lines[1].endswith(",gained,,Viewer")
    check_accessible(page)
    dialog.get_by_role("button", name="Put them in").click()
    row = page.get_by_role("row").filter(has_text=f"Ida {name.title()}")
    expect(row).to_be_visible()
    row.get_by_role("button", name="Take out Ida").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Not now").click()

    page.goto(person)
    page.get_by_role("button", name="Change", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("User name")).to_have_value(name)
    dialog.get_by_label("Active").uncheck()
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_label("Active").check()
    dialog.get_by_label("Title").fill("Botanist")
    expect(dialog).to_contain_text("0 lose")
    dialog.get_by_role("button", name="Change it").click()
    expect(page.get_by_role("row").filter(has_text="title")).to_contain_text("Botanist")
    page.get_by_role("button", name="They have left").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="They have left").click()
    expect(page.get_by_text("gone").first).to_be_visible()


def test_a_user_is_made_of_an_account_that_nobody_here_has(open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh) -> None:
    desk, name = fresh("desk"), fresh("printer")
    running.application(desk, app)
    app.create(userName=name, displayName=f"Printer {name}", active=True)
    with running.dravo as dravo:
        run = dravo.applications.reconcile(desk)
        eventually(lambda: dravo.applications.run(run["id"])["ended_at"])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/drift")
    page.get_by_role("button", name="Make a user").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("button", name="Make the user").click()
    expect(dialog).to_contain_text("The account has no role that is known here.")
    dialog.get_by_role("combobox", name="Role").press("Enter")
    page.get_by_role("option", name="Viewer").click()
    check_accessible(page)
    dialog.get_by_role("button", name="Make the user").click()
    expect(page.get_by_text("No difference is known")).to_be_visible(timeout=15_000)
    with running.dravo as dravo:
        assert dravo.people.why(name, desk)["has_access"]
