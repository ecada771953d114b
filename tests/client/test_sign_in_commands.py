"""How users sign in, set up and previewed by the command line alone."""

from __future__ import annotations

import functools
import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from sqlalchemy import delete

from dravo.store import tables as t
from tests import command_line
from tests.command_line import Completed
from tests.harness import Browser, Letters, Running, SignInProvider, sign_in_provider
from tests.service_fixture import open_context

Dravo = Callable[..., Completed]


@pytest.fixture
def provider(tmp_path: Path) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path) as started:
        yield started


@pytest.fixture
def dravo(running: Running) -> Dravo:
    return functools.partial(command_line.dravo, running)


def test_from_nothing_to_everyone(
    dravo: Dravo, running: Running, provider: SignInProvider, fresh: Callable[[str], str], tmp_path: Path
) -> None:
    key, who = fresh("partners"), fresh("juno.marlow")
    provider.user(who, "Juno", "Marlow", ["Site"])
    dravo("source", "add", key, "--label", key)
    assert "Choose a protocol first: saml, oidc or email_code." in dravo("sign-in", "show", key).stderr
    assert (
        "Missing: the entity ID of the provider" in dravo("sign-in", "set", key, "--protocol", "saml").stdout
    )
    assert "Missing:" in dravo("sign-in", "test", key, who).stderr
    metadata = tmp_path / "metadata.xml"
    metadata.write_text(httpx.get(f"{provider.url}/metadata", trust_env=False).text)
    shown = dravo(
        "sign-in", "set", key, "--metadata", str(metadata), "--support-contact", "Ask in Estates."
    ).stdout
    assert f"Provider: {provider.url}/entity" in shown
    assert "Missing: nothing" in shown
    assert f"/sso/{key}/saml/acs" in dravo("sign-in", "checklist", key).stdout
    # What is no metadata is told with the hint, and what was there stays.
    metadata.write_text("<html>Sign in</html>")
    refused = dravo("sign-in", "set", key, "--metadata", str(metadata))
    assert refused.returncode != 0
    assert "This is not the metadata of an identity provider" in refused.stderr
    assert "Missing: nothing" in dravo("sign-in", "show", key).stdout
    # Enabled only when somebody has come through, or the name is typed.
    assert "These settings have not been tested yet." in dravo("sign-in", "status", key, "enabled").stderr
    link = dravo("sign-in", "test", key, who).stdout.splitlines()[1]
    provider.faults(clock_skew=900)
    Browser().sign_in(link, who)
    provider.faults()
    Browser().sign_in(link, who)
    traces = json.loads(dravo("sign-in", "traces", key, "--json").stdout)
    good, bad = traces["items"] if isinstance(traces, dict) else traces
    assert (good["outcome"], bad["reason"]) == ("observed", "early")
    told = dravo("sign-in", "trace", key, bad["id"])
    assert told.returncode == 1
    assert "Synchronize both clocks with a time server." in told.stdout
    assert "Creates a new user." in dravo("sign-in", "trace", key, good["id"], "--current-settings").stdout
    assert "status: enabled" in dravo("sign-in", "status", key, "enabled").stdout
    browser = Browser()
    assert str(browser.sign_in(f"{running.url}/sso/{key}/start", who).url).endswith("/your-applications")
    known = {
        each["source"]["key"]: each
        for each in json.loads(dravo("sign-in", "options", who, "--json").stdout)["ways"]
    }
    assert known[key]["opens"] and known[key]["bound_at"]
    told = dravo("sign-in", "options", who).stdout
    assert "allowed   SAML 2.0, linked since" in told and "Applications after sign-in: none." in told
    assert dravo("sign-in", "end-sessions", who).stdout == "All sessions are ended.\n"
    assert browser.http.get(f"{running.url}/api/v1/me/applications").status_code == 401


