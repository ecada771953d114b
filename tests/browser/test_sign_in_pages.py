"""Sign-in set up from nothing in the console, tried, repaired, enabled, and used."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, choose
from tests.harness import Browser, Running, SignInProvider, StandIn, sign_in_provider
from tests.scale import NIGHTLY

Fresh = Callable[[str], str]


@pytest.fixture
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


# What is seen at the browser, what is wrong at the provider, and how it is named to anyone who looks after
# it.
MISTAKES: tuple[tuple[str, dict[str, object], str], ...] = (
    ("You are not signed in", {"other_certificate": True}, "certificate"),
    ("You are not signed in", {"wrong_audience": True}, "entity id"),
    ("You are not signed in", {"wrong_address": True}, "address"),
    ("You are not signed in", {"not_assigned": True}, "assigned"),
    ("Test sign-in succeeded", {"ids_for_names": True}, "looks like an ID"),
    ("Test sign-in succeeded", {"no_groups": True}, "No claim contains groups (expected: "),
    ("Test sign-in succeeded", {"namespaced": True}, "' is read as '"),
    ("Test sign-in succeeded", {"letter_case": True}, "It would work"),
    ("Test sign-in succeeded", {}, "None of these groups is mapped to a role:"),
)


def test_from_nothing_to_a_user_who_uses_their_application(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, app: StandIn, fresh: Fresh
) -> None:
    label, who, application = fresh("Contractors"), fresh("idris.vance"), fresh("glasshouse")
    group = f"Glazing works {who[-3:]}"
    provider.user(who, "Idris", "Vance", [group])
    running.application(application, app, roles=("reader", "engineer"))
    page = open_page(signed_in=True)
    page.goto("/")

    # A source by which users sign in: first its protocol, then the provider's metadata, pasted.
    page.goto("/sources")
    page.get_by_role("button", name="Add source").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Sign-in: users sign in").check()
    dialog.get_by_label("Label").fill(label)
    dialog.get_by_role("button", name="Add", exact=True).click()
    page.get_by_role("button", name="SAML 2.0").click()
    expect(page.get_by_text("Missing: the entity ID of the provider")).to_be_visible()
    check_accessible(page)
    page.get_by_text("Or paste or upload the metadata").click()
    page.get_by_label("Metadata", exact=True).fill(
        httpx.get(f"{provider.url}/metadata", trust_env=False).text
    )
    page.get_by_role("button", name="Save metadata").click()
    expect(page.get_by_text(f"{provider.url}/entity")).to_be_visible()
    key = page.url.split("/sources/")[1].split("/")[0]

    # Enabled only for those who look away from a test sign-in: the name is asked for.
    page.get_by_role("button", name="Enable for everyone", exact=True).click()
    expect(page.get_by_role("dialog")).to_contain_text("These settings are not tested")
    page.get_by_role("dialog").get_by_role("button", name="Cancel").click()

    # A test sign-in that fails, with its hint; and one that works.
    page.get_by_role("tab", name="Sign-in history").click()

    provider.faults(clock_skew=900)
    page.get_by_label("User name or email").fill(who)
    page.get_by_role("button", name="Create link").click()
    link = page.get_by_text(f"{running.url}/sso/{key}/start?sign_in_test=").last.text_content() or ""
    other = open_page(beside=provider.url)
    other.goto(link)
    other.get_by_role("button", name="Idris Vance").click()
    expect(other.get_by_role("heading")).to_contain_text("You are not signed in")
    page.reload()
    page.get_by_role("button", name="Open").first.click()
    expect(page.locator("section.opened")).to_contain_text("clock")

    # The other mistakes, tried without a window: each is named in its trace.
    with running.dravo as dravo:
        for seen, faults, named in MISTAKES if NIGHTLY else MISTAKES[::4]:
            provider.faults(**faults)
            shown = Browser().sign_in(dravo.sign_ins.create_sign_in_test(key, who)["link"], who)
            assert seen in shown.text
            page.reload()
            page.get_by_role("button", name="Open").first.click()
            expect(page.locator("section.opened")).to_contain_text(named)

    # First the pilot group, which somebody else is not in; then everyone.
    page.get_by_role("tab", name="Sign-in", exact=True).click()
    page.get_by_label("Pilot group").fill(group)
    page.get_by_role("button", name="Enable for pilot group").click()
    expect(page.get_by_text(f"Only members of the group '{group}' can sign in.")).to_be_visible()
    provider.user(f"{who}-too", "Odalys", "Brandt", ["Scaffolders"])
    outside = open_page(beside=provider.url)
    outside.goto(f"/sso/{key}/start")
    outside.get_by_role("button", name="Odalys Brandt").click()
    expect(outside.get_by_text("This sign-in is not enabled for you yet.")).to_be_visible()
    check_accessible(outside)
    page.get_by_role("button", name="Enable for everyone", exact=True).click()
    expect(page.get_by_text("All users of this source can sign in.")).to_be_visible()
    user = open_page(beside=provider.url)
    user.goto(f"/sso/{key}/start")
    user.get_by_role("button", name="Idris Vance").click()
    user.get_by_role("heading", name="Your applications").wait_for()
    expect(user.get_by_text("No applications yet")).to_be_visible()
    check_accessible(user)
    with running.dravo as dravo:
        dravo.assignments.add(application, "reader", source=key, group=group)
        dravo.applications.change(application, address=f"http://127.0.0.1:{app.port}/")
    running.settled(application)
    assert who in app.accounts()
    user.reload()
    expect(user.get_by_role("listitem")).to_contain_text("Reader")
    expect(user.get_by_role("link", name="Open")).to_have_attribute("href", f"http://127.0.0.1:{app.port}/")

    # Anyone who is new and in the mapped group stands in the application moments later; how many is measured
    # by `make bench`.
    provider.faults()
    new = fresh("juno.marlow")
    provider.user(new, "Juno", "Marlow", [group])
    other = open_page(beside=provider.url)
    other.goto(f"/sso/{key}/start")
    other.get_by_role("button", name="Juno Marlow").click()
    other.get_by_role("heading", name="Your applications").wait_for()
    running.settled(application)
    account = app.accounts()[new]
    assert account["active"] and [each["value"] for each in account["roles"]] == ["reader"]
    expect(other.get_by_role("listitem")).to_contain_text("Reader")
    other.close()

    # Another group at the provider is another role at the next sign-in.
    with running.dravo as dravo:
        dravo.assignments.add(
            application,
            "engineer",
            source=key,
            group=dravo.sign_ins.create_group(key, f"Engineers {who[-3:]}")["name"],
        )
    provider.user(who, "Idris", "Vance", [f"Engineers {who[-3:]}"])
    user.goto(f"/sso/{key}/start")
    user.get_by_role("button", name="Idris Vance").click()
    expect(user.get_by_role("listitem")).to_contain_text("Engineer")

    # What the questions say is tried on the last sign-in before it is kept.
    page.get_by_role("tab", name="Source policy").click()
    page.get_by_label("Users (SCIM filter)").fill('title eq "Glazier"')
    page.get_by_role("button", name="Preview with the last sign-in").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text(
        "The user is outside the scope of the source: "
    )
    check_accessible(page)
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved. The policy applies")).to_be_visible()

    # Anyone who may not in is told so in plain words, and whom to ask.
    with running.dravo as dravo:
        dravo.sign_ins.change(key, settings={"support_contact": "Edmund Sallow in Estates."})
    outside.goto(f"/sso/{key}/start")
    outside.get_by_role("button", name="Odalys Brandt").click()
    expect(outside.get_by_text("You do not have access.")).to_be_visible()
    expect(outside.get_by_text("Edmund Sallow in Estates.")).to_be_visible()
    outside.close()
    with running.dravo as dravo:
        dravo.sign_ins.change(key, policy={"users": ""})

    page.close()

    # They sign out, and are out.
    user.get_by_role("button", name="Sign out").click()
    user.get_by_role("heading", name="You are signed out").wait_for()
    user.goto("/your-applications")
    user.get_by_role("heading", name="You are signed out").wait_for()
    user.get_by_role("link", name="Sign in again").click()
    user.get_by_label("Email address").fill(f"{who}@rootworks.example")
    narrow = open_page(width=400, beside=provider.url)
    narrow.goto(f"/sso/{key}/start")
    narrow.get_by_role("button", name="Idris Vance").click()
    narrow.get_by_role("heading", name="Your applications").wait_for()
    assert narrow.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_values_of_a_provider_are_tested_first_and_the_protocol_changes(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, fresh: Fresh
) -> None:
    source = fresh("partners")
    provider.put("client", {"id": "dravo", "secret": "known-there"})
    with running.dravo as dravo:
        dravo.sources.add(source, source.title(), "sign_in")
        dravo.sign_ins.change(source, protocol="oidc", settings={"client_id": "dravo"})
    page = open_page(signed_in=True)
    page.goto(f"/sources/{source}/sign-in")
    page.get_by_label("Issuer").fill(provider.url)
    page.get_by_label("Client secret").fill("mistyped")
    page.get_by_role("button", name="Test", exact=True).click()
    steps = page.get_by_role("status", name="Connection check")
    expect(steps).to_contain_text("does not accept the client: invalid_client")
    page.get_by_label("Client secret").fill("known-there")
    page.get_by_role("button", name="Test", exact=True).click()
    expect(steps).to_contain_text("The provider accepts the client ID and its credentials.")
    with running.dravo as dravo:
        assert dravo.sign_ins.get(source)["settings"]["issuer"] == ""
    # A provider without discovery: its endpoints and keys one by one.
    page.get_by_text("Or enter the endpoints and keys").click()
    page.get_by_label("Authorization endpoint").fill(f"{provider.url}/authorize")
    page.get_by_label("Token endpoint").fill(f"{provider.url}/token")
    page.get_by_label("Or the keys themselves (JWK set)").fill(
        httpx.get(f"{provider.url}/keys", trust_env=False).text
    )
    page.get_by_role("button", name="Test values").click()
    expect(steps).to_contain_text("Known as entered")
    page.get_by_role("button", name="Save values").click()
    expect(page.get_by_text("1 as entered")).to_be_visible()
    page.get_by_role("button", name="Change protocol").click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select"), "SAML 2.0")
    expect(dialog).to_contain_text("The values of the provider for OpenID Connect are deleted.")
    check_accessible(page)
    dialog.get_by_label(f"Type '{source.title()}' to confirm").fill(source.title())
    dialog.get_by_role("button", name="Change", exact=True).click()
    expect(page.get_by_text("Missing: the entity ID of the provider")).to_be_visible()
    expect(page.get_by_role("button", name="Upload next key")).to_be_visible()
