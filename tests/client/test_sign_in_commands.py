"""How people sign in, set up and looked at by the command line alone."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from tests.harness import Browser, Running, SignInProvider, sign_in_provider

Dravo = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def provider(tmp_path: Path) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path) as started:
        yield started


@pytest.fixture
def dravo(running: Running) -> Dravo:
    environment = {**os.environ, "DRAVO_URL": running.url, "DRAVO_TOKEN": running.api_token}
    return lambda *words, **more: subprocess.run(
        [sys.executable, "-m", "dravo.cli.main", *words], env=environment, text=True, capture_output=True, timeout=60, check=False, **more
    )


def test_from_nothing_to_everybody(dravo: Dravo, running: Running, provider: SignInProvider, fresh: Callable[[str], str], tmp_path: Path) -> None:
    key, who = fresh("partners"), fresh("juno.marlow")
    provider.person(who, "Juno", "Marlow", ["Site"])
    dravo("source", "add", key, "--label", key)
    assert "Say first by which protocol" in dravo("sign-in", "show", key).stderr
    assert "Missing yet: the provider's entity id" in dravo("sign-in", "set", key, "--protocol", "saml").stdout
    assert "Missing yet" in dravo("sign-in", "try", key, who).stderr
    metadata = tmp_path / "metadata.xml"
    metadata.write_text(httpx.get(f"{provider.url}/metadata", trust_env=False).text)
    shown = dravo("sign-in", "set", key, "--metadata", str(metadata), "--whom-to-ask", "Ask in Estates.").stdout
    assert f"Provider: {provider.url}/entity" in shown
    assert "Missing yet: nothing" in shown
    assert f"/sso/{key}/saml/acs" in dravo("sign-in", "sheet", key).stdout
    # What is no metadata is told with the mend, and what was there stays.
    metadata.write_text("<html>Sign in</html>")
    refused = dravo("sign-in", "set", key, "--metadata", str(metadata))
    assert refused.returncode != 0
    assert "does not describe an identity provider" in refused.stderr
    assert "Missing yet: nothing" in dravo("sign-in", "show", key).stdout
    # In force only when somebody has come through, or the name is typed.
    assert "Nobody has come through these settings yet" in dravo("sign-in", "state", key, "everybody").stderr
    link = dravo("sign-in", "try", key, who).stdout.splitlines()[1]
    provider.faults(clock_apart=900)
    Browser().sign_in(link, who)
    provider.faults()
    Browser().sign_in(link, who)
    traces = json.loads(dravo("sign-in", "traces", key, "--json").stdout)
    good, bad = traces["items"] if isinstance(traces, dict) else traces
    assert (good["outcome"], bad["reason"]) == ("observed", "early")
    told = dravo("sign-in", "trace", key, bad["id"])
    assert told.returncode == 1
    assert "Set both clocks by a time server." in told.stdout
    assert "They are somebody new." in dravo("sign-in", "trace", key, good["id"], "--again").stdout
    assert "in force for: everybody" in dravo("sign-in", "state", key, "everybody").stdout
    browser = Browser()
    assert str(browser.sign_in(f"{running.url}/sso/{key}/start", who).url).endswith("/yours")
    assert dravo("sign-in", "end", who).stdout == "Every visit is ended.\n"
    assert browser.http.get(f"{running.url}/api/v1/yours").status_code == 401
