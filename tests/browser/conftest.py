"""A headless Chromium, and the check of each page visited by axe."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.harness import PASSWORD, Running

AXE = (Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js").read_text()
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium")
# As long as the harness waits for anything: what is promised is that it comes, not how quickly on a busy machine.
PATIENCE_MS = 60_000
expect.set_options(timeout=PATIENCE_MS)
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking", "--disable-component-update", "--disable-sync"]


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield started
        started.close()


@pytest.fixture(params=["light", "dark"])
def theme(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def open_page(browser: Browser, running: Running) -> Iterator[Callable[..., Page]]:
    """Open the console; afterwards nothing may have been asked of anywhere else, and no error may stand in its log."""
    pages: list[Page] = []
    wrong: list[str] = []

    def opened(width: int = 1280, height: int = 800, theme: str = "light", beside: str = "data:") -> Page:
        context = browser.new_context(viewport={"width": width, "height": height}, color_scheme=theme, base_url=running.url)  # type: ignore[arg-type]
        context.grant_permissions(["clipboard-read", "clipboard-write"])
        page = context.new_page()
        page.set_default_timeout(PATIENCE_MS)
        page.on(
            "request", lambda request: None if request.url.startswith((running.url, "data:", beside)) else wrong.append(f"asked {request.url[:100]}")
        )
        page.on("pageerror", lambda error: wrong.append(f"error {error}"))
        page.on("console", lambda message: wrong.append(message.text[:200]) if "Content Security Policy" in message.text else None)
        pages.append(page)
        return page

    yield opened
    for page in pages:
        page.context.close()
    assert wrong == []


def sign_in(page: Page) -> None:
    page.goto("/")
    page.get_by_label("Name").fill("edmund.sallow")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Overview").wait_for()


def check_accessible(page: Page) -> None:
    """Let axe look at the page as it is, by WCAG 2.2 AA."""
    page.evaluate("scrollTo(0, 0)")  # what the band covers half is no smaller for that
    page.wait_for_timeout(250)  # dialogs and menus fade in; axe would measure the contrast of the half-faded
    page.evaluate(AXE)
    tags = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
    result: dict[str, Any] = page.evaluate("tags => axe.run(document, { runOnly: tags })", tags)
    told = [f"{each['id']}: {each['help']} ({each['nodes'][0]['html'][:160]})" for each in result["violations"]]
    assert told == [], f"{page.url}: {told}"