def test_codes_by_mail_are_set_up_by_commands(
    dravo: Dravo, running: Running, letters: Letters, fresh: Callable[[str], str], tmp_path: Path
) -> None:
    key, domain = fresh("volunteers"), f"{fresh('register')}.example"
    dravo("mail", "set", "--host", "")
    assert dravo("mail", "show").stdout == "No email server is configured. Dravo sends no email.\n"
    assert "No setting given. See 'dravo mail set --help' for all settings." in dravo("mail", "set").stderr
    assert "No email server is configured." in dravo("mail", "test", "una@fernhollow.example").stderr
    to = ("--host", "127.0.0.1", "--port", str(letters.smtp_port), "--security", "none")
    assert "' is not an email address." in dravo("mail", "set", *to, "--sender", "dravo").stderr
    assert (
        f"port {letters.smtp_port}, none, sender dravo@fernhollow.example."
        in dravo("mail", "set", *to, "--sender", "dravo@fernhollow.example").stdout
    )
    assert "The server accepted the email to " in dravo("mail", "test", "una@fernhollow.example").stdout
    letters.faults(refusing=True)
    assert "550 No such user" in dravo("mail", "test", "una@fernhollow.example").stderr
    letters.faults()
    assert (
        "--protocol saml|oidc|email_code"
        in dravo("source", "add", key, "--label", key, "--connection-type", "sign_in").stdout
    )
    assert (
        "Missing: the domains"
        in dravo(
            "sign-in", "set", key, "--protocol", "email_code", "--new-user-group", "Asked to help"
        ).stdout
    )
    answers = json.loads(dravo("sign-in", "policy", key).stdout)
    assert (answers["match"], answers["makes"]) == ("email", False)
    file = tmp_path / "answers.json"
    file.write_text(json.dumps({**answers, "domains": [domain], "makes": True}))
    shown = dravo("sign-in", "set", key, "--policy", str(file)).stdout
    assert (
        "emailed code, status: disabled" in shown
        and "Missing: nothing" in shown
        and "First code requested" in shown
    )
    assert "Tell your users:" in dravo("sign-in", "checklist", key).stdout
    assert "status: enabled" in dravo("sign-in", "status", key, "enabled", "--confirm", key).stdout
    refused = dravo("sign-in", "set", key, "--serves", "operators")
    assert refused.returncode != 0 and "Operators cannot sign in with an emailed code." in refused.stderr


def test_operators_and_groups_ahead_by_commands(
    dravo: Dravo, running: Running, provider: SignInProvider, fresh: Callable[[str], str]
) -> None:
    key, who, group, name = fresh("partners"), fresh("juno.marlow"), fresh("Glazing works"), fresh("honor")
    # The operator of the service that is shared may have recovery codes from another test.
    ctx = open_context(running.folder)
    with ctx.database.writing() as connection:
        connection.execute(delete(t.recovery_code))
    ctx.close()
    provider.user(who, "Juno", "Marlow", [group])
    dravo("source", "add", key, "--label", key)
    shown = dravo(
        "sign-in",
        "set",
        key,
        "--protocol",
        "saml",
        "--metadata-url",
        f"{provider.url}/metadata",
        "--serves",
        "both",
    ).stdout
    assert "for users and operators" in shown
    assert re.search(f"In the console you can link to: .*{key}", dravo("operator", "links").stdout, re.DOTALL)
    assert (
        "You could lock yourself out: you are not linked to this source and have no recovery codes."
        in dravo("sign-in", "status", key, "enabled", "--confirm", key).stderr
    )
    Browser().sign_in(dravo("sign-in", "test", key, who).stdout.splitlines()[1], who)
    assert group in dravo("sign-in", "groups", group).stdout
    assert "' without members. You can map it now." in dravo("sign-in", "add-group", key, group).stdout
    assert dravo("sign-in", "groups", group).stdout == "All groups from claims exist.\n"
    assert "already" in dravo("sign-in", "add-group", key, group).stderr
    operator = json.loads(dravo("operator", "create", name, "--kind", "auditor", "--json").stdout)
    told = dravo("operator", "reset-password", operator["id"]).stdout
    assert told.startswith(f"New password of {name} (shown only once): ")
    password = told.rpartition(" ")[2].strip()
    entered = httpx.post(
        f"{running.url}/api/v1/session", json={"name": name, "password": password}, trust_env=False
    )
    assert entered.status_code == 200
    dravo("sign-in", "set", key, "--serves", "users")


def test_a_missing_secret_is_explained(dravo: Dravo, fresh: Callable[[str], str]) -> None:
    key = fresh("partners")
    dravo("source", "add", key, "--label", key, "--connection-type", "sign_in")
    dravo("sign-in", "set", key, "--protocol", "oidc")
    done = dravo("sign-in", "set", key, "--ask-secret", stdin="")
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith("dravo: No secret was entered.")
    done = dravo("sign-in", "set", key, "--ask-secret", "--json", stdin="hush\n")
    assert done.returncode == 0 and '"has_secret": true' in done.stdout and "hush" not in done.stdout
