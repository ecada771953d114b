"""How long it takes until somebody new, who signs in for the first time, stands in an application with their
role: against the sign-in alone.
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
    """Have users arrive one after the other, by SAML, and print how long it took."""
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
        took = [arrival(running, provider, app, f"juno.marlow.{number}") for number in range(USERS)]
    in_, there = [each for each, _ in took], [each for _, each in took]
    print(f"    signed in               median {statistics.median(in_):5.2f} s  longest {max(in_):5.2f} s")
    print(
        f"    in the application too  median {statistics.median(there):5.2f} s  longest "
        f"{max(there):5.2f} s  (promised: under 3 s)"
    )


def arrival(running: Running, provider: SignInProvider, app: StandIn, who: str) -> tuple[float, float]:
    """Return the seconds until somebody new is in, and until they stand in the application with their
    role.
    """
    provider.user(who, "Juno", "Marlow", ["Glazing works"])
    browser = Browser()
    chooser = browser.http.get(f"{running.url}/sso/contractors/start")
    began = time.monotonic()
    page = browser.post(browser.post(chooser, who=who))
    in_ = time.monotonic() - began
    assert str(page.url).endswith("/your-applications"), page.text
    account = eventually(lambda: app.accounts().get(who))
    there = time.monotonic() - began
    assert [each["value"] for each in account["roles"]] == ["reader"]
    return in_, there
