"""The console's rooms for reviews, seats and the flow picture."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import check_accessible, find_and_choose
from tests.harness import Running, eventually

Fresh = Callable[[str], str]


def test_a_review_is_begun_and_decided_row_by_row(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk, label = fresh("source"), fresh("desk"), fresh("Review")
    running.application(desk)
    provider = running.provider(source)
    provider.group(
        f"{source}-clerks",
        [provider.user(f"{source}-{name}", displayName=f"{name} {source}") for name in ("Ada", "Bob", "Cai")],
    )
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", source=source, group=f"{source}-clerks")
        running.settled(desk)
        assert (dravo.access(application=desk).total()) == 3
    page = open_page(signed_in=True)
    page.goto("/access/reviews")
    page.get_by_role("button", name="Create review").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name of the review").fill(label)
    dialog.get_by_role("button", name="Create", exact=True).click()
    expect(dialog).to_contain_text("The due date is missing or in the past.")
    dialog.get_by_label("Due date").fill("2999-12-31")
    find_and_choose(dialog.get_by_role("combobox", name="Application"), desk.replace("-", " ").title())
    dialog.get_by_role("button", name="Create", exact=True).click()
    expect(page.get_by_role("heading", name=label)).to_be_visible()
    page.get_by_label(f"Select Ada {source}").check()
    page.get_by_label("Note on the decision").fill("still here")
    late: list[Route] = []
    progress = re.compile(r"/api/v1/reviews/[^/?]+$")
    page.route(progress, lambda route: late.append(route))
    page.get_by_role("button", name="Confirm 1").click()
    row = page.get_by_role("row").filter(has_text=f"Ada {source}")
    expect(row).to_contain_text("confirmed")
    expect(row).to_contain_text("still here")
    # A row that is selected while the progress still loads stays selected.
    page.get_by_label(f"Select Bob {source}").check()
    with page.expect_response(progress):
        late[-1].continue_()
    page.unroute(progress)
    page.get_by_role("button", name="Remove 1").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("1 lose")
    check_accessible(page)
    dialog.get_by_role("button", name="Remove", exact=True).click()
    expect(dialog).to_be_hidden()
    expect(page.get_by_role("row").filter(has_text=f"Bob {source}")).to_contain_text(
        "The user is excluded from "
    )
    page.get_by_role("button", name="Select all open rows shown").click()
    page.get_by_role("button", name="Confirm 1").click()
    expect(page.get_by_role("row").filter(has_text=f"Cai {source}")).to_contain_text("confirmed")
    page.get_by_role("button", name="End review").click()
    expect(page.get_by_text("ended").first).to_be_visible()
    with running.dravo as dravo:
        running.settled(desk)
        left = sorted(x["user"]["user_name"] for x in dravo.access(application=desk))
        assert len(left) == 2
    assert left == [f"{source}-Ada", f"{source}-Cai"]


def test_a_plan_fills_up_and_the_flow_picture_leads_to_its_places(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.application(desk)
    provider = running.provider(source)
    users = [provider.user(f"{source}-{name}", displayName=f"{name} {source}") for name in ("Ada", "Bob")]
    provider.group(f"{source}-clerks", users)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{desk}/settings")
    plans = page.get_by_role("region", name="License plans")
    plans.get_by_label("Plan key").fill("full")
    plans.get_by_label("Plan name").fill("Full desk")
    plans.get_by_label("Seats (empty: unlimited)").fill("1")
    plans.get_by_role("button", name="Create plan").click()
    expect(plans.get_by_role("row").filter(has_text="Full desk")).to_contain_text("0 taken of 1")
    page.goto(f"/applications/{desk}/mapping")
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    find_and_choose(dialog.get_by_role("combobox", name="Group"), f"{source}-clerks")
    dialog.get_by_role("combobox", name="License plan").press("Enter")
    page.get_by_role("option", name="Full desk").click()
    expect(dialog).to_contain_text("2 need a seat in Full desk: 1 free, so 1 are put on the waiting list.")
    check_accessible(page)
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(page.get_by_text("plan Full desk")).to_be_visible()
    page.goto(f"/applications/{desk}/seats?who=waiting")
    expect(page.get_by_text("1 waiting", exact=True)).to_be_visible()
    page.goto(f"/applications/{desk}/settings")
    page.get_by_role("button", name="Edit plan Full desk").click()
    page.get_by_role("dialog").get_by_label("Seats").fill("2")
    page.get_by_role("dialog").get_by_role("button", name="Save", exact=True).click()
    expect(plans.get_by_role("row").filter(has_text="Full desk")).to_contain_text("2 taken of 2")
    page.goto("/")
    picture = page.get_by_role("group", name="Access flow")
    # Among many groups of other tests this one may be bundled; some source stands there in any case.
    place = picture.get_by_role("link").first
    expect(place).to_be_visible(timeout=15_000)
    place.focus()
    page.keyboard.press("Enter")
    page.wait_for_url("**/sources/*")


def test_users_are_compared_and_groups_shown_in_the_matrix(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    source, desk = fresh("source"), fresh("desk")
    running.application(desk)
    provider = running.provider(source)
    ada, bob = (provider.user(f"{source}-{name}", displayName=f"{name} {source}") for name in ("Ada", "Bob"))
    provider.group(f"{source}-both", [ada, bob])
    provider.group(f"{source}-one", [ada])
    with running.dravo as dravo:
        dravo.assignments.add(desk, "viewer", source=source, group=f"{source}-one")
        running.settled(desk)
        assert dravo.access(application=desk).total() == 1
    page = open_page(signed_in=True)
    page.goto("/access/users")
    expect(page.get_by_text("Compare two users")).to_be_visible()
    for label, name in (("First user", "Ada"), ("Second user", "Bob")):
        find_and_choose(page.get_by_role("combobox", name=label), f"{name} {source}")
    row = page.get_by_role("row").filter(has_text=desk.replace("-", " ").title())
    expect(row).to_contain_text("differs")
    expect(row).to_contain_text(f"> {source}-one")
    expect(row).to_contain_text("no access")
    expect(page.get_by_role("heading", name=f"Groups of Ada {source} only")).to_be_visible()
    # What is compared stays in the address, by name too.
    page.reload()
    expect(row).to_contain_text("differs")
    page.goto(f"/access/groups?application={desk}")
    expect(page.get_by_role("row").filter(has_text=f"{source}-one")).to_contain_text("Viewer")
    page.goto(f"/access/matrix?application={desk}&role=viewer")
    expect(page.get_by_text("role viewer")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text=f"Ada {source}")).to_be_visible()


def test_organization_settings_are_saved_or_refused_with_a_hint(
    open_page: Callable[..., Page], running: Running
) -> None:
    page = open_page(signed_in=True)
    page.goto("/settings/organization")
    ctx = page.get_by_role("form", name="Organization settings")
    zone = ctx.get_by_label("Time zone")
    before = zone.input_value()
    zone.fill("Fernhollow")
    ctx.get_by_role("button").last.click()
    expect(page.get_by_text("'Fernhollow' is not a time zone")).to_be_visible()
    check_accessible(page)
    zone.fill("Asia/Tokyo")
    ctx.get_by_role("button", name="Preview").click()
    expect(ctx.get_by_role("status")).to_contain_text("Asia/Tokyo")
    ctx.get_by_role("button", name="Save changes").click()
    with running.dravo as dravo:
        kept = eventually(
            lambda: {each["name"]: each["value"] for each in dravo.settings()}["time_zone"],
            lambda value: value == "Asia/Tokyo",
        )
        assert kept == "Asia/Tokyo"
        dravo.change_setting("time_zone", before)
