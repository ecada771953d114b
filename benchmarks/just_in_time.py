"""Time from the first sign-in of a new user until the user has an account with the role in an application,
against the sign-in alone.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

from tests.harness import (
    Browser,
    Running,
    SignInProvider,
    StandIn,
    eventually,
    service,
    sign_in_provider,
    stand_in_process,
)

USERS = 20


def run() -> None:
    """Sign new users in by SAML, one after the other, and print the seconds."""
    folder = Path(tempfile.mkdtemp())
    with service(folder) as running, sign_in_provider(folder) as provider, stand_in_process(folder) as app:
        running.application("glasshouse", app, roles=("reader",))
        with running.dravo as dravo:
            dravo.sources.add("contractors", "Contractors")
            dravo.sign_ins.change(
                "contractors", protocol="saml", settings={"metadata_url": f"{provider.url}/metadata"}
            )
            dravo.sign_ins.set_status("contractors", "enabled", confirm="Contractors")
            group = dravo.sign_ins.create_group("contractors", "Glazing works")["id"]
            dravo.assignments.add("glasshouse", "reader", group=group)
        measured = [measure(running, provider, app, f"juno.marlow.{number}") for number in range(USERS)]
    sign_ins, accounts = [each for each, _ in measured], [each for _, each in measured]
    print(f"    signed in            median {statistics.median(sign_ins):5.2f} s  max {max(sign_ins):5.2f} s")
    print(
        f"    account provisioned  median {statistics.median(accounts):5.2f} s  max "
        f"{max(accounts):5.2f} s  (goal: under 3 s)"
    )


def measure(running: Running, provider: SignInProvider, app: StandIn, user_name: str) -> tuple[float, float]:
    """Return the seconds until a new user is signed in, and until the application has the account."""
    provider.user(user_name, "Juno", "Marlow", ["Glazing works"])
    browser = Browser()
    chooser = browser.http.get(f"{running.url}/sso/contractors/start")
    began = time.monotonic()
    page = browser.post(browser.post(chooser, who=user_name))
    signed_in = time.monotonic() - began
    assert str(page.url).endswith("/your-applications"), page.text
    account = eventually(lambda: app.accounts().get(user_name))
    provisioned = time.monotonic() - began
    assert [each["value"] for each in account["roles"]] == ["reader"]
    return signed_in, provisioned
