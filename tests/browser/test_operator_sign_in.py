"""The ways in beside a provider for users: codes by mail, operators by a source, per second factor that
everyone has.
"""

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


def test_by_a_code_that_is_mailed(
    open_page: Callable[..., Page], running: Running, letters: Letters, fresh: Fresh
) -> None:
    key, domain = fresh("volunteers"), f"{fresh('register')}.example"
    new = f"maribel.quay@{domain}"
    running.provider(key)
    page = open_page(signed_in=True)
    page.goto("/")

    # The mail server: a wrong one says what is wrong, a right one is tried.
    page.goto("/settings/organization")
    page.get_by_label("Host").fill("127.0.0.1")
    page.get_by_label("Port", exact=True).fill(str(free_port()))
    mail = page.get_by_role("form", name="Email server")
    page.get_by_label("Sender address").fill("dravo@fernhollow.example")
    choose(page.locator("form[aria-label='Email server'] .v-select"), "None")
    mail.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    page.get_by_label("Test recipient").fill("edmund.sallow@fernhollow.example")
    page.get_by_role("button", name="Send test email").click()
    expect(page.get_by_text("does not respond")).to_be_visible()
    check_accessible(page)
    page.get_by_label("Port", exact=True).fill(str(letters.smtp_port))
    mail.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    page.get_by_role("button", name="Send test email").click()
    expect(
        page.get_by_text("The server accepted the email to edmund.sallow@fernhollow.example.")
    ).to_be_visible()

    # The source: what is missing is listed; the questions hold the domain and whether users register.
    page.goto(f"/sources/{key}/sign-in")
    page.get_by_role("button", name="Emailed code").click()
    expect(page.get_by_text("Missing: the domains of the source")).to_be_visible()
    check_accessible(page)
    page.get_by_label("Group for new users").fill("Asked to help")
    page.get_by_role("button", name="Save", exact=True).click()
    with running.dravo as dravo:
        dravo.sign_ins.change(key, policy={"domains": [domain], "makes": True})
        page.reload()
        page.get_by_role("button", name="Enable for everyone", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name of the source").fill(f"{key.capitalize()} directory")
        dialog.get_by_role("button", name="Enable", exact=True).click()
        expect(page.get_by_text("All users of this source can sign in.")).to_be_visible()

        # A new user: the code, then the name.
        user = open_page(width=400)
        user.goto("/sign-in")
        user.get_by_label("Email address").fill(new)
        user.get_by_role("button", name="Continue").click()
        user.get_by_role("heading", name="Check your email").wait_for()
        form = user.get_by_role("form", name="Emailed code")
        form.get_by_role("textbox", name="Code").fill("1234 5678")
        form.get_by_role("button", name="Sign in").click()
        expect(form).to_contain_text("The code is wrong.")
        form.get_by_role("textbox", name="Code").fill(letters.code(new))
        form.get_by_role("button", name="Sign in").click()
        form.get_by_label("Given name").fill("Maribel")
        form.get_by_label("Family name").fill("Quay")
        form.get_by_role("button", name="Sign in").click()
        user.get_by_role("heading", name="Your applications").wait_for()
        expect(user.get_by_text("Maribel Quay, signed in with")).to_be_visible()

        # The user requests access; an operator approves; the application appears.
        rota = fresh("rota")
        running.application(rota)
        dravo.applications.change(rota, requestable=True)
        label = dravo.applications.get(rota)["label"]
        user.get_by_role("button", name="Request access").click()
        dialog = user.get_by_role("dialog")
        choose(dialog.locator(".v-select").filter(has_text="Application"), label)
        dialog.get_by_label("Why do you need access?").fill("I plan the weeding days.")
        check_accessible(user)
        dialog.get_by_role("button", name="Request", exact=True).click()
        request = user.get_by_role("listitem").filter(has_text="I plan the weeding days.")
        expect(request).to_contain_text("open")
        page.goto("/access/requests")
        row = page.get_by_role("row").filter(has_text="I plan the weeding days.")
        expect(row).to_contain_text("to be chosen")
        row.get_by_role("button", name="Approve").click()
        dialog = page.get_by_role("dialog")
        choose(dialog.locator(".v-select").filter(has_text="Role in"), "Viewer")
        dialog.get_by_label("Answer for the user").fill("Welcome, Maribel.")
        expect(dialog.get_by_role("status")).to_contain_text("1 gain")
        check_accessible(page)
        dialog.get_by_role("button", name="Approve", exact=True).click()
        expect(row).to_have_count(0)
        expect(user.get_by_role("heading", name=label)).to_be_visible()
        expect(request).to_contain_text("Answer: Welcome, Maribel.")

        # Anyone who looks after them sees that they are signed in, and ends it.
        page.goto(f"/users/{dravo.users.get(new)['id']}")
        way = (
            page.get_by_role("region", name="Sign-in options")
            .get_by_role("row")
            .filter(has_text=f"{key.capitalize()} directory")
        )
        expect(way).to_contain_text("opens")
        expect(way).to_contain_text("Linked since")
        user_sessions = page.get_by_role("region", name="Sessions")
        expect(user_sessions).to_contain_text(f"{key.capitalize()} directory")
        check_accessible(page)
        user_sessions.get_by_role("button", name="End all sessions").click()
        expect(user_sessions).to_have_count(0)
        user.reload()
        user.get_by_role("heading", name="You are signed out").wait_for()


def test_an_operator_signs_in_through_a_source(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, fresh: Fresh
) -> None:
    key, who, name = fresh("staff-id"), fresh("honor.blackthorn"), fresh("honor")
    provider.user(who, "Honor", "Blackthorn", ["Directors"])
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "super_administrator")["password"])
        dravo.sources.add(key, "Staff identities")
        dravo.sign_ins.change(key, protocol="saml", settings={"metadata_url": f"{provider.url}/metadata"})
    page = open_page(beside=provider.url)

    def enter(secret: str) -> None:
        page.goto("/sign-in")
        form = page.get_by_role("form", name="Operator sign-in")
        form.get_by_label("Name", exact=True).fill(name)
        form.get_by_label("Password").fill(secret)
        form.get_by_role("button", name="Sign in", exact=True).click()

    enter(password)
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto(f"/sources/{key}/sign-in")
    choose(page.locator(".v-select").filter(has_text="Who can sign in"), "Operators")
    expect(page.get_by_text("Operators link their own sign-in under Settings")).to_be_visible()
    page.get_by_role("button", name="Enable for everyone", exact=True).click()
    page.get_by_role("dialog").get_by_label("Name of the source").fill("Staff identities")
    page.get_by_role("dialog").get_by_role("button", name="Enable", exact=True).click()
    expect(
        page.get_by_text(
            "You could lock yourself out: you are not linked to this source and have no recovery codes."
        )
    ).to_be_visible()
    check_accessible(page)

    # Linked by themselves, it lets them in; then with recovery codes alone.
    page.goto("/settings")
    page.get_by_role("link", name="Link to Staff identities").click()
    page.get_by_role("button", name="Honor Blackthorn").click()
    ways = page.get_by_role("region", name="How you sign in")
    expect(ways).to_contain_text("not used yet")
    page.goto(f"/sources/{key}/sign-in")
    page.get_by_role("button", name="Enable for everyone", exact=True).click()
    expect(page.get_by_text("All users of this source can sign in.")).to_be_visible()
    page.context.clear_cookies()
    page.goto("/sign-in?to=/settings")
    page.get_by_role("link", name="Sign in with Staff identities").click()
    page.get_by_role("button", name="Honor Blackthorn").click()
    page.get_by_role("heading", name="Settings", level=1).wait_for()
    expect(ways).to_contain_text("last sign-in")
    ways.get_by_role("button", name="Create codes").click()
    page.get_by_role("dialog").get_by_role("button", name="Create", exact=True).click()
    shown = ways.get_by_role("status").locator("code")
    expect(shown).to_have_count(10)
    codes = shown.all_inner_texts()
    ways.get_by_role("button", name="Disable password sign-in").click()
    expect(ways).to_contain_text("your password is disabled")
    check_accessible(page)
    page.context.clear_cookies()
    enter(password)
    expect(page.get_by_text("The name or the password is wrong.")).to_be_visible()
    enter(codes[0])
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto("/settings/operators")
    expect(page.get_by_role("row").filter(has_text=name)).to_contain_text("source sign-in only")
    check_accessible(page)


