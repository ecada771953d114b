"""A headless Chromium, signed in once for all tests of a worker."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import (
    Browser,
    BrowserContext,
    Locator,
    Page,
    StorageState,
    TimeoutError,
    expect,
    sync_playwright,
)

from tests.harness import PASSWORD, Running
from tests.scale import NIGHTLY

AXE = (Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js").read_text()
TAGS = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
# Half-faded colors are not what is looked at. What stands still or turns for ever is not waited for, nor
# anything for long.
AT_REST = """() => Promise.race([
  new Promise(done => setTimeout(done, 1000)),
  Promise.all(document.getAnimations()
    .filter(each => each.playState === 'running' && each.effect.getComputedTiming().iterations !== Infinity)
    .map(each => each.finished.catch(() => null))),
])"""
# Without a window and all that belongs to one: it takes a third of the processor that the whole browser
# takes.
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium-headless-shell")
# As long as the harness waits for anything: what is promised is that it comes, not how quickly on a busy
# machine.
PATIENCE_MS = 60_000
expect.set_options(timeout=PATIENCE_MS)
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield started
        started.close()


class SignedIn:
    """A browser context in which an operator signed in once, for all pages of a worker: they also share what
    was loaded.
    """

    def __init__(self, browser: Browser, running: Running) -> None:
        self._running = running
        self._context = browser.new_context(base_url=running.url, reduced_motion="reduce")
        self._context.grant_permissions(["clipboard-read", "clipboard-write"])

    def context(self) -> BrowserContext:
        """Return the context; a session that a test has ended is replaced."""
        with httpx.Client(base_url=f"{self._running.url}/api/v1", trust_env=False) as http:
            for cookie in self._context.cookies():
                http.cookies.set(cookie["name"], cookie["value"])
            if http.get("/session").status_code != 200:
                http.cookies.clear()
                http.post("/session", json={"name": "edmund.sallow", "password": PASSWORD}).raise_for_status()
                self._context.clear_cookies()
                self._context.add_cookies([*signed_in_state(http.cookies["dravo_session"])["cookies"]])
        return self._context


def signed_in_state(session: str) -> StorageState:
    """Return a browser's storage that holds an operator's session."""
    cookie: Any = {
        "name": "dravo_session",
        "value": session,
        "domain": "127.0.0.1",
        "path": "/",
        "expires": -1,
        "httpOnly": True,
        "secure": False,
        "sameSite": "Strict",
    }
    return {"cookies": [cookie], "origins": []}


@pytest.fixture(scope="session")
def signed_in_once(browser: Browser, running: Running) -> SignedIn:
    return SignedIn(browser, running)


@pytest.fixture
def open_page(browser: Browser, running: Running, signed_in_once: SignedIn) -> Iterator[Callable[..., Page]]:
    """Open the console; afterwards nothing may have been asked of anywhere else, and no error may stand in
    its log.
    """
    pages: list[Page] = []
    contexts: list[BrowserContext] = []
    wrong: list[str] = []

    def opened(
        width: int = 1280,
        height: int = 800,
        theme: str = "light",
        beside: str = "data:",
        *,
        signed_in: bool = False,
    ) -> Page:
        if signed_in:
            page = signed_in_once.context().new_page()
        else:
            context = browser.new_context(base_url=running.url, reduced_motion="reduce")
            contexts.append(context)
            page = context.new_page()
        page.set_viewport_size({"width": width, "height": height})
        page.emulate_media(color_scheme=theme)  # type: ignore[arg-type]
        page.set_default_timeout(PATIENCE_MS)
        page.on(
            "request",
            lambda request: (
                None
                if request.url.startswith((running.url, "data:", beside))
                else wrong.append(f"asked {request.url[:100]}")
            ),
        )
        page.on("pageerror", lambda error: wrong.append(f"error {error}"))
        page.on(
            "console",
            lambda message: (
                wrong.append(message.text[:200]) if "Content Security Policy" in message.text else None
            ),
        )
        pages.append(page)
        return page

    yield opened
    for page in pages:
        page.close()
    for context in contexts:
        context.close()
    assert wrong == []


def sign_in(page: Page) -> None:
    """Sign in by the form; tests that are not about the bind open their page signed in."""
    page.goto("/")
    page.get_by_label("Name", exact=True).fill("edmund.sallow")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Overview").wait_for()


# Scrolls the open list of a field on, from its end to its beginning: of a long list only the options in
# sight exist.
SCROLL_ON = """() => {
  const list = [...document.querySelectorAll('.v-overlay--active [role=listbox]')].at(-1)
  let scrolling = list
  const fits = each => each.scrollHeight <= each.clientHeight + 1
  while (scrolling && fits(scrolling)) scrolling = scrolling.parentElement
  if (!scrolling) return
  const before = scrolling.scrollTop
  scrolling.scrollTop += 150
  if (scrolling.scrollTop === before) scrolling.scrollTop = 0
}"""


def choose(field: Locator, option: str) -> None:
    """Choose from the list that opens under a field.

    On a busy machine it can move under the pointer, or close: then it is opened again.
    """
    for _ in range(5):
        with contextlib.suppress(AssertionError, TimeoutError):
            field.click()
            offered = field.page.get_by_role("option", name=option, exact=True)
            for _ in range(100):
                if offered.count():
                    break
                field.page.evaluate(SCROLL_ON)
                field.page.wait_for_timeout(20)
            offered.click(timeout=3_000)
            expect(field).to_contain_text(option, timeout=2_000)
            return
        # With no list open, Escape would close the dialog that the field stands in.
        if field.page.get_by_role("option").count():
            field.page.keyboard.press("Escape")
    expect(field).to_contain_text(option)


def find_and_choose(field: Locator, words: str, option: str = "") -> None:
    """Type words into a field that looks for them, and choose what it finds; again where the list changed
    under the pointer.
    """
    whole = re.compile(rf"{re.escape(option or words)}(?!\w)", re.IGNORECASE)
    for _ in range(5):
        with contextlib.suppress(AssertionError, TimeoutError):
            field.fill("")  # the same words once more would not open a list that has closed
            field.fill(words)
            offered = field.page.get_by_role("option", name=whole).first
            offered.click(timeout=10_000)
            # A lost click leaves the typed words in the input; only a choice has its own element.
            chosen = field.locator("xpath=ancestor::*[contains(@class, 'v-input ')]")
            chosen = chosen.locator(".v-autocomplete__selection").filter(has_text=whole)
            expect(chosen).to_be_attached(timeout=2_000)
            return
    raise AssertionError(f"{option or words} could not be chosen")


# In one step: a dialog that is being closed can be gone a moment later.
RUN_AXE = """options => axe.run({
  include: [[document.querySelector('[role=dialog]') ? '[role=dialog]' : 'html']],
  exclude: [['tbody tr:nth-child(n+11)'], ['li:nth-child(n+21)']],
}, options)"""


def axe_violations(page: Page, rules: list[str], left_out: tuple[str, ...] = ()) -> list[str]:
    """Return what axe finds on the page, or in the dialog that is open on it; what is behind a dialog was
    looked at before.

    Of very long tables and lists the first rows are looked at: the others are like them.

    Args:
        rules: names of rules, or tags of them.
        left_out: rules of a tag that are not tried.
    """
    page.evaluate(AT_REST)
    page.evaluate("scrollTo(0, 0)")  # what the band covers half is no smaller for that
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE)
    options = {
        "runOnly": rules,
        "rules": {rule: {"enabled": False} for rule in left_out},
        "resultTypes": ["violations"],
        "iframes": False,
        "preload": False,
    }
    result: dict[str, Any] = page.evaluate(RUN_AXE, options)
    return [
        f"{each['id']}: {each['help']} ({each['nodes'][0]['html'][:160]})" for each in result["violations"]
    ]


def check_accessible(page: Page) -> None:
    """Let axe look at a state that only this test reaches; `test_accessibility.py` has the others.

    Colors and sizes of the components are looked at there. By day they are not tried here, because these two
    rules take as long as all others together.
    """
    found = axe_violations(page, TAGS, () if NIGHTLY else ("color-contrast", "target-size"))
    assert found == [], f"{page.url}: {found}"
