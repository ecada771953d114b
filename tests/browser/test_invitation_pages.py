"""Local users in the console: invited from a file, with a password and a passkey, and with a one-time
password.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import check_accessible
from tests.harness import Letters, Running

Fresh = Callable[[str], str]
PASSWORD, OTHER = "tulip-Marrow-9-lantern", "seven-Otters-drum-inland"


def with_authenticator(page: Page) -> None:
    """Give a browser an authenticator that answers by itself."""
    session = page.context.new_cdp_session(page)
    session.send("WebAuthn.enable")
    options = {
        "protocol": "ctap2",
        "transport": "internal",
        "hasResidentKey": True,
        "hasUserVerification": True,
        "isUserVerified": True,
        "automaticPresenceSimulation": True,
    }
    session.send("WebAuthn.addVirtualAuthenticator", {"options": options})


def password_form(page: Page) -> Locator:
    """Return the form for the password; beside the only source of a service, it is one of two choices."""
    form = page.get_by_role("form", name="Password sign-in")
    choice = page.get_by_role("button", name="Password", exact=True)
    expect(choice.or_(form)).to_be_visible()
    if choice.count():
        choice.click()
    return form


def give_password(page: Page, password: str) -> None:
    form = password_form(page)
    form.get_by_label("Password").fill(password)
    form.get_by_role("button", name="Sign in").click()


def by_name(running: Running) -> str:
    """Return the address of the service by a name: passkeys belong to a name, never to an IP address."""
    return f"http://localhost:{running.port}"


def test_three_are_invited_from_a_file_with_a_bad_line_and_one_is_withdrawn(
    open_page: Callable[..., Page], mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    group = fresh("Guests")
    names = [fresh(each) for each in ("ida", "dario", "zora")]
    addresses = [f"{each}@guests.example" for each in names]
    with mailing.dravo as dravo:
        dravo.groups.add(group)
    lines = [
        "email,given_name,family_name",
        f"{addresses[0]},Ida,{names[0].title()}",
        "not-an-address,No,Body",
        f"{addresses[1]},Dário,{names[1].title()}",
        f"{addresses[2]},Zora,{names[2].title()}",
    ]
    page = open_page(signed_in=True)
    page.goto("/invitations")
    page.get_by_role("button", name="Invite users").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("from a CSV file").check()
    content = "\n".join(lines).encode("windows-1252")
    dialog.locator("input[type=file]").set_input_files(
        {"name": "guests.csv", "mimeType": "text/csv", "buffer": content}
    )
    expect(dialog).to_contain_text("Line 3: 'not-an-address' is not an email address.")
    check_accessible(page)
    dialog.get_by_role("button", name="Invite 3 users").click()
    expect(page.get_by_role("dialog", name="Invited users")).to_contain_text("3 users created")
    page.get_by_role("button", name="Close").click()
    row = page.get_by_role("table", name="Invitations").get_by_role("row").filter(has_text=addresses[2])
    expect(row).to_contain_text("open")
    link = letters.link(addresses[2], "invitation")
    row.get_by_role("button", name=re.compile("Withdraw")).click()
    page.get_by_role("dialog").get_by_role("button", name="Withdraw", exact=True).click()
    expect(row).to_contain_text("withdrawn")
    theirs = open_page()
    theirs.goto(link)
    expect(theirs.get_by_role("alert")).to_contain_text("used, expired or withdrawn")
    page.goto(f"/users?q={names[0]}")
    expect(page.get_by_role("row").filter(has_text=addresses[0]).first).to_contain_text("pending")


def test_an_invitation_is_accepted_with_a_password_and_signs_in_with_a_passkey(
    open_page: Callable[..., Page], mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    desk, address = fresh("desk"), f"{fresh('ida')}@guests.example"
    mailing.application(desk)
    with mailing.dravo as dravo:
        user = {"email": address, "given_name": "Ida", "family_name": "Vosper"}
        dravo.invitations.create([user], application=desk, role="viewer")
    page = open_page(beside=by_name(mailing))
    with_authenticator(page)
    page.goto(by_name(mailing) + letters.link(address, "invitation"))
    expect(page.get_by_role("heading", name="Welcome, Ida Vosper")).to_be_visible()
    page.get_by_label("New password").fill("idavosper2026")
    page.get_by_role("button", name="Accept").click()
    expect(page.get_by_text("The password contains your name")).to_be_visible()
    page.get_by_label("New password").fill(PASSWORD)
    page.get_by_role("button", name="Accept").click()
    expect(page.get_by_role("heading", name=desk.replace("-", " ").title())).to_be_visible()

    page.get_by_role("link", name="Security").click()
    page.get_by_role("button", name="Add passkey").click()
    page.get_by_label("Name of the passkey").fill("Laptop")
    page.get_by_role("dialog").get_by_role("button", name="Add").click()
    expect(page.get_by_text("Recovery codes (shown only once)")).to_be_visible()
    page.get_by_role("button", name="I have stored them").click()
    expect(page.get_by_text("Recovery codes (shown only once)")).to_have_count(0)
    expect(page.get_by_text("Passkey: Laptop")).to_be_visible()
    page.get_by_role("link", name="Your applications").click()
    page.get_by_role("button", name="Sign out").click()
    page.get_by_role("link", name="Sign in again").click()
    page.get_by_label("Email address or user name").fill(address)
    page.get_by_role("button", name="Continue").click()
    give_password(page, PASSWORD)
    page.get_by_role("heading", name="Second factor").wait_for()
    page.get_by_role("button", name="Use passkey").click()
    expect(page.get_by_role("heading", name="Your applications")).to_be_visible()


def test_a_user_with_a_one_time_password_chooses_a_password_at_the_first_sign_in(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name = fresh("kiosk")
    page = open_page(signed_in=True)
    page.goto("/users")
    page.get_by_role("button", name="Invite users").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("One-time passwords in place of emails").check()
    dialog.get_by_label("Email addresses").fill(name)
    dialog.get_by_role("button", name="Create 1 user").click()
    listed = page.get_by_role("table", name="One-time passwords")
    given = listed.get_by_role("row").filter(has_text=name).locator("code").text_content() or ""
    # A click beside the dialog does not lose what is shown once.
    page.keyboard.press("Escape")
    page.get_by_role("button", name="I have stored them").click()
    expect(listed).to_have_count(0)

    theirs = open_page()
    theirs.goto("/sign-in")
    theirs.get_by_label("Email address or user name").fill(name)
    theirs.get_by_role("button", name="Continue").click()
    give_password(theirs, given)
    theirs.get_by_role("heading", name="Choose your password").wait_for()
    theirs.get_by_label("New password").fill(OTHER)
    theirs.get_by_role("button", name="Sign in").click()
    expect(theirs.get_by_role("heading", name="Your applications")).to_be_visible()
    page.goto(f"/users?q={name}")
    expect(page.get_by_role("row").filter(has_text=name).first).to_contain_text("active")


def test_an_operator_adds_a_passkey_and_signs_in_with_it(
    open_page: Callable[..., Page], running: Running, fresh: Fresh
) -> None:
    name = fresh("honor.blackthorn")
    with running.dravo as dravo:
        password = str(dravo.operators.add(name, "help_desk")["password"])
    page = open_page(beside=by_name(running))
    with_authenticator(page)

    def enter() -> None:
        page.goto(f"{by_name(running)}/sign-in")
        form = page.get_by_role("form", name="Operator sign-in")
        form.get_by_label("Name", exact=True).fill(name)
        form.get_by_label("Password").fill(password)
        form.get_by_role("button", name="Sign in").click()

    enter()
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto(f"{by_name(running)}/settings")
    page.get_by_role("button", name="Add passkey").click()
    page.get_by_role("dialog").get_by_role("button", name="Add").click()
    page.get_by_role("button", name="I have stored them").click()
    page.context.clear_cookies()
    enter()
    page.get_by_role("button", name="Use passkey").click()
    page.get_by_role("heading", name="Overview").wait_for()
    page.goto(f"{by_name(running)}/settings")
    page.get_by_role("button", name="Delete passkey Passkey").click()
    page.get_by_role("dialog").get_by_role("button", name="Use passkey").click()
    expect(page.get_by_text("Not set up. Your password alone is enough")).to_be_visible()


def test_a_forgotten_password_is_replaced_by_the_link_of_an_email(
    open_page: Callable[..., Page], mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    address = f"{fresh('zora')}@guests.example"
    with mailing.dravo as dravo:
        dravo.invitations.create([{"email": address, "given_name": "Zora"}], with_passwords=True)
    page = open_page()
    page.goto("/sign-in")
    page.get_by_label("Email address or user name").fill(address)
    page.get_by_role("button", name="Continue").click()
    password_form(page).get_by_role("button", name="Forgot password").click()
    expect(page.get_by_role("status")).to_contain_text("we have sent a link")
    page.goto(letters.link(address, "new-password"))
    page.get_by_label("New password").fill(OTHER)
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status")).to_contain_text("Your password is changed")
