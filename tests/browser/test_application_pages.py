"""An application is kept in the console: what it is called, its roles, and its end."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose, find_and_choose
from tests.harness import Running, StandIn
from tests.services.applications.test_icons import picture

Fresh = Callable[[str], str]


def test_an_assignment_is_edited(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    desk, name = fresh("desk"), fresh("ada")
    running.application(desk)
    running.provider(fresh("source")).user(name, displayName=f"Ada {name}")
    with running.dravo as dravo:
        made = dravo.assignments.add(desk, "viewer", user=name)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name=f"Edit: Ada {name}, Viewer").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Curator")
    dialog.get_by_label("End date (included)").fill("2099-12-31")
    dialog.get_by_label("Note").fill("Until the new keeper comes")
    expect(dialog).to_contain_text("1 change roles")
    check_accessible(page)
    confirmation = dialog.get_by_label("Type ", exact=False)
    if confirmation.count():
        confirmation.fill(made["application"]["label"])
    dialog.get_by_role("button", name="Save", exact=True).click()
    row = page.get_by_role("row").filter(has_text="Until the new keeper comes")
    expect(row).to_contain_text("Curator")
    expect(row).to_contain_text("until 2099-12-31")


def test_an_application_is_renamed_and_copied_with_other_roles(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    desk = fresh("desk")
    running.application(desk)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/settings")
    page.get_by_role("button", name="Edit", exact=True).click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Label").fill(f"Front {desk}")
    dialog.get_by_label("Start URL").fill("nowhere")
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(dialog).to_contain_text("' is not a valid URL.")
    dialog.get_by_label("Start URL").fill("https://desk.fernhollow.example/")
    dialog.get_by_label("Note").fill("Renewed every spring.")
    find_and_choose(dialog.get_by_role("combobox", name="Owner"), "edmund.sallow")
    dialog.get_by_label("Icon file").set_input_files(
        {"name": "leaf.png", "mimeType": "image/png", "buffer": picture()}
    )
    expect(dialog.get_by_role("button", name="Delete icon")).to_be_visible()
    check_accessible(page)
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("heading", name=f"Front {desk}")).to_be_visible()
    expect(page.get_by_text("Renewed every spring.")).to_be_visible()
    expect(page.get_by_text("owner edmund.sallow")).to_be_visible()

    page.get_by_role("button", name="Copy", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Copied: 2 roles")
    check_accessible(page)
    dialog.get_by_label("Label").fill(f"Side {desk}")
    dialog.get_by_role("button", name="Copy", exact=True).click()
    expect(page.get_by_role("heading", name=f"Side {desk}")).to_be_visible()
    expect(page.get_by_text("Other instances:")).to_contain_text(f"Front {desk}")
    page.get_by_role("button", name="Delete role Curator").click()
    expect(page.get_by_role("button", name="Delete role Curator")).to_have_count(0)
    page.get_by_label("Role key").fill("warden")
    page.get_by_label("Role name").fill("Warden")
    page.get_by_role("button", name="Create role", exact=True).click()
    expect(page.get_by_role("button", name="Edit role Warden")).to_be_visible()
    with running.dravo as dravo:
        keys = {each["label"]: each["key"] for each in dravo.applications.list()}
        front, side = (
            {role["key"] for role in dravo.applications.get(keys[f"{which} {desk}"])["roles"]}
            for which in ("Front", "Side")
        )
    assert (front, side) == ({"viewer", "curator"}, {"viewer", "warden"})


def test_the_roles_of_an_application_are_valued_and_it_is_deleted(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    desk, name = fresh("desk"), fresh("ada")
    label = desk.replace("-", " ").title()
    running.application(desk, app)
    user = running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        made = dravo.assignments.add(desk, "viewer", user=name)
    running.settled(desk)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/settings")
    page.get_by_role("button", name="Edit role Viewer").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Value sent to the application").fill("ROLE_VIEWER")
    dialog.get_by_label("What the role permits").fill("May look at everything.")
    expect(dialog).to_contain_text("Dravo sends 'ROLE_VIEWER' for the role instead of 'viewer'.")
    check_accessible(page)
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("row").filter(has_text="May look at everything.")).to_contain_text("ROLE_VIEWER")
    running.settled(desk)
    assert app.roles(name) == ["ROLE_VIEWER"]

    page.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_role("dialog")).to_contain_text("has assignments")
    page.get_by_role("dialog").get_by_role("button", name="Cancel").click()
    with running.dravo as dravo:
        dravo.assignments.remove(made["id"])
    running.settled(desk)
    page.get_by_role("button", name="Delete", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("The application keeps 1 account")
    dialog.get_by_label(f"Type {label} to confirm").fill(label)
    dialog.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_role("heading", name="Applications", exact=True)).to_be_visible()
    with running.dravo as dravo:
        assert desk not in {each["key"] for each in dravo.applications.list()}
    assert user and app.accounts()[name]["active"] is False


def test_read_roles_are_mapped_and_provisioning_starts_with_a_pilot_group(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    desk, group, everyone = fresh("desk"), fresh("Testers"), fresh("Everyone")
    app.create(userName=fresh("old"), active=True, roles=[{"value": "ROLE_KEEPER", "display": "Keeper"}])
    running.application(desk, app, roles=())
    provider = running.provider(fresh("source"))
    names = [fresh("ada"), fresh("bob")]
    users = [provider.user(name) for name in names]
    provider.group(group, users[:1])
    provider.group(everyone, users)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/settings")
    page.get_by_role("button", name="Save and check").click()
    page.get_by_role("button", name="Create role ROLE_KEEPER").click()
    page.get_by_label("Pilot group").first.check()
    expect(page.get_by_text("Choose the pilot group.")).to_be_visible()
    find_and_choose(page.get_by_role("combobox", name="Pilot group"), group)
    expect(page.get_by_text("The pilot group has 1 member.")).to_be_visible()
    check_accessible(page)
    page.get_by_role("button", name="Change status").click()
    expect(page.get_by_text(f"Only members of {group} are provisioned.")).to_be_visible()

    page.get_by_role("tab", name="Role mapping").click()
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    find_and_choose(dialog.get_by_role("combobox", name="Group"), everyone)
    choose(dialog.locator(".v-select").filter(has_text="Role"), "Keeper")
    expect(dialog).to_contain_text("2 gain")
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(dialog).to_be_hidden()
    running.settled(desk)
    assert names[1] not in app.accounts() and app.roles(names[0]) == ["ROLE_KEEPER"]

    page.get_by_role("tab", name="Settings").click()
    page.get_by_label("Enabled", exact=True).check()
    expect(page.get_by_text("1 account is created or adopted.")).to_be_visible()
    page.get_by_role("button", name="Change status").click()
    expect(page.get_by_text("Dravo provisions all users with access.")).to_be_visible()
    running.settled(desk)
    assert {*names} <= set(app.accounts())


def test_a_connection_is_checked_before_it_is_saved_and_its_roles_are_offered(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    desk, name = fresh("desk"), fresh("ada")
    app.create(userName=name, active=True, roles=[{"value": "ROLE_KEEPER", "display": "Keeper"}])
    with running.dravo as dravo:
        dravo.applications.add(desk, desk.title())
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/settings")
    page.get_by_label("SCIM base URL").fill(f"{app.base_url}/Users")
    page.get_by_label("Token", exact=True).fill(app.token)
    page.get_by_role("button", name="Check without saving").click()
    expect(page.get_by_text("Nothing was saved.")).to_contain_text(f"{app.base_url} (corrected)")
    expect(page.get_by_role("status", name="Connection check")).to_contain_text(
        "The application has 1 accounts."
    )
    with running.dravo as dravo:
        assert dravo.applications.get(desk)["connection"]["base_url"] is None
    page.get_by_role("button", name="Save and check").click()
    page.get_by_role("button", name="Create role ROLE_KEEPER").click()
    expect(
        page.get_by_role("table", name="Values in the application").get_by_role("row").last
    ).to_contain_text("keeper")
    check_accessible(page)
    with running.dravo as dravo:
        (role,) = dravo.applications.get(desk)["roles"]
    assert (role["key"], role["label"], role["sent_value"]) == ("keeper", "Keeper", "ROLE_KEEPER")


def test_an_application_is_added_from_a_template_before_it_has_a_token(
    open_page: Callable[..., Page], app: StandIn, fresh: Fresh
) -> None:
    label = fresh("Our records")
    page = open_page(signed_in=True)
    page.goto("/applications")
    page.get_by_role("button", name="Add application").click()
    dialog = page.get_by_role("dialog")
    dialog.locator(".v-select").filter(has_text="Template").click()
    page.get_by_role("option", name=re.compile("^Plant Records")).click()
    expect(dialog).to_contain_text("Roles: Viewer, Recorder, Curator.")
    dialog.get_by_label("Label").fill(label)
    dialog.get_by_label("Workspace").fill("not a workspace")
    dialog.get_by_role("button", name="Add", exact=True).click()
    expect(dialog).to_contain_text("'not a workspace' is not an answer to 'Workspace'.")
    dialog.get_by_label("Workspace").fill("https://trust.plant-records.example/login")
    check_accessible(page)
    dialog.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_label("SCIM base URL")).to_have_value("https://trust.plant-records.example/scim/v2")
    expect(page.get_by_text("The token is missing.")).to_be_visible()
    page.get_by_label("SCIM base URL").fill(app.base_url)
    page.get_by_role("button", name="Save and check").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text(
        "The application requires a token."
    )
    page.get_by_label("Token", exact=True).fill(app.token)
    page.get_by_role("button", name="Save and check").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text(
        "The application has 0 accounts."
    )
    expect(page.get_by_text("The token is missing.")).to_have_count(0)


def test_a_tracked_application_with_its_list_becomes_provisioned_and_is_deleted(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    desk, names = fresh("payslips"), [fresh("ada"), fresh("bob")]
    provider = running.provider(fresh("source"))
    with running.dravo as dravo:
        dravo.applications.add(desk, desk.title(), tracked_only=True)
        dravo.applications.add_role(desk, "clerk", "Clerk")
        for name in names:
            provider.user(name)
        made = [dravo.assignments.add(desk, "clerk", user=name)["id"] for name in names]
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}")
    page.get_by_role("link", name="2 to do by hand").click()
    page.get_by_label(f"Select create, {names[0]}").check()
    page.get_by_role("button", name="Mark 1 as done").click()
    expect(page.get_by_role("row").filter(has_text=names[0])).to_have_count(0)
    page.get_by_role("button", name="Compare with a list").click()
    dialog = page.get_by_role("dialog")
    listed = f"login,role\n{names[0]},Clerk\n{names[1]},Clerk\nzoe,Clerk\n"
    dialog.locator("input[type=file]").set_input_files(
        {"name": "accounts.csv", "mimeType": "text/csv", "buffer": listed.encode()}
    )
    dialog.get_by_role("button", name="Compare", exact=True).click()
    expect(dialog.get_by_role("row").filter(has_text="zoe")).to_contain_text("without a user")
    check_accessible(page)
    dialog.get_by_role("button", name="Mark 1 as done").click()
    expect(dialog).to_contain_text("1 task marked as done.")
    page.keyboard.press("Escape")
    expect(page.get_by_text("Nothing to do by hand")).to_be_visible()

    page.get_by_role("tab", name="Settings").click()
    page.get_by_role("button", name="Provision accounts").click()
    expect(page.get_by_role("dialog")).to_contain_text("Dravo looks for 2 accounts that exist already.")
    check_accessible(page)
    page.get_by_role("dialog").get_by_role("button", name="Provision accounts").click()
    expect(page.get_by_role("heading", name="Provisioning status")).to_be_visible()
    with running.dravo as dravo:
        assert dravo.provisioning.summary(desk)["stopped"] == 2
    page.get_by_role("button", name="Manage accounts by hand").click()
    page.get_by_role("dialog").get_by_role("button", name="Manage by hand").click()
    expect(page.get_by_role("link", name="2 to do by hand")).to_be_visible()

    with running.dravo as dravo:
        for each in made:
            dravo.assignments.remove(each)
    page.get_by_role("button", name="Delete", exact=True).click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(f"Type {desk.title()} to confirm").fill(desk.title())
    dialog.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_role("heading", name="Applications", exact=True)).to_be_visible()


def test_found_accounts_are_adopted_after_a_look_and_tasks_are_approved(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    desk, names = fresh("desk"), [fresh("ada"), fresh("bob")]
    running.application(desk, app, approve_tasks=True)
    provider = running.provider(fresh("source"))
    for name in names:
        provider.user(name)
    app.create(userName=names[0], roles=[{"value": "viewer"}])
    app.create(userName="Label printer", roles=[{"value": "viewer"}])
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/drift")
    page.get_by_role("button", name="Reconcile now").click()
    expect(page.get_by_role("row").filter(has_text="Label printer")).to_be_visible()
    page.get_by_role("button", name="Adopt all").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("row").filter(has_text=names[0])).to_contain_text("assign and link")
    expect(dialog).to_contain_text("No user matches the account.")
    check_accessible(page)
    dialog.get_by_role("button", name="Adopt", exact=True).click()
    expect(dialog).to_contain_text("1 linked, 0 users created, 1 left")
    dialog.get_by_role("button", name="Close").click()
    page.get_by_label("All accounts beside the desired ones").check()
    expect(page.get_by_role("row").filter(has_text="Label printer")).to_contain_text("no user")

    page.get_by_role("tab", name="Tasks").click()
    expect(page.get_by_text("an operator's approval").first).to_be_visible()
    page.get_by_label(f"Select {names[0]}").check()
    check_accessible(page)
    page.get_by_role("button", name="Approve 1").click()
    expect(page.get_by_text("an operator's approval")).to_have_count(0)
    running.settled(desk)
    with running.dravo as dravo:
        (task,) = dravo.tasks.list(application=desk)
    assert (task["status"], task["approved_by"]) == ("done", "edmund.sallow")
