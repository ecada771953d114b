"""The console's rooms for users and groups local."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose, find_and_choose
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_a_user_is_entered_put_into_a_local_group_changed_and_leaves(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    desk, name, group = fresh("desk"), fresh("ida"), fresh("Planting")
    running.application(desk)
    running.provider(fresh("source")).user(
        f"{name}-ada", displayName=f"Ada {name}", emails=[{"value": f"{name}@fernhollow.example"}]
    )
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("button", name="Create local user").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Given name", exact=True).fill("Ida")
    dialog.get_by_label("Family name", exact=True).fill(name.title())
    dialog.get_by_role("button", name="Create", exact=True).click()
    expect(dialog).to_contain_text("The user name is missing.")
    dialog.get_by_label("User name", exact=True).fill(name)
    dialog.get_by_label("Email", exact=True).fill(f"{name}@fernhollow.example")
    dialog.get_by_role("button", name="Create", exact=True).click()
    expect(dialog).to_contain_text(f"Ada {name} has the same user name or email address.")
    check_accessible(page)
    dialog.get_by_label("Email", exact=True).fill("")
    dialog.get_by_role("button", name="Create", exact=True).click()
    expect(page.get_by_role("heading", name=f"Ida {name.title()}")).to_be_visible()
    user = page.url

    page.goto("/groups")
    page.get_by_role("button", name="Create group").click()
    page.get_by_role("dialog").get_by_label("Name").fill(group)
    page.get_by_role("button", name="Create", exact=True).click()
    expect(page.get_by_role("heading", name=group)).to_be_visible()
    page.get_by_role("button", name="Edit group").click()
    page.get_by_role("dialog").get_by_label("Description").fill("Who plants in spring")
    page.get_by_role("dialog").get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Who plants in spring")).to_be_visible()
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", source="local", group=group)
    page.get_by_role("button", name="Add members").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Users: user names").fill(f"{name}\nnobody-{name}")
    expect(dialog).to_contain_text(f"'nobody-{name}'")
    dialog.get_by_label("Users: user names").fill(f"{name}\n{name}-ada")
    expect(dialog).to_contain_text("2 gain")
    expect(dialog.get_by_role("row").filter(has_text=f"Ada {name}")).to_contain_text(
        desk.replace("-", " ").title()
    )
    with page.expect_download() as kept:
        dialog.get_by_role("button", name="Download CSV").click()
    lines = kept.value.path().read_text().splitlines()
    assert (
        lines[0] == "user,user name,application,change,before,after,highest role"
        and len(lines) == 3
        and lines[1].endswith(",gained,,Viewer,no")
    )
    check_accessible(page)
    dialog.get_by_role("button", name="Add", exact=True).click()
    row = page.get_by_role("row").filter(has_text=f"Ida {name.title()}")
    expect(row).to_be_visible()
    row.get_by_role("button", name="Remove Ida").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Cancel").click()

    page.goto(user)
    page.get_by_role("button", name="Edit", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("User name", exact=True)).to_have_value(name)
    # The dialog grows when its preview arrives, and would move away from under the click.
    expect(dialog.get_by_role("button", name="Save", exact=True)).to_be_enabled()
    dialog.get_by_label("Active").uncheck()
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_label("Active").check()
    dialog.get_by_label("Job title").fill("Botanist")
    dialog.get_by_text("More attributes").click()
    dialog.get_by_label("Mobile phone").fill("+351 000 111")
    find_and_choose(dialog.get_by_role("combobox", name="Manager"), f"Ada {name}")
    expect(dialog).to_contain_text("0 lose")
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("row", name="title Botanist")).to_be_visible()
    expect(page.get_by_text("+351 000 111").first).to_be_visible()
    expect(page.get_by_role("link", name=f"Ada {name}").first).to_be_visible()
    page.get_by_role("button", name="Delete", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_text("left", exact=True).first).to_be_visible()


def test_operators_take_the_members_of_a_group_over(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, name = fresh("staff"), fresh("ada")
    provider = running.provider(source)
    group = provider.group(fresh("Guides"), [provider.user(name, displayName=f"Ada {name}")])
    page = open_page(signed_in=True)
    page.goto(f"/groups/{group}")
    expect(page.get_by_role("button", name="Add members")).to_have_count(0)
    page.get_by_role("button", name="Edit who manages the members").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").filter(has_text="Members managed by"), "Dravo")
    expect(dialog).to_contain_text("0 lose access")
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Managed by: Dravo (the source differs)")).to_be_visible()
    page.get_by_role("button", name=f"Remove Ada {name}").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_role("heading", name="Members (0)")).to_be_visible()
    with running.dravo as dravo:
        assert dravo.groups.get(group)["members"] == 0


def test_a_user_is_created_for_an_unlinked_account(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    desk, name = fresh("desk"), fresh("printer")
    running.application(desk, app)
    app.create(userName=name, displayName=f"Printer {name}", active=True)
    with running.dravo as dravo:
        run = dravo.applications.reconcile(desk)
        eventually(lambda: dravo.applications.run(run["id"])["ended_at"])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/drift")
    page.get_by_role("button", name="Create user").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("button", name="Create user").click()
    expect(dialog).to_contain_text("The account has no known role.")
    dialog.get_by_role("combobox", name="Role").press("Enter")
    page.get_by_role("option", name="Viewer").click()
    check_accessible(page)
    dialog.get_by_role("button", name="Create user").click()
    expect(page.get_by_text("No drift")).to_be_visible(timeout=15_000)
    with running.dravo as dravo:
        assert dravo.users.why(name, desk)["has_access"]


def test_several_users_are_marked_and_one_mark_is_removed(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name = fresh("ada")
    provider = running.provider(fresh("source"))
    for each in (name, f"{name}-two"):
        provider.user(each, displayName=f"Ada {each}")
    page = open_page(signed_in=True)
    page.goto(f"/users?q={name}")
    for each in (name, f"{name}-two"):
        page.get_by_label(f"Select Ada {each}", exact=True).check()
    page.get_by_role("button", name="Mark 2").click()
    dialog = page.get_by_role("dialog")
    # The dialog grows when the preview arrives, and a click is lost if that is just then.
    expect(dialog.locator(".preview")).to_be_visible()
    dialog.get_by_label("Left").check()
    dialog.get_by_label("Note").fill("Season is over")
    check_accessible(page)
    dialog.get_by_role("button", name="Mark", exact=True).click()
    expect(page.get_by_role("row").filter(has_text="left")).to_have_count(2)

    page.goto(f"/marked-users?q={name}")
    page.get_by_label(f"Remove mark of Ada {name}", exact=True).click()
    page.get_by_role("dialog").get_by_role("button", name="Remove mark").click()
    expect(page.get_by_role("row").filter(has_text="Season is over")).to_have_count(1)
    page.get_by_role("link", name=f"Ada {name}-two").click()
    mark = page.get_by_role("region", name="Mark")
    expect(mark).to_contain_text("marked the user as left")
    expect(mark).to_contain_text("A source still reports the user as active.")


def test_several_users_get_a_role_together(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    desk, source, words = fresh("desk"), fresh("staff"), fresh("crew")
    running.application(desk)
    for name in ("ida", "ove"):
        running.provider(source).user(f"{words}.{name}", displayName=f"{words} {name}")
    page = open_page(signed_in=True)
    page.goto(f"/users?q={words}")
    for name in ("ida", "ove"):
        page.get_by_role("checkbox", name=f"Select {words} {name}").check()
    page.get_by_role("button", name="Assign role to 2").click()
    dialog = page.get_by_role("dialog")
    label = desk.replace("-", " ").title()
    find_and_choose(dialog.get_by_role("combobox", name="Application"), label)
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Viewer")
    expect(dialog).to_contain_text("2 gain")
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(dialog).to_have_count(0)
    with running.dravo as dravo:
        assert dravo.assignments.list(application=desk).total() == 2
