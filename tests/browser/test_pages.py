"""The rooms of the console one by one: filters, pages, dialogs, errors, light and dark."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose, find_and_choose, sign_in
from tests.harness import PASSWORD, Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_a_long_list_is_paged_and_its_filters_stay_in_the_address(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    provider, mark = running.provider(fresh("source")), fresh("crowd")
    users = [provider.user(f"{mark}.{number:03}", displayName=f"{mark} {number:03}") for number in range(60)]
    provider.set_active(users[7], False)
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("textbox", name="Name, user name or email").fill(mark)
    page.wait_for_url(f"**/users?q={mark}")
    expect(page.get_by_text("1 to 50 of 60")).to_be_visible()
    page.get_by_role("button", name="Next").click()
    expect(page.get_by_text("51 to 60 of 60")).to_be_visible()
    expect(page.get_by_role("link", name=f"{mark} 059")).to_be_visible()
    expect(page.get_by_role("button", name="Next")).to_be_disabled()
    page.get_by_role("button", name="Previous").click()
    expect(page.get_by_role("link", name=f"{mark} 000")).to_be_visible()
    page.goto(f"/users?q={mark}&status=inactive")
    expect(page.get_by_role("row")).to_have_count(2)
    expect(page.get_by_role("link", name=f"{mark} 007")).to_be_visible()
    page.get_by_role("textbox", name="Name, user name or email").fill(f"{mark} nobody")
    expect(page.get_by_text("No matching users")).to_be_visible()


def test_why_not_is_answered_where_the_doubt_arises(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("dilys")
    running.application(records)
    provider = running.provider(fresh("source"))
    user = provider.user(name, displayName="Dilys Prosser")
    group = provider.group(fresh("Guides"))
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        user_id = dravo.users.get(name)["id"]
    page = open_page(signed_in=True)
    page.goto(f"/users/{user_id}")
    expect(page.get_by_text("No access", exact=True)).to_be_visible()
    # By its name, because there may be hundreds.
    missing = page.get_by_role("combobox", name="Explain missing access")
    find_and_choose(missing, records.replace("-", " ").title())
    told = page.get_by_role("status")
    expect(told).to_contain_text("Dilys Prosser has no access")
    expect(told).to_contain_text("One of these groups would give access:")
    provider.add(group, user)
    expect(page.get_by_role("region", name="Access")).to_contain_text("by group, by edmund.sallow")
    provider.set_active(user, False)
    expect(page.get_by_text("Inactive users have no access.")).to_be_visible()
    expect(page.get_by_text("Past access")).to_be_visible()
    expect(page.get_by_role("region", name="Accounts without access")).to_contain_text("inactive")


def test_a_failed_task_is_read_fixed_and_sent_again(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("una")
    running.application(records, app)
    app.faults(refuse=True)
    running.provider(fresh("source")).user(name, displayName=f"Una {name}")
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
        running.settled(records)
        assert dravo.tasks.list(application=records, status="failed").total()
    page = open_page(signed_in=True)
    page.goto("/")
    needs = page.get_by_role("region", name="Needs attention")
    expect(needs).to_contain_text("All seats are used")
    page.goto(f"/provisioning/tasks?application={records}&status=failed")
    page.get_by_role("link", name=f"Una {name}").click()
    expect(page.get_by_role("region", name="Response of the application")).to_contain_text(
        "All seats are used"
    )
    app.faults(refuse=False)
    page.get_by_role("button", name="Retry now").click()
    expect(page.locator(".head")).to_contain_text("done")
    assert name in app.accounts()


def test_an_application_that_is_paused_says_why_and_is_resumed(
    open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("tamsin")
    running.application(records, app)
    good = app.token
    app.faults(token="another")
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
        eventually(lambda: dravo.applications.get(records)["status"] == "paused")
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/settings")
    expect(page.get_by_text("The application rejected the token while ")).to_be_visible()
    check_accessible(page)
    page.get_by_role("button", name="Check again").click()
    steps = page.get_by_role("status", name="Connection check")
    expect(steps).to_contain_text("rejected the token")
    app.faults(token=good)
    page.get_by_role("button", name="Resume provisioning").click()
    expect(page.locator(".head")).to_contain_text("ok")
    running.settled(records)
    assert name in app.accounts()
    page.get_by_role("button", name="Pause provisioning").click()
    expect(page.locator(".head")).to_contain_text("paused")


def test_a_setting_that_cannot_be_is_refused_and_what_was_typed_stays(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    records = fresh("records")
    running.application(records)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/settings")
    page.get_by_label("Concurrent requests").fill("99")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("The number of concurrent requests must be between 1 and 32.")).to_be_visible()
    expect(page.get_by_label("Concurrent requests")).to_have_value("99")
    page.get_by_label("SCIM base URL").fill("records.fernhollow.example")
    page.get_by_role("button", name="Save and check").click()
    expect(page.get_by_role("alert").filter(has_text="https://")).to_contain_text(
        "' does not start with https://."
    )
    page.get_by_label("Role key").fill("Not A Key")
    page.get_by_label("Role name").fill("x")
    page.get_by_role("button", name="Create role").click()
    expect(page.get_by_role("alert").filter(has_text="' is not a valid key.")).to_be_visible()
    expect(page.get_by_label("Role key")).to_have_value("Not A Key")
    page.goto("/applications")
    page.get_by_role("button", name="Add application").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Label").fill("Twice")
    dialog.get_by_role("textbox", name="Key").fill(records)
    dialog.get_by_role("button", name="Add", exact=True).click()
    expect(dialog.get_by_role("alert").filter(has_text="already")).to_be_visible()
    expect(dialog.get_by_label("Label")).to_have_value("Twice")
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()


def test_one_user_is_given_a_role_until_a_day(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("contractor")
    running.application(records)
    running.provider(fresh("source")).user(name, displayName=f"Con {name}")
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/mapping")
    page.get_by_role("button", name="Assign role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("radio", name="User").check()
    find_and_choose(dialog.get_by_role("combobox", name="User"), name, f"Con {name}")
    dialog.get_by_label("End date (included)").fill("2031-04-02")
    dialog.get_by_label("Note").fill("Mends the roof")
    expect(dialog.get_by_role("status")).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Assign", exact=True).click()
    expect(page.get_by_role("cell", name="Mends the roof")).to_be_visible()
    with running.dravo as dravo:
        until = dravo.assignments.list(application=records).page().items[0]["until"]
    assert until is not None
    assert until.startswith("2031-04-0")
    page.goto("/access/list")
    page.get_by_role("textbox", name="User").fill(name)
    expect(page.get_by_role("row").filter(has_text=f"Con {name}")).to_contain_text(
        "assigned by edmund.sallow"
    )


def test_tokens_and_operators_are_made_shown_once_and_shut_out(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    label, operator = fresh("Nightly report"), fresh("honor")
    page = open_page(signed_in=True)
    page.goto("/")
    page.get_by_role("link", name="Settings").click()
    page.get_by_role("button", name="Create token").click()
    page.get_by_role("dialog").get_by_label("Label").fill(label)
    page.get_by_role("dialog").get_by_role("button", name="Create token").click()
    secret = (
        page.get_by_role("status").filter(has_text="API token (shown only once)").locator("code").inner_text()
    )
    assert secret.startswith("dravo_api_")
    row = page.get_by_role("row").filter(has_text=label)
    row.get_by_role("button", name="Revoke").click()
    expect(row).to_contain_text("revoked")
    page.get_by_role("tab", name="Operators").click()
    page.get_by_role("button", name="Create operator").click()
    page.get_by_role("dialog").get_by_label("Sign-in name").fill(operator)
    page.get_by_role("dialog").get_by_role("button", name="Create", exact=True).click()
    password = (
        page.get_by_role("status").filter(has_text=f"Password of {operator}").locator("code").inner_text()
    )
    check_accessible(page)
    other = open_page()
    other.goto("/settings")
    other.get_by_label("Name", exact=True).fill(operator)
    other.get_by_label("Password").fill(password)
    other.get_by_role("button", name="Sign in").click()
    other.get_by_role("heading", name="Settings", level=1).wait_for()
    expect(other.get_by_role("tab", name="Operators")).to_have_count(0)
    page.get_by_role("row").filter(has_text=operator).get_by_role("button", name="Disable").click()
    other.goto("/users")
    other.get_by_role("button", name="Sign in").wait_for()
    row = page.get_by_role("row").filter(has_text=operator)
    row.get_by_role("button", name="Edit").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").filter(has_text="Kind"), "auditor")
    dialog.get_by_label("Email", exact=True).fill(f"{operator}@fernhollow.example")
    choose(dialog.locator(".v-select").filter(has_text="Hidden areas"), "Sign-in history")
    page.keyboard.press("Escape")
    check_accessible(page)
    dialog.get_by_role("button", name="Save", exact=True).click()
    expect(row).to_contain_text("auditor, without sign ins")
    expect(row).to_contain_text(f"{operator}@fernhollow.example")
    row.get_by_role("button", name="Enable").click()
    expect(row).to_contain_text("active")
    page.get_by_role("link", name="Activity").click()
    expect(page.get_by_role("row").filter(has_text="disabled operator").first).to_contain_text(operator)
    assert secret not in page.content()


def test_light_and_dark_are_chosen_and_kept(open_page: Callable[..., Page], running: Running) -> None:
    page = open_page(theme="light")
    sign_in(page)
    ground = "getComputedStyle(document.querySelector('.v-application')).backgroundColor"
    assert page.evaluate(ground) == "rgb(250, 248, 243)"
    page.get_by_role("button", name="Dark").click()
    assert page.evaluate(ground) == "rgb(20, 26, 32)"
    page.reload()
    page.get_by_role("heading", name="Overview").wait_for()
    assert page.evaluate(ground) == "rgb(20, 26, 32)"
    page.get_by_role("button", name="Operator edmund.sallow").click()
    page.get_by_text("Sign out").click()
    page.get_by_role("button", name="Sign in").wait_for()
    page.goto("/users")
    page.get_by_role("button", name="Sign in").wait_for()


def test_everything_is_reached_by_keyboard(open_page: Callable[..., Page], running: Running) -> None:
    page = open_page()
    page.goto("/")
    page.get_by_label("Name", exact=True).focus()
    page.keyboard.type("edmund.sallow")
    page.keyboard.press("Tab")
    page.keyboard.type(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto("/")
    page.get_by_role("heading", name="Overview").wait_for()
    reached: list[str] = []
    for _ in range(14):
        page.keyboard.press("Tab")
        reached.append(
            page.evaluate(
                "document.activeElement.getAttribute('aria-label') || "
                "document.activeElement.textContent.trim()"
            )
        )
    assert reached[0] == "Skip to main content"
    for name in ("Sources", "Users", "Access", "Applications", "Provisioning", "Activity", "Settings"):
        assert any(each.startswith(name) for each in reached), (name, reached)


def test_the_search_finds_users_groups_and_applications_on_every_page(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name, provider = fresh("una"), running.provider(fresh("source"))
    provider.user(
        f"{name}.kerrigan",
        displayName=f"Una {name}",
        externalId=f"HR-{name}",
        emails=[{"value": f"{name}@fernhollow.example"}],
    )
    provider.group(f"Night watch {name}")
    running.application(f"records-{name}")
    page = open_page(signed_in=True)
    page.goto("/provisioning/tasks")
    page.get_by_role("heading", name="Provisioning", level=1).wait_for()
    page.keyboard.press("/")
    dialog = page.get_by_role("dialog")
    field = dialog.get_by_role("textbox")
    for typed, kind, shown in (
        (f"{name}@fernhollow", "User", f"Una {name}"),
        (f"HR-{name}", "User", f"Una {name}"),
        (f"watch {name}", "Group", f"Night watch {name}"),
        (f"records-{name}", "Application", f"Records {name.title().replace('-', ' ')}"),
    ):
        field.fill(typed)
        expect(
            dialog.get_by_role("listitem").filter(has_text=kind).get_by_role("link", name=shown)
        ).to_be_visible()
    field.fill(f"nobody-{name}")
    expect(dialog).to_contain_text("No results for")
    field.fill(f"HR-{name}")
    expect(dialog.get_by_role("link", name=f"Una {name}")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text(f"Una {name}")
    expect(dialog).to_be_hidden()
    page.goto("/users")
    words = page.get_by_role("textbox", name="Name, user name or email")
    words.press("/")
    expect(words).to_have_value("/")
    expect(dialog).to_be_hidden()


def test_on_a_narrow_screen_the_band_is_a_list(open_page: Callable[..., Page], running: Running) -> None:
    page = open_page(400, 800, signed_in=True)
    page.goto("/")
    band = page.get_by_role("navigation", name="Main navigation")
    expect(band).to_be_hidden()
    page.get_by_role("button", name="Main navigation").click()
    band.get_by_role("link", name="Provisioning").click()
    page.get_by_role("heading", name="Provisioning", level=1).wait_for()
    expect(band).to_be_hidden()


def test_an_operator_sets_up_a_second_factor_and_signs_in_by_it(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name = fresh("honor.blackthorn")
    with running.dravo as dravo:
        password = dravo.operators.add(name, "help_desk")["password"]
    page = open_page()

    def enter(code: str | None = None) -> None:
        page.goto("/sign-in")
        page.get_by_label("Name", exact=True).fill(name)
        page.get_by_label("Password").fill(str(password))
        page.get_by_role("button", name="Sign in").click()
        if code is not None:
            page.get_by_label("Code from your app").fill(code)
            check_accessible(page)
            page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Overview").wait_for()

    enter()
    page.goto("/settings")
    part = page.get_by_role("region", name="Second factor")
    part.get_by_role("button", name="Set up").click()
    secret = part.locator("code").first.text_content() or ""
    part.get_by_label("Code from the app").fill(
        TOTP(base64.b32decode(secret), 6, hashes.SHA1(), 30).generate(int(time.time())).decode()
    )
    part.get_by_role("button", name="Enable", exact=True).click()
    recovery = part.get_by_role("status").locator("code").first.text_content() or ""
    check_accessible(page)
    page.context.clear_cookies()
    enter(recovery)
    page.goto("/settings")
    expect(page.get_by_role("region", name="Second factor")).to_contain_text("9 left")
