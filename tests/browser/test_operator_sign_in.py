"""The ways in beside a provider for people: codes by mail, operators by a source, a second factor that everybody has."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Iterator

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose
from tests.harness import Letters, Running, SignInProvider, free_port, sign_in_provider

Fresh = Callable[[str], str]


@pytest.fixture
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


def test_by_a_code_that_is_mailed(open_page: Callable[..., Page], running: Running, letters: Letters, fresh: Fresh) -> None:
    key, domain = fresh("volunteers"), f"{fresh('register')}.example"
    new = f"maribel.quay@{domain}"
    running.provider(key)
    page = open_page(signed_in=True)
    page.goto("/")

    # The mail server: a wrong one says what is wrong, a right one is tried.
    page.goto("/settings/house")
    page.get_by_label("Mail server").fill("127.0.0.1")
    page.get_by_label("Port").fill(str(free_port()))
    page.get_by_label("Address of the sender").fill("dravo@fernhollow.example")
    choose(page.locator("form[aria-label=Mail] .v-select"), "None")
    page.get_by_role("button", name="Keep this server").click()
    expect(page.get_by_text("Kept.")).to_be_visible()
    page.get_by_label("Address for a test").fill("edmund.sallow@fernhollow.example")
    page.get_by_role("button", name="Send a test").click()
    expect(page.get_by_text("does not answer")).to_be_visible()
    check_accessible(page)
    page.get_by_label("Port").fill(str(letters.smtp_port))
    page.get_by_role("button", name="Keep this server").click()
    expect(page.get_by_text("Kept.")).to_be_visible()
    page.get_by_role("button", name="Send a test").click()
    expect(page.get_by_text("The server took a letter to edmund.sallow@fernhollow.example.")).to_be_visible()

    # The source: what is missing is listed; the questions hold the domain and whether people register.
    page.goto(f"/sources/{key}/sign-in")
    page.get_by_role("button", name="By a code that is mailed").click()
    expect(page.get_by_text("Missing yet: the domains of the addresses")).to_be_visible()
    check_accessible(page)
    page.get_by_label("Group into which new people register").fill("Asked to help")
    page.get_by_role("button", name="Keep these settings").click()
    with running.dravo as dravo:
        dravo.sign_ins.change(key, policy={"domains": [domain], "makes": True})
        page.reload()
        page.get_by_role("button", name="For everybody", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name of the source").fill(f"{key.capitalize()} directory")
        dialog.get_by_role("button", name="Put it in force").click()
        expect(page.get_by_text("Everybody whom it lets in signs in by it.")).to_be_visible()

        # Somebody new: the code, then their names.
        person = open_page(width=400)
        person.goto("/sign-in")
        person.get_by_label("Your e-mail address").fill(new)
        person.get_by_role("button", name="Go on").click()
        person.get_by_role("heading", name="Look into your mail").wait_for()
        form = person.get_by_role("form", name="Code by mail")
        form.get_by_role("textbox", name="Code").fill("1234 5678")
        form.get_by_role("button", name="Sign in").click()
        expect(form).to_contain_text("This is not the code.")
        form.get_by_role("textbox", name="Code").fill(letters.code(new))
        form.get_by_role("button", name="Sign in").click()
        form.get_by_label("Given name").fill("Maribel")
        form.get_by_label("Family name").fill("Quay")
        form.get_by_role("button", name="Sign in").click()
        person.get_by_role("heading", name="Your applications").wait_for()
        expect(person.get_by_text("Maribel Quay, signed in by")).to_be_visible()

        # Whoever looks after them sees that they are signed in, and ends it.
        page.goto(f"/users/{dravo.people.get(new)['id']}")
        way = page.get_by_role("region", name="When they sign in").get_by_role("row").filter(has_text=f"{key.capitalize()} directory")
        expect(way).to_contain_text("opens")
        expect(way).to_contain_text("They are bound to it since")
        visits = page.get_by_role("region", name="Signed in now")
        expect(visits).to_contain_text(f"{key.capitalize()} directory")
        check_accessible(page)
        visits.get_by_role("button", name="Sign them out everywhere").click()
        expect(visits).to_have_count(0)
        person.reload()
        person.get_by_role("heading", name="You are signed out").wait_for()


def test_an_operator_comes_in_by_a_source(open_page: Callable[..., Page], running: Running, provider: SignInProvider, fresh: Fresh) -> None:
    key, who, name = fresh("staff-id"), fresh("honor.blackthorn"), fresh("honor")
    provider.person(who, "Honor", "Blackthorn", ["Directors"])
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "super_administrator")["password"])
        dravo.sources.add(key, "Staff identities")
        dravo.sign_ins.change(key, protocol="saml", settings={"metadata_address": f"{provider.url}/metadata"})
    page = open_page(beside=provider.url)

    def enter(secret: str) -> None:
        page.goto("/sign-in")
        form = page.get_by_role("form", name="For operators")
        form.get_by_label("Name").fill(name)
        form.get_by_label("Password").fill(secret)
        form.get_by_role("button", name="Sign in", exact=True).click()

    enter(password)
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto(f"/sources/{key}/sign-in")
    choose(page.locator(".v-select").filter(has_text="Whom it lets in"), "Operators")
    expect(page.get_by_text("nobody becomes one by a name")).to_be_visible()
    page.get_by_role("button", name="For everybody", exact=True).click()
    page.get_by_role("dialog").get_by_label("Name of the source").fill("Staff identities")
    page.get_by_role("dialog").get_by_role("button", name="Put it in force").click()
    expect(page.get_by_text("Your own way in is not proved")).to_be_visible()
    check_accessible(page)

    # Linked by themselves, it lets them in; then with recovery codes alone.
    page.goto("/settings")
    page.get_by_role("link", name="Link yourself to Staff identities").click()
    page.get_by_role("button", name="Honor Blackthorn").click()
    ways = page.get_by_role("region", name="How you come in")
    expect(ways).to_contain_text("has not let you in yet")
    page.goto(f"/sources/{key}/sign-in")
    page.get_by_role("button", name="For everybody", exact=True).click()
    expect(page.get_by_text("Everybody whom it lets in signs in by it.")).to_be_visible()
    page.context.clear_cookies()
    page.goto("/sign-in?to=/settings")
    page.get_by_role("link", name="Sign in by Staff identities").click()
    page.get_by_role("button", name="Honor Blackthorn").click()
    page.get_by_role("heading", name="Settings", level=1).wait_for()
    expect(ways).to_contain_text("let you in")
    ways.get_by_role("button", name="Make some").click()
    page.get_by_role("dialog").get_by_role("button", name="Make them").click()
    codes = ways.get_by_role("status").locator("code").all_inner_texts()
    assert len(codes) == 10
    ways.get_by_role("button", name="By a source alone").click()
    expect(ways).to_contain_text("your password counts for nothing")
    check_accessible(page)
    page.context.clear_cookies()
    enter(password)
    expect(page.get_by_text("Name and password do not fit.")).to_be_visible()
    enter(codes[0])
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto("/settings/operators")
    expect(page.get_by_role("row").filter(has_text=name)).to_contain_text("by a source alone")
    check_accessible(page)


def test_a_second_factor_that_everybody_has_comes_before_anything_else(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    name = fresh("dilys.prosser")
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "help_desk")["password"])
        running.change_setting("second_factor", 1)
        try:
            page = open_page()
            page.goto("/users")
            page.get_by_label("Name").fill(name)
            page.get_by_label("Password").fill(password)
            page.get_by_role("button", name="Sign in", exact=True).click()
            page.get_by_role("heading", name="Set up your second factor").wait_for()
            page.goto("/users")
            page.get_by_role("heading", name="Set up your second factor").wait_for()
            page.get_by_role("button", name="Set one up").click()
            expect(page.get_by_role("img", name="QR code")).to_be_visible()
            check_accessible(page)
            secret = page.locator("code").first.text_content() or ""
            code = TOTP(base64.b32decode(secret), 6, hashes.SHA1(), 30).generate(int(time.time())).decode()
            page.get_by_label("Code that the app shows").fill(code)
            page.get_by_role("button", name="Turn it on").click()
            page.get_by_role("button", name="I have kept the codes").click()
            page.get_by_role("heading", name="Overview").wait_for()
            page.goto("/settings")
            expect(page.get_by_text("Every operator here has one, so that it stays on.")).to_be_visible()
        finally:
            running.change_setting("second_factor", 0)


def test_a_group_that_only_a_trial_has_shown_is_mapped_ahead(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, fresh: Fresh
) -> None:
    key, who, application, group = fresh("contractors"), fresh("idris.vance"), fresh("glasshouse"), fresh("Glazing works")
    provider.person(who, "Idris", "Vance", [group])
    running.application(application, roles=("reader", "engineer"))
    with running.dravo as dravo:
        dravo.sources.add(key, "Contractors")
        dravo.sign_ins.change(key, protocol="saml", settings={"metadata_address": f"{provider.url}/metadata"})
        link = dravo.sign_ins.begin_trial(key, who)["link"]
        tried = open_page(beside=provider.url)
        tried.goto(link)
        tried.get_by_role("button", name="Idris Vance").click()
        tried.get_by_role("heading", name="It works").wait_for()
        page = open_page(signed_in=True)
        page.goto(f"/applications/{application}")
        page.get_by_role("button", name="Give a role").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("combobox", name="Group").fill(group)
        page.get_by_role("option", name="seen in a sign-in, not here yet").click()
        expect(dialog.get_by_role("combobox", name="Group")).to_have_value(f"{group} · Contractors · nobody yet")
        made = next(each for each in dravo.groups.list(source=key) if each["name"] == group)
        assert (made["members"], list(dravo.people.list(words=who))) == (0, [])


def test_an_operator_changes_their_own_password(open_page: Callable[..., Page], running: Running, fresh: Fresh) -> None:
    name, wanted = fresh("dilys.prosser"), "herbarium-cupboard-nine"
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "help_desk")["password"])
    page = open_page()

    def enter(secret: str) -> None:
        page.goto("/sign-in?to=/settings")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(secret)
        page.get_by_role("button", name="Sign in", exact=True).click()

    enter(password)
    page.get_by_role("button", name="Change my password").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Present password").fill("not-this-one-at-all")
    dialog.get_by_label("New password").fill(wanted)
    dialog.get_by_role("button", name="Change it").click()
    expect(dialog.get_by_text("This is not your present password.")).to_be_visible()
    check_accessible(page)
    dialog.get_by_label("Present password").fill(password)
    dialog.get_by_role("button", name="Change it").click()
    expect(page.get_by_text("Your password is changed")).to_be_visible()
    page.context.clear_cookies()
    enter(password)
    expect(page.get_by_text("Name and password do not fit.")).to_be_visible()
    enter(wanted)
    page.get_by_role("heading", name="Settings", level=1).wait_for()
