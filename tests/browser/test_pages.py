"""The rooms of the console one by one: filters, pages, dialogs, errors, light and dark."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, find_and_choose, sign_in
from tests.harness import PASSWORD, Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_a_long_list_is_paged_and_its_filters_stay_in_the_address(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    provider, mark = running.provider(fresh("source")), fresh("crowd")
    people = [provider.person(f"{mark}.{number:03}", displayName=f"{mark} {number:03}") for number in range(60)]
    provider.set_active(people[7], False)
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("textbox", name="Name, user name or e-mail").fill(mark)
    page.wait_for_url(f"**/users?q={mark}")
    expect(page.get_by_text("1 to 50 of 60")).to_be_visible()
    page.get_by_role("button", name="Next").click()
    expect(page.get_by_text("51 to 60 of 60")).to_be_visible()
    expect(page.get_by_role("link", name=f"{mark} 059")).to_be_visible()
    expect(page.get_by_role("button", name="Next")).to_be_disabled()
    page.get_by_role("button", name="Previous").click()
    expect(page.get_by_role("link", name=f"{mark} 000")).to_be_visible()
    page.goto(f"/users?q={mark}&state=inactive")
    expect(page.get_by_role("row")).to_have_count(2)
    expect(page.get_by_role("link", name=f"{mark} 007")).to_be_visible()
    page.get_by_role("textbox", name="Name, user name or e-mail").fill(f"{mark} nobody")
    expect(page.get_by_text("Nobody fits")).to_be_visible()


def test_why_not_is_answered_where_the_doubt_arises(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("dilys")
    running.application(records)
    provider = running.provider(fresh("source"))
    person = provider.person(name, displayName="Dilys Prosser")
    group = provider.group(fresh("Guides"))
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        user = dravo.people.get(name)["id"]
    page = open_page(signed_in=True)
    page.goto(f"/users/{user}")
    expect(page.get_by_text("No access to anything")).to_be_visible()
    page.locator(".v-select").filter(has_text="Why not").click()
    page.get_by_role("option", name=records.replace("-", " ").title()).click()
    told = page.get_by_role("status")
    expect(told).to_contain_text("Dilys Prosser has no access")
    expect(told).to_contain_text("Being in one of these groups would give it")
    provider.add(group, person)
    expect(page.get_by_role("region", name="Access, and why")).to_contain_text("by group, by edmund.sallow")
    provider.set_active(person, False)
    expect(page.get_by_text("Whoever is not active has no access")).to_be_visible()
    expect(page.get_by_text("Access that has ended")).to_be_visible()
    expect(page.get_by_role("region", name="Accounts without access")).to_contain_text("inactive")


def test_a_failed_delivery_is_read_mended_and_sent_again(open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("una")
    running.application(records, app)
    app.faults(refuse=True)
    running.provider(fresh("source")).person(name, displayName=f"Una {name}")
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", person=name)
        running.settled(records)
        assert dravo.deliveries.list(application=records, state="failed").total()
    page = open_page(signed_in=True)
    page.goto("/")
    needs = page.get_by_role("region", name="What needs a person now")
    expect(needs).to_contain_text("Seats are used up")
    page.goto(f"/provisioning/tasks?application={records}&state=failed")
    page.get_by_role("link", name=f"Una {name}").click()
    expect(page.get_by_role("region", name="What the application said")).to_contain_text("Seats are used up")
    app.faults(refuse=False)
    page.get_by_role("button", name="Again now").click()
    expect(page.locator(".head")).to_contain_text("done")
    assert name in app.accounts()


def test_an_application_that_is_paused_says_why_and_is_resumed(open_page: Callable[..., Page], running: Running, app: StandIn, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("tamsin")
    running.application(records, app)
    good = app.token
    app.faults(token="another")
    running.provider(fresh("source")).person(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", person=name)
        eventually(lambda: dravo.applications.get(records)["state"] == "paused")
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/settings")
    expect(page.get_by_text("The application turned the token away")).to_be_visible()
    check_accessible(page)
    page.get_by_role("button", name="Check again").click()
    steps = page.get_by_role("status", name="Connection check")
    expect(steps).to_contain_text("The token is turned away")
    app.faults(token=good)
    page.get_by_role("button", name="Resume delivering").click()
    expect(page.locator(".head")).to_contain_text("working")
    running.settled(records)
    assert name in app.accounts()
    page.get_by_role("button", name="Pause delivering").click()
    expect(page.locator(".head")).to_contain_text("paused")


def test_a_setting_that_cannot_be_is_refused_and_what_was_typed_stays(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    records = fresh("records")
    running.application(records)
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/settings")
    page.get_by_label("Requests at a time").fill("99")
    page.get_by_role("button", name="Keep these settings").click()
    expect(page.get_by_role("alert")).to_contain_text("Between 1 and 32")
    expect(page.get_by_label("Requests at a time")).to_have_value("99")
    page.get_by_label("SCIM base address").fill("records.fernhollow.example")
    page.get_by_role("button", name="Keep and check").click()
    expect(page.get_by_role("alert").filter(has_text="https://")).to_contain_text("does not begin with https://")
    page.get_by_label("Role key").fill("Not A Key")
    page.get_by_label("Role name").fill("x")
    page.get_by_role("button", name="Add the role").click()
    expect(page.get_by_role("alert").filter(has_text="cannot be a key")).to_be_visible()
    expect(page.get_by_label("Role key")).to_have_value("Not A Key")
    page.goto("/applications")
    page.get_by_role("button", name="Add an application").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Label").fill("Twice")
    dialog.get_by_role("textbox", name="Key").fill(records)
    dialog.get_by_role("button", name="Add the application").click()
    expect(dialog.get_by_role("alert").filter(has_text="already")).to_be_visible()
    expect(dialog.get_by_label("Label")).to_have_value("Twice")
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()


def test_one_person_is_given_a_role_until_a_day(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("contractor")
    running.application(records)
    running.provider(fresh("source")).person(name, displayName=f"Con {name}")
    page = open_page(signed_in=True)
    page.goto(f"/applications/{records}/mapping")
    page.get_by_role("button", name="Give a role").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("One person").check()
    find_and_choose(dialog.get_by_role("combobox", name="Person"), name, f"Con {name}")
    dialog.get_by_label("Until (that day included)").fill("2031-04-02")
    dialog.get_by_label("Note").fill("Mends the roof")
    expect(dialog.get_by_role("status")).to_contain_text("1 gain")
    dialog.get_by_role("button", name="Give the role").click()
    expect(page.get_by_role("cell", name="Mends the roof")).to_be_visible()
    with running.dravo as dravo:
        until = dravo.assignments.list(application=records).page().items[0]["until"]
    assert until is not None
    assert until.startswith("2031-04-0")
    page.goto("/access/list")
    page.get_by_role("textbox", name="Person").fill(name)
    expect(page.get_by_role("row").filter(has_text=f"Con {name}")).to_contain_text("direct, by edmund.sallow")


def test_tokens_and_operators_are_made_shown_once_and_shut_out(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    label, operator = fresh("Nightly report"), fresh("honor")
    page = open_page(signed_in=True)
    page.goto("/")
    page.get_by_role("link", name="Settings").click()
    page.get_by_role("button", name="Create token").click()
    page.get_by_role("dialog").get_by_label("Label").fill(label)
    page.get_by_role("dialog").get_by_role("button", name="Create token").click()
    secret = page.get_by_role("status").filter(has_text="API token, shown this once").locator("code").inner_text()
    assert secret.startswith("dravo_api_")
    row = page.get_by_role("row").filter(has_text=label)
    row.get_by_role("button", name="Revoke").click()
    expect(row).to_contain_text("revoked")
    page.get_by_role("tab", name="Operators").click()
    page.get_by_role("button", name="Add an operator").click()
    page.get_by_role("dialog").get_by_label("Name to sign in with").fill(operator)
    page.get_by_role("dialog").get_by_role("button", name="Add the operator").click()
    password = page.get_by_role("status").filter(has_text=f"Password of {operator}").locator("code").inner_text()
    check_accessible(page)
    other = open_page()
    other.goto("/settings")
    other.get_by_label("Name").fill(operator)
    other.get_by_label("Password").fill(password)
    other.get_by_role("button", name="Sign in").click()
    other.get_by_role("heading", name="Settings", level=1).wait_for()
    expect(other.get_by_role("tab", name="Operators")).to_have_count(0)
    page.get_by_role("row").filter(has_text=operator).get_by_role("button", name="Shut out").click()
    other.goto("/users")
    other.get_by_role("button", name="Sign in").wait_for()
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
    page.get_by_label("Name").focus()
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
        reached.append(page.evaluate("document.activeElement.getAttribute('aria-label') || document.activeElement.textContent.trim()"))
    assert reached[0] == "Skip to the page"
    for name in ("Sources", "Users", "Access", "Applications", "Provisioning", "Activity", "Settings"):
        assert any(each.startswith(name) for each in reached), (name, reached)


def test_anybody_and_anything_is_found_from_anywhere(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    name, provider = fresh("una"), running.provider(fresh("source"))
    provider.person(f"{name}.kerrigan", displayName=f"Una {name}", externalId=f"HR-{name}", emails=[{"value": f"{name}@fernhollow.example"}])
    provider.group(f"Night watch {name}")
    running.application(f"records-{name}")
    page = open_page(signed_in=True)
    page.goto("/provisioning/tasks")
    page.get_by_role("heading", name="Provisioning", level=1).wait_for()
    page.keyboard.press("/")
    dialog = page.get_by_role("dialog")
    field = dialog.get_by_role("textbox")
    for typed, kind, shown in (
        (f"{name}@fernhollow", "Person", f"Una {name}"), (f"HR-{name}", "Person", f"Una {name}"), (f"watch {name}", "Group", f"Night watch {name}"),
        (f"records-{name}", "Application", f"Records {name.title().replace('-', ' ')}"),
    ):  # fmt: skip
        field.fill(typed)
        expect(dialog.get_by_role("listitem").filter(has_text=kind).get_by_role("link", name=shown)).to_be_visible()
    field.fill(f"nobody-{name}")
    expect(dialog).to_contain_text("Nobody and nothing here is called")
    field.fill(f"HR-{name}")
    expect(dialog.get_by_role("link", name=f"Una {name}")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text(f"Una {name}")
    expect(dialog).to_be_hidden()
    page.goto("/users")
    words = page.get_by_role("textbox", name="Name, user name or e-mail")
    words.press("/")
    expect(words).to_have_value("/")
    expect(dialog).to_be_hidden()


def test_on_a_narrow_screen_the_band_is_a_list(open_page: Callable[..., Page], running: Running) -> None:
    page = open_page(400, 800, signed_in=True)
    page.goto("/")
    band = page.get_by_role("navigation", name="Stages")
    expect(band).to_be_hidden()
    page.get_by_role("button", name="Stages").click()
    band.get_by_role("link", name="Provisioning").click()
    page.get_by_role("heading", name="Provisioning", level=1).wait_for()
    expect(band).to_be_hidden()


def test_an_operator_sets_up_a_second_factor_and_signs_in_by_it(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    name = fresh("honor.blackthorn")
    with running.dravo as dravo:
        password = dravo.operators.add(name, "help_desk")["password"]
    page = open_page()

    def enter(code: str | None = None) -> None:
        page.goto("/sign-in")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(str(password))
        page.get_by_role("button", name="Sign in").click()
        if code is not None:
            page.get_by_label("Code that your app shows").fill(code)
            check_accessible(page)
            page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Overview").wait_for()

    enter()
    page.goto("/settings")
    part = page.get_by_role("region", name="Your second factor")
    part.get_by_role("button", name="Set one up").click()
    secret = part.locator("code").first.text_content() or ""
    part.get_by_label("Code that the app shows").fill(TOTP(base64.b32decode(secret), 6, hashes.SHA1(), 30).generate(int(time.time())).decode())
    part.get_by_role("button", name="Turn it on").click()
    recovery = part.get_by_role("status").locator("code").first.text_content() or ""
    check_accessible(page)
    page.context.clear_cookies()
    enter(recovery)
    page.goto("/settings")
    expect(page.get_by_role("region", name="Your second factor")).to_contain_text("9 recovery codes are left")
