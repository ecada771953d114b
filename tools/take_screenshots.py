"""Renews docs/screenshots from a demo of its own: the console's main pages, and the main commands'
outputs.
"""

from __future__ import annotations

import html
import json
import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, Page, sync_playwright

from dravo.client import Dravo
from dravo.demo.support import free_port

ROOT = Path(__file__).resolve().parent.parent
SHOTS = ROOT / "docs" / "screenshots"
SIZE = {"width": 1280, "height": 800}
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-background-networking",
    "--hide-scrollbars",
]

COMMANDS = {
    "command-why": [
        "access why zofia.wisniarska plant-records",
        "access why tom.hartley ticket-desk",
        "access why ravi.chandrasen ticket-desk",
    ],
}


def main() -> None:
    """Start a demo, take every picture, stop it."""
    with tempfile.TemporaryDirectory() as folder:
        ready = Path(folder) / "ready.json"
        command = [
            sys.executable,
            "-m",
            "dravo.cli.main",
            "demo",
            "--data",
            f"{folder}/demo",
            "--port",
            str(free_port()),
            "--ready-file",
            str(ready),
        ]
        demo = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        try:
            while not ready.exists():
                time.sleep(0.1)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(
                    executable_path=os.environ.get("CHROMIUM", "/usr/bin/chromium-headless-shell"), args=FLAGS
                )
                take_all(browser, json.loads(ready.read_text()), ready)
                browser.close()
        finally:
            demo.terminate()
            demo.wait(40)


def take_all(browser: Browser, known: dict[str, Any], ready: Path) -> None:
    """Take every picture."""
    SHOTS.mkdir(parents=True, exist_ok=True)
    with Dravo(known["url"], known["api_token"]) as dravo:
        user = dravo.users.get("zofia.wisniarska")["id"]
        review = dravo.reviews.list().page().items[0]["id"]
        group = dravo.groups.list(words="Open day team").page().items[0]["id"]
    pages = {
        "overview": "/",
        "activity": "/activity",
        "source": "/sources/staff",
        "users": "/users",
        "user": f"/users/{user}",
        "access": "/access",
        "review": f"/reviews/{review}?application=plant-records",
        "group": f"/groups/{group}",
        "application-mapping": "/applications/glasshouse-controls/mapping",
        "source-runs": "/sources/estates/runs",
        "source-sign-in": "/sources/contractors",
        "source-trace": "/sources/contractors/sign-ins",
        "application-settings": "/applications/glasshouse-controls/settings",
        "source-requests": "/sources/staff/requests",
        "application-drift": "/applications/plant-records/drift",
        "tasks": "/provisioning/tasks",
        "events": "/settings/messages",
    }
    page = browser.new_context(viewport=SIZE, color_scheme="light", base_url=known["url"]).new_page()
    page.goto("/")
    page.get_by_label("Name", exact=True).fill(known["operator"]["name"])
    page.get_by_label("Password").fill(known["operator"]["password"])
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Overview").wait_for()
    for name, path in pages.items():
        page.goto(path)
        if name == "application-settings":
            page.get_by_role("combobox", name="Preview with user").click()
            page.keyboard.type("zofia")
            page.get_by_role("option", name="Zofia").click()
            page.get_by_text("WIŚNIARSKA, Zofia").scroll_into_view_if_needed()
        if name == "source-trace":
            page.get_by_role("button", name="Open").nth(1).click()
            page.get_by_text("User attributes").evaluate("each => each.scrollIntoView({block: 'center'})")
        shoot(page, name)
    user_page = browser.new_context(viewport=SIZE, color_scheme="light", base_url=known["url"]).new_page()
    user_page.goto("/sso/contractors/start")
    user_page.get_by_role("button", name="Odalys Brandt").click()
    user_page.get_by_role("heading", name="Your applications").wait_for()
    shoot(user_page, "your-applications")
    page = page.context.browser.new_context(viewport=SIZE).new_page()  # type: ignore[union-attr]
    for name, commands in COMMANDS.items():
        page.set_content(terminal(commands, ready))
        page.screenshot(path=SHOTS / f"{name}.png")


def shoot(page: Page, name: str) -> None:
    """Take a picture of a page once it has come to rest."""
    page.locator("h1").first.wait_for()
    page.wait_for_timeout(900)
    page.screenshot(path=SHOTS / f"{name}.png")


def terminal(commands: list[str], ready: Path) -> str:
    """Return a page that shows commands and what they print."""
    shown = ""
    for each in commands:
        done = subprocess.run(
            [sys.executable, "-m", "dravo.cli.main", "--connection", str(ready), *shlex.split(each)],
            capture_output=True,
            text=True,
            check=True,
            env={**os.environ, "COLUMNS": "164"},
        )
        output = "\n".join(line.rstrip() for line in (done.stdout + done.stderr).splitlines())
        shown += f"<b>$ dravo {html.escape(each)}</b>\n{html.escape(output)}\n\n"
    style = (
        "body{margin:0;background:#141A20;color:#E8E6DF;font:12.5px/1.4 "
        "monospace;padding:18px}b{color:#6FC3CB}pre{margin:0;white-space:pre-wrap}"
    )
    return f"<!doctype html><meta charset=utf-8><style>{style}</style><pre>{shown}</pre>"


if __name__ == "__main__":
    main()
