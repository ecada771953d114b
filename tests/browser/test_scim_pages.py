"""The console's rooms for SCIM in both directions, as an administrator would use them."""

from __future__ import annotations

import json
from collections.abc import Callable

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible
from tests.harness import Provider, Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_traces_are_read_beside_the_settings(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, name = fresh("source"), fresh("zofia")
    provider = running.provider(source)
    provider.user(name, displayName=f"Zofia {name}", password="t0p-secret")
    provider.http.post("/Users", json={"userName": name})
    page = open_page(signed_in=True)
    page.goto(f"/sources/{source}")
    page.get_by_role("tab", name="Requests").click()
    row = page.get_by_role("row").filter(has_text=f"Created Zofia {name}")
    expect(row).to_contain_text("201")
    row.get_by_role("button", name="Open").click()
    expect(row.locator("pre")).to_contain_text(name)
    assert "t0p-secret" not in page.content()
    page.get_by_role("textbox", name="Path, outcome or body").fill("uniqueness")
    expect(page.get_by_role("row").filter(has_text="409")).to_be_visible()
    expect(page).to_have_url(f"{running.url}/sources/{source}/requests?q=uniqueness")


def test_a_token_is_changed_for_another_without_a_gap(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source = fresh("source")
    old = running.provider(source)
    page = open_page(signed_in=True)
    page.goto(f"/sources/{source}")
    page.get_by_role("row").filter(has_text="Provider").get_by_role("button", name="Rotate").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("works until you revoke it")
    dialog.get_by_role("button", name="Create token").click()
    token = page.get_by_role("status").filter(has_text="shown only once").locator("code").inner_text()
    assert (
        old.http.get("/Users").status_code
        == Provider(old.base_url, token).http.get("/Users").status_code
        == 200
    )
    page.get_by_role("button", name="Revoke old token").click()
    page.get_by_role("dialog").get_by_role("button", name="Revoke").click()
    expect(page.get_by_role("row").filter(has_text="revoked")).to_be_visible()
    assert (
        old.http.get("/Users").status_code,
        Provider(old.base_url, token).http.get("/Users").status_code,
    ) == (401, 200)
    check_accessible(page)


def test_a_schema_is_added_to_a_source(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source = fresh("source")
    running.provider(source)
    page = open_page(signed_in=True)
    page.goto(f"/sources/{source}/schemas")
    page.get_by_role("button", name="Add schema").click()
    field = page.get_by_role("textbox", name="Schema as JSON")
    field.fill("{")
    page.get_by_role("dialog").get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("not valid JSON")
    field.fill(
        json.dumps({"id": "urn:fernhollow:garden:User", "name": "Garden", "attributes": [{"name": "badge"}]})
    )
    page.get_by_role("dialog").get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("row").filter(has_text="urn:fernhollow:garden:User")).to_contain_text("badge")
    check_accessible(page)


def test_an_expression_shows_its_result_and_a_change_is_looked_at_first(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("ysolde")
    running.application(records, app)
    running.provider(fresh("source")).user(name, displayName=f"Ysolde {name}", title="Guide")
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
    running.settled(records)
    assert name in app.accounts()
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/settings")
    page.get_by_role("button", name="Add expression").click()
    page.get_by_role("textbox", name="Attribute", exact=True).fill("title")
    expression = page.get_by_role("textbox", name="Expression for title")
    expression.fill("title then uper")
    expect(page.get_by_text("is invalid")).to_be_visible()
    expression.fill("title then upper")
    page.get_by_role("combobox", name="Preview with user").click()
    page.keyboard.type(name)
    page.get_by_role("option", name=name).click()
    expect(page.get_by_text("GUIDE")).to_be_visible()
    page.get_by_role("button", name="Save", exact=True).click()
    preview = page.get_by_role("status").filter(has_text="accounts change")
    expect(preview).to_contain_text("Guide → GUIDE")
    assert app.accounts()[name]["title"] == "Guide"
    page.get_by_role("button", name="Save and update 1 account").click()
    eventually(lambda: app.accounts()[name]["title"], lambda title: title == "GUIDE")
    page.get_by_role("button", name="Check with a test account").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text(
        "The test account was deleted."
    )


def test_drift_is_compared_fixed_and_linked(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("wynn")
    running.application(records, app)
    running.provider(fresh("source")).user(name, displayName=f"Wynn {name}")
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
    running.settled(records)
    there = app.accounts()[name]
    running.settled(records)
    httpx.put(
        f"{app.base_url}/Users/{there['id']}",
        json={**there, "roles": [{"value": "owner"}]},
        headers=app.headers,
        trust_env=False,
    )
    app.create(userName="stranger", displayName="Stranger", active=True)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/drift")
    page.get_by_role("button", name="Reconcile now").click()
    expect(page.get_by_role("row").filter(has_text="Stranger")).to_contain_text("account without a user")
    row = page.get_by_role("row").filter(has_text=f"Wynn {name}")
    expect(row).to_contain_text("roles: owner")
    row.get_by_role("button", name="Repair").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("roles becomes viewer")
    dialog.get_by_role("button", name="Repair").click()
    eventually(lambda: app.roles(name), lambda roles: roles == ["viewer"])
    page.get_by_role("checkbox", name="Select Stranger, account without a user").check()
    page.get_by_role("button", name="Ignore 1").click()
    expect(page.get_by_role("row").filter(has_text="Stranger")).to_have_count(0)
    page.goto(f"/applications/{records}/groups")
    expect(page.get_by_text("No provisioned groups")).to_be_visible()


def test_the_timeline_keeps_its_filters_in_the_address(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, name = fresh("source"), fresh("zofia")
    provider = running.provider(source)
    provider.user(name, displayName=f"Zofia {name}")
    provider.http.post("/Users", json={"userName": name})
    page = open_page(signed_in=True)
    page.goto(f"/activity?source={source}")
    expect(page.get_by_role("row").filter(has_text=f"Created Zofia {name}")).to_be_visible()
    page.get_by_label("Failures only").check()
    expect(page.get_by_role("row").filter(has_text="Created")).to_have_count(0)
    expect(page.get_by_role("row").filter(has_text="POST /Users 409")).to_be_visible()
    expect(page).to_have_url(f"{running.url}/activity?source={source}&trouble=yes")
    page.reload()
    expect(page.get_by_role("row").filter(has_text="POST /Users 409")).to_be_visible()
    expect(page.get_by_label("Failures only")).to_be_checked()


def test_the_checklist_is_saved_as_text_without_the_token(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source = fresh("source")
    token = running.provider(source)
    page = open_page(signed_in=True)
    page.goto(f"/sources/{source}")
    with page.expect_download() as saved:
        page.get_by_role("button", name="Download as text").click()
    text = saved.value.path().read_text()
    assert f"{running.url}/scim/v2/{source}" in text and "dravo_push_" not in text
    assert token.base_url in text and "Not verified yet:" in text


def test_a_user_who_may_exist_under_another_source_is_linked_on_the_source_page(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    first, second, name = fresh("source"), fresh("source"), fresh("zofia")
    running.provider(first).user(name, displayName=f"Zofia {name}", title="Botanist")
    running.provider(second).user(name, displayName=f"Zofia W. {name}")
    page = open_page(signed_in=True)
    page.goto(f"/sources/{second}")
    page.get_by_role("tab", name="Conflicts (1)").click()
    row = page.get_by_role("row").filter(has_text=f"Another user already has the user name '{name}'.")
    expect(row).to_be_visible()
    check_accessible(page)
    row.get_by_role("button", name="Link").click()
    page.get_by_role("dialog").get_by_role("button", name="Link", exact=True).click()
    expect(page.get_by_role("tab", name="Conflicts", exact=True)).to_be_visible()
    with running.dravo as dravo:
        assert len(list(dravo.users.list(words=name))) == 1


def test_a_source_has_a_scope_and_begins_with_a_pilot_group(
    open_page: Callable[..., Page], running: Running, fresh: Callable[[str], str]
) -> None:
    key, name = fresh("partners"), fresh("ada")
    provider = running.provider(key)
    provider.user(name, displayName=f"Ada {name}", title="Guide")
    cook = provider.user(f"{name}.two", displayName=f"Ove {name}", title="Cook")
    page = open_page(signed_in=True)
    page.goto(f"/sources/{key}/scim-policy")
    page.get_by_label("Users (SCIM filter)").fill('title ne "Cook"')
    page.get_by_role("button", name="Preview with all users").click()
    expect(page.get_by_text("Of 2 users of this source, 1 stay unchanged, 1 leave.")).to_be_visible()
    page.get_by_role("textbox", name="Pilot group").fill("Pilot")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("list", name="Records that do not count")).to_contain_text("outside the scope")
    page.get_by_label("Pilot group", exact=True).check()
    expect(page.get_by_role("region", name="Status")).to_contain_text("1 user stays outside")
    page.get_by_role("button", name="Change status").click()
    expect(page.get_by_text("Only members of the pilot group are created or changed.")).to_be_visible()
    provider.http.patch(
        f"/Users/{cook}", json={"Operations": [{"op": "replace", "value": {"title": "Guide"}}]}
    )
    expect(page.get_by_role("list", name="Waiting changes")).to_contain_text("1 change waits")
    page.get_by_label("Enabled", exact=True).check()
    page.get_by_role("button", name="Change status").click()
    expect(page.get_by_text("2 records count for a user.")).to_be_visible()
    check_accessible(page)


def test_a_leaver_is_erased_and_accepted_again(
    open_page: Callable[..., Page], running: Running, fresh: Callable[[str], str]
) -> None:
    name = fresh("ida")
    provider = running.provider(fresh("partners"))
    record = provider.user(name, displayName=f"Ida {name}")
    provider.http.delete(f"/Users/{record}")
    with running.dravo as dravo:
        user = eventually(lambda: dravo.users.get(name), lambda found: found["status"] == "left")
    page = open_page(signed_in=True)
    page.goto(f"/users/{user['id']}")
    page.get_by_role("button", name="Erase", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 source record is deleted")
    dialog.get_by_label("Type").fill(f"Ida {name}")
    dialog.get_by_role("button", name="Erase", exact=True).click()
    row = page.get_by_role("row").filter(has_text=user["id"])
    expect(row).to_contain_text("ignored")
    check_accessible(page)
    row.get_by_role("button").click()
    expect(row).to_contain_text("accepted again")


def test_the_label_domains_and_note_of_a_source_are_edited(
    open_page: Callable[..., Page], running: Running, fresh: Callable[[str], str]
) -> None:
    key, name = fresh("partners"), fresh("ada")
    running.provider(key)
    page = open_page(signed_in=True)
    page.goto(f"/sources/{key}")
    page.get_by_role("button", name="Edit", exact=True).click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Label").fill(f"Partners {name}")
    dialog.get_by_label("Email domains").fill(f"{key}.example")
    dialog.get_by_label("Note").fill("Ends with the season")
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("heading", name=f"Partners {name}")).to_be_visible()
    expect(page.get_by_text("Ends with the season")).to_be_visible()