def test_a_required_second_factor_precedes_all_pages(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name = fresh("dilys.prosser")
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "help_desk")["password"])
        running.change_setting("second_factor", True)
        try:
            page = open_page()
            page.goto("/users")
            page.get_by_label("Name", exact=True).fill(name)
            page.get_by_label("Password").fill(password)
            page.get_by_role("button", name="Sign in", exact=True).click()
            page.get_by_role("heading", name="Set up your second factor").wait_for()
            page.goto("/users")
            page.get_by_role("heading", name="Set up your second factor").wait_for()
            page.get_by_role("button", name="Set up").click()
            expect(page.get_by_role("img", name="QR code")).to_be_visible()
            check_accessible(page)
            secret = page.locator("code").first.text_content() or ""
            code = TOTP(base64.b32decode(secret), 6, hashes.SHA1(), 30).generate(int(time.time())).decode()
            page.get_by_label("Code from the app").fill(code)
            page.get_by_role("button", name="Enable", exact=True).click()
            page.get_by_role("button", name="I have saved the codes").click()
            page.get_by_role("heading", name="Overview").wait_for()
            page.goto("/settings")
            expect(page.get_by_text("A second factor is required for all operators.")).to_be_visible()
        finally:
            running.change_setting("second_factor", False)


def test_a_group_that_only_a_sign_in_test_has_shown_is_mapped_ahead(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, fresh: Fresh
) -> None:
    key, who, application, group = (
        fresh("contractors"),
        fresh("idris.vance"),
        fresh("glasshouse"),
        fresh("Glazing works"),
    )
    provider.user(who, "Idris", "Vance", [group])
    running.application(application, roles=("reader", "engineer"))
    with running.dravo as dravo:
        dravo.sources.add(key, "Contractors")
        dravo.sign_ins.change(key, protocol="saml", settings={"metadata_url": f"{provider.url}/metadata"})
        link = dravo.sign_ins.create_sign_in_test(key, who)["link"]
        tried = open_page(beside=provider.url)
        tried.goto(link)
        tried.get_by_role("button", name="Idris Vance").click()
        tried.get_by_role("heading", name="Test sign-in succeeded").wait_for()
        page = open_page(signed_in=True)
        page.goto(f"/applications/{application}")
        page.get_by_role("button", name="Assign role").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("combobox", name="Group").fill(group)
        page.get_by_role("option", name="reported at sign-in, not created yet").click()
        expect(dialog.get_by_role("combobox", name="Group")).to_have_value(
            f"{group} · Contractors · no members yet"
        )
        made = next(each for each in dravo.groups.list(source=key) if each["name"] == group)
        assert (made["members"], list(dravo.users.list(words=who))) == (0, [])


def test_an_operator_changes_their_own_password(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name, wanted = fresh("dilys.prosser"), "herbarium-cupboard-nine"
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "help_desk")["password"])
    page = open_page()

    def enter(secret: str) -> None:
        page.goto("/sign-in?to=/settings")
        page.get_by_label("Name", exact=True).fill(name)
        page.get_by_label("Password").fill(secret)
        page.get_by_role("button", name="Sign in", exact=True).click()

    enter(password)
    page.get_by_role("button", name="Change password").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Current password").fill("not-this-one-at-all")
    dialog.get_by_label("New password").fill(wanted)
    dialog.get_by_role("button", name="Change", exact=True).click()
    expect(dialog.get_by_text("The current password is wrong.")).to_be_visible()
    check_accessible(page)
    dialog.get_by_label("Current password").fill(password)
    dialog.get_by_role("button", name="Change", exact=True).click()
    expect(page.get_by_text("Your password is changed")).to_be_visible()
    page.context.clear_cookies()
    enter(password)
    expect(page.get_by_text("The name or the password is wrong.")).to_be_visible()
    enter(wanted)
    page.get_by_role("heading", name="Settings", level=1).wait_for()
