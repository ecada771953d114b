"""The contractors of the demo are handed over from sign-in to inbound SCIM in the console, and back."""

from __future__ import annotations

import os
from collections.abc import Iterator

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from dravo.demo import contractors
from tests import harness
from tests.browser.conftest import check_accessible, choose
from tests.harness import Provider, RunningDemo, eventually


@pytest.fixture
def own_demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[RunningDemo]:
    """A demo of one's own, because this walk changes it."""
    shared = tmp_path_factory.getbasetemp()
    shared = shared.parent if "PYTEST_XDIST_WORKER" in os.environ else shared
    with harness.prepared_demo(shared / "prepared-demo", tmp_path_factory.mktemp("moved") / "data") as demo:
        yield demo


def provider_of(demo: RunningDemo) -> Provider:
    """Have a new source send the contractors who signed in before."""
    with demo.dravo as dravo:
        dravo.sources.add("partners", "Partner directory")
        dravo.sources.set_status("partners", "disabled")
        token = dravo.sources.add_token("partners", "Provider")["token"]
    provider = Provider(f"{demo.url}/scim/v2/partners", token)
    sent = [
        provider.user(name, emails=[{"value": f"{name}@{contractors.DOMAIN}", "type": "work"}])
        for name in contractors.CAME
    ]
    provider.group("Glazing works", sent)
    return provider


def opened(browser: Browser, demo: RunningDemo) -> Page:
    session = httpx.post(f"{demo.url}/api/v1/session", json=demo.ready["operator"], trust_env=False)
    context = browser.new_context(base_url=demo.url, reduced_motion="reduce")
    context.add_cookies(
        [{"name": name, "value": value, "url": demo.url} for name, value in session.cookies.items()]
    )
    return context.new_page()


def test_contractors_move_from_sign_in_to_inbound_scim_and_back(
    browser: Browser, own_demo: RunningDemo
) -> None:
    provider_of(own_demo)
    page = opened(browser, own_demo)
    page.goto(f"/sources/{contractors.KEY}")
    page.get_by_role("button", name="Hand over", exact=True).click()
    dialog = page.get_by_role("dialog")
    choose(dialog.locator(".v-select").first, "Partner directory")
    expect(dialog).to_contain_text("3 users are linked to records of the new source.")
    expect(dialog).to_contain_text("The old source is retired")
    check_accessible(page)
    dialog.get_by_label("Type").fill(contractors.LABEL)
    dialog.get_by_role("button", name="Hand over", exact=True).click()
    moved = page.get_by_role("region", name="Hand-over")
    expect(moved).to_contain_text("3 users were handed over to partners")
    eventually(lambda: sources_of_access(own_demo) == {"partners"})

    moved.get_by_role("button", name="Undo hand-over").click()
    expect(moved).to_have_count(0)
    with own_demo.dravo as dravo:
        assert dravo.sources.get(contractors.KEY)["sign_in_status"] == "enabled"
    eventually(lambda: sources_of_access(own_demo) == {contractors.KEY})


def sources_of_access(demo: RunningDemo) -> set[str]:
    """Return the sources whose groups give a contractor access."""
    with demo.dravo as dravo:
        access = dravo.users.get("idris.vance")["access"]
    reasons = [reason for line in access for reason in line["reasons"] if reason["until"] is None]
    return {reason["source"]["key"] for reason in reasons if reason["source"]}
