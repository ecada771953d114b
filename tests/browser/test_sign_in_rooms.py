"""Signing in set up from nothing in the console, tried, mended, put in force, and used by somebody."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import check_accessible, sign_in
from tests.harness import Running, SignInProvider, StandIn, eventually, sign_in_provider

Fresh = Callable[[str], str]


@pytest.fixture
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


def test_from_nothing_to_somebody_who_uses_their_application(
    open_page: Callable[..., Page], running: Running, provider: SignInProvider, app: StandIn, fresh: Fresh
) -> None:
    label, who, application = fresh("Contractors"), fresh("idris.vance"), fresh("glasshouse")
    group = f"Glazing works {who[-3:]}"
    provider.person(who, "Idris", "Vance", [group])
    running.application(application, app, roles=("reader", "engineer"))
    page = open_page()
    sign_in(page)

    # A source by which people sign in: first its protocol, then the provider's metadata, pasted.
    page.goto("/sources")
    page.get_by_role("button", name="Add a source").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("They come by themselves").check()
    dialog.get_by_label("Name for people").fill(label)
    dialog.get_by_role("button", name="Add the source").click()
    page.get_by_role("button", name="By SAML 2.0").click()
    expect(page.get_by_text("Missing yet: the provider's entity id")).to_be_visible()
    check_accessible(page)
    page.get_by_text("Or paste its metadata").click()
    page.get_by_label("Metadata", exact=True).fill(httpx.get(f"{provider.url}/metadata", trust_env=False).text)
    page.get_by_role("button", name="Take it").click()
    expect(page.get_by_text(f"{provider.url}/entity")).to_be_visible()
    key = page.url.split("/sources/")[1].split("/")[0]

    # In force only for those who look away from a trial: the name is asked for.
    page.get_by_role("button", name="For everybody", exact=True).click()
    expect(page.get_by_role("dialog")).to_contain_text("Nobody has tried it yet")
    page.get_by_role("dialog").get_by_role("button", name="Not now").click()

    # A trial that fails, with its mend; and one that works.
    page.get_by_role("tab", name="Trials and traces").click()

    def tried(seen: str, **faults: object) -> None:
        provider.faults(**faults)
        page.get_by_label("Who tries: user name or e-mail").fill(who)
        page.get_by_role("button", name="Make a link").click()
        link = page.get_by_text(f"{running.url}/sso/{key}/start?trial=").last
        before = link.text_content()
        other = open_page(beside=provider.url)
        other.goto(before or "")
        other.get_by_role("button", name="Idris Vance").click()
        expect(other.get_by_role("heading")).to_contain_text(seen)
        other.close()
        page.reload()

    tried("You are not signed in", wrong_audience=True)
    expect(page.get_by_role("row").nth(1)).to_contain_text("Give the provider our entity id as it is")
    tried("It works", ids_for_names=True)
    page.get_by_role("button", name="Open").first.click()
    expect(page.get_by_role("region", name=label).or_(page.locator("section.opened"))).to_contain_text("looks like an id")
    check_accessible(page)
    tried("It works")

    # For everybody; somebody comes by the one sign-in page.
    page.get_by_role("tab", name="Signing in").click()
    page.get_by_role("button", name="For everybody", exact=True).click()
    expect(page.get_by_text("Everybody whom it lets in signs in by it.")).to_be_visible()
    person = open_page(beside=provider.url)
    person.goto(f"/sso/{key}/start")
    person.get_by_role("button", name="Idris Vance").click()
    person.get_by_role("heading", name="Your applications").wait_for()
    expect(person.get_by_text("Nothing is open to you yet")).to_be_visible()
    check_accessible(person)
    with running.dravo as dravo:
        dravo.assignments.add(application, "reader", source=key, group=group)
        dravo.applications.change(application, address=f"http://127.0.0.1:{app.port}/")
    eventually(lambda: app.accounts().get(who))
    person.reload()
    expect(person.get_by_role("listitem")).to_contain_text("Reader")
    expect(person.get_by_role("link", name="Open")).to_have_attribute("href", f"http://127.0.0.1:{app.port}/")

    # What the questions say is tried on the last sign-in before it is kept.
    page.get_by_role("tab", name="Five questions").click()
    page.get_by_label("People (a SCIM filter)").fill('title eq "Glazier"')
    page.get_by_role("button", name="Try on the last sign-in").click()
    expect(page.get_by_role("status", name="Connection check")).to_contain_text("outside of whom you let in")
    check_accessible(page)

    # They sign out, and are out.
    person.get_by_role("button", name="Sign out").click()
    person.get_by_role("heading", name="You are signed out").wait_for()
    person.goto("/yours")
    person.get_by_role("heading", name="You are signed out").wait_for()
    check_accessible(person)
    person.get_by_role("link", name="Sign in again").click()
    person.get_by_label("Your e-mail address").fill(f"{who}@rootworks.example")
    check_accessible(person)
    narrow = open_page(width=400, beside=provider.url)
    narrow.goto(f"/sso/{key}/start")
    narrow.get_by_role("button", name="Idris Vance").click()
    narrow.get_by_role("heading", name="Your applications").wait_for()
    assert narrow.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
