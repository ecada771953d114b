"""The administrator's whole walk through the console, in headless Chromium."""

from __future__ import annotations

from collections.abc import Callable

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose, find_and_choose, sign_in
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_from_signing_in_to_seeing_a_user_leave(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    label, group_name, user_name = fresh("Plant Records"), fresh("Herbarium"), fresh("zofia.wisniarska")
    provider = running.provider(fresh("source"))
    user = provider.user(
        user_name,
        displayName=f"Zofia {user_name[-4:]}",
        emails=[{"value": f"{user_name}@fernhollow.example", "type": "work"}],
    )
    group = provider.group(group_name, [user])
    page = open_page()

    # Sign in; a wrong password first.
    page.goto("/applications")
    page.get_by_label("Name", exact=True).fill("edmund.sallow")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("is wrong")
    # While the answer is waited for, the button says so, also to those who hear the page.
    page.route("**/api/v1/session", lambda route: None)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("progressbar", name="Working").wait_for()
    check_accessible(page)
    page.unroute("**/api/v1/session")
    sign_in(page)

    # Add an application with two roles.
    page.get_by_role("navigation", name="Main navigation").get_by_role("link", name="Applications").click()
    page.get_by_role("heading", name="Applications", exact=True).wait_for()
    page.get_by_role("button", name="Add application").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Label").fill(label)
    dialog.get_by_role("button", name="Add", exact=True).click()
    page.get_by_role("heading", name=label).wait_for()
    for key, name in (("viewer", "Viewer"), ("curator", "Curator")):
        page.get_by_label("Role key").fill(key)
        page.get_by_label("Role name").fill(name)
        page.get_by_role("button", name="Create role").click()
        page.get_by_role("cell", name=name, exact=True).wait_for()

    # Connect it: first the wrong address, which the check explains; then the right one.
    page.get_by_label("SCIM base URL").fill(f"http://127.0.0.1:{app.port}/")
    page.get_by_label("Token", exact=True).fill(app.token)
    page.get_by_role("button", name="Save and check").click()
    steps = page.get_by_role("status", name="Connection check")
    expect(steps).to_contain_text("web page")
    expect(steps).to_contain_text(app.base_url)
    page.get_by_label("SCIM base URL").fill(f" {app.base_url}/ ")
    page.get_by_role("button", name="Save and check").click()
    expect(steps).to_contain_text("The application has 0 accounts.")
    page.get_by_label("Enabled", exact=True).check()
    expect(page.get_by_text("No account has to be created, changed or removed.")).to_be_visible()
    page.get_by_role("button", name="Change status").click()
    page.get_by_text("Dravo provisions all users with access.").wait_for()

    # Map a group; the preview says who gains, then the account arrives.
    page.get_by_role("tab", name="Role mapping").click()
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    find_and_choose(dialog.get_by_role("combobox", name="Group"), group_name)
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Curator")
    expect(dialog.get_by_role("status")).to_contain_text("1 gain")
    assert app.accounts() == {}
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(page.get_by_role("cell", name="1 user")).to_be_visible()
    there = eventually(lambda: app.accounts().get(user_name))
    assert there is not None
    assert [role["value"] for role in there["roles"]] == ["curator"]

    # The account, its task, and why.
    page.get_by_role("tab", name="Accounts").click()
    expect(page.get_by_role("cell", name=there["id"])).to_be_visible()
    expect(page.get_by_role("cell", name="in sync")).to_be_visible()
    page.get_by_role("tab", name="Tasks").click()
    page.get_by_role("cell", name="active, Curator").wait_for()
    page.get_by_role("link", name=f"Zofia {user_name[-4:]}").click()
    expect(page.get_by_text("POST /Users")).to_be_visible()
    check_accessible(page)
    page.get_by_role("link", name="user", exact=True).click()
    access = page.get_by_role("region", name="Access")
    for piece in (group_name, "by group, by edmund.sallow", "Curator", "in sync"):
        expect(access).to_contain_text(piece)

    # Take the group away; the preview says who loses, and they leave.
    access.get_by_role("link", name="by group").click()
    page.get_by_role("button", name=f"Unassign: {group_name}, Curator").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("status")).to_contain_text("1 lose")
    dialog.get_by_role("button", name="Unassign").click()
    page.get_by_text("No role mapping yet").wait_for()
    left = eventually(lambda: app.accounts()[user_name], lambda seen: not seen["active"])
    assert not left.get("roles")
    page.goto(f"/groups/{group}")
    page.get_by_text("No assigned roles").wait_for()


def test_a_source_is_added_given_a_token_and_ticked_by_traffic(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    label = fresh("Volunteers")
    page = open_page(signed_in=True)
    page.goto("/")
    page.get_by_role("navigation", name="Main navigation").get_by_role("link", name="Sources").click()
    page.get_by_role("button", name="Add source").click()
    page.get_by_role("dialog").get_by_label("Label").fill(label)
    page.get_by_role("button", name="Add", exact=True).click()
    page.get_by_role("heading", name=label).wait_for()
    expect(page.get_by_text("none yet: create one below")).to_be_visible()
    page.get_by_role("button", name="Copy SCIM base URL").click()
    address = page.evaluate("navigator.clipboard.readText()")
    assert address == f"{running.url}/scim/v2/{label.lower()}"
    page.get_by_role("button", name="Create token").click()
    page.get_by_role("dialog").get_by_label("Label").fill("Provider")
    page.get_by_role("dialog").get_by_role("button", name="Create token").click()
    shown = page.get_by_role("status").filter(has_text="shown only once")
    token = shown.locator("code").inner_text()
    refused = httpx.get(f"{address}/Users", headers={"Authorization": "Bearer wrong"})
    assert refused.status_code == 401
    expect(page.get_by_text("Rejected requests and lost data")).to_be_visible()
    made = httpx.post(
        f"{address}/Users", json={"userName": fresh("bruno")}, headers={"Authorization": f"Bearer {token}"}
    )
    assert made.status_code == 201
    ticks = page.get_by_role("region", name="Setup checklist").get_by_role("listitem")
    expect(ticks.filter(has_text="First user created")).not_to_contain_text("not yet")
    page.reload()
    page.get_by_role("heading", name=label).wait_for()
    assert token not in page.content()


def test_a_name_that_is_markup_stays_a_name(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    nasty = f'<img src=x onerror="document.title=1">{fresh("x")}'
    running.provider(fresh("source")).user(nasty, displayName=nasty)
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("textbox", name="Name, user name or email").fill(nasty[-8:])
    expect(page.locator("tbody tr")).to_have_count(1)
    page.get_by_role("link", name=nasty).click()
    expect(page.get_by_role("heading", level=1)).to_have_text(nasty)


def test_sign_in_returns_to_the_page_of_the_ended_session(
    open_page: Callable[..., Page], running: Running
) -> None:
    page = open_page()
    sign_in(page)
    page.goto("/users?status=active")
    page.get_by_role("heading", name="Users", level=1).wait_for()
    page.context.clear_cookies()
    # Not by a click: the page can notice the end by itself at that moment, and its links are gone then.
    page.goto("/provisioning/tasks")
    page.get_by_role("button", name="Sign in").wait_for()
    page.get_by_label("Name", exact=True).fill("edmund.sallow")
    page.get_by_label("Password").fill("fern-hollow-gate-seven")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Provisioning", level=1).wait_for()
