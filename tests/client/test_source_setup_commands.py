"""Sources set up by the command line: templates, a test before saving, keys, and another protocol."""

from __future__ import annotations

import functools
import json
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from tests import command_line
from tests.command_line import Completed
from tests.harness import Running, SignInProvider, sign_in_provider
from tests.saml_provider import key_pair, pem

Dravo = Callable[..., Completed]
Fresh = Callable[[str], str]


@pytest.fixture(scope="module")
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


@pytest.fixture
def dravo(running: Running) -> Dravo:
    return functools.partial(command_line.dravo, running)


def test_a_source_is_added_from_a_template(dravo: Dravo, fresh: Fresh) -> None:
    key = fresh("depot")
    assert "LDAP: posixAccount and posixGroup" in dravo("source", "templates").stdout
    added = dravo("source", "add", key, "--label", key, "--template", "ldap-posix")
    assert f"Next: dravo source set-import {key} ldap" in added.stdout
    refused = dravo("source", "add", fresh("depot"), "--label", key, "--template", "ldap-posx")
    assert refused.returncode != 0 and "Did you mean 'ldap-posix'?" in refused.stderr
    settings = ("--set", "address=ldaps://directory.fernhollow.example", "--set", "users_base=dc=example")
    assert dravo("source", "set-import", key, "ldap", *settings).returncode == 0
    shown = json.loads(dravo("source", "import", key, "--json").stdout)
    assert shown["settings"]["membership"] == "memberUid"
    assert {"attribute": "userName", "expression": "uid"} in shown["policy"]["attributes"]


def test_an_openid_provider_is_tested_then_saved_and_its_protocol_changes(
    dravo: Dravo, provider: SignInProvider, fresh: Fresh, tmp_path: Path
) -> None:
    key = fresh("partners")
    provider.put("client", {"id": "dravo", "secret": "known-there"})
    dravo("source", "add", key, "--label", key, "--template", "openid-standard-claims")
    values = ("--issuer", provider.url, "--client-id", "dravo", "--ask-secret")
    wrong = dravo("sign-in", "check", key, *values, stdin="mistyped\n")
    assert wrong.returncode != 0 and "does not accept the client: invalid_client" in wrong.stdout
    right = dravo("sign-in", "check", key, *values, stdin="known-there\n")
    assert right.returncode == 0 and "Nothing was saved." in right.stdout
    assert "mistyped" not in wrong.stdout + wrong.stderr
    assert "Missing: the issuer" in dravo("sign-in", "show", key).stdout
    # The same provider without discovery.
    keys = tmp_path / "keys.json"
    keys.write_text(httpx.get(f"{provider.url}/keys", trust_env=False).text)
    endpoints = ("--authorization-endpoint", f"{provider.url}/authorize", "--token-endpoint")
    more = (*endpoints, f"{provider.url}/token", "--jwks", str(keys))
    saved = dravo("sign-in", "set", key, *values, *more, stdin="known-there\n")
    assert "Missing: nothing" in saved.stdout
    preview = dravo("sign-in", "change-protocol", key, "saml", "--preview")
    assert "The values of the provider for OpenID Connect are deleted." in preview.stdout
    refused = dravo("sign-in", "change-protocol", key, "saml")
    assert refused.returncode != 0 and f"Type the name of the source, '{key}'" in refused.stderr
    changed = dravo("sign-in", "change-protocol", key, "saml", "--confirm", key)
    assert "SAML 2.0, status: disabled" in changed.stdout


def test_a_key_of_ones_own_is_uploaded_and_activated(dravo: Dravo, fresh: Fresh, tmp_path: Path) -> None:
    key = fresh("partners")
    private, certificate = key_pair("ours-by-command")
    (tmp_path / "key.pem").write_bytes(pem(private))
    (tmp_path / "certificate.pem").write_text(certificate.pem)
    dravo("source", "add", key, "--label", key, "--template", "saml-short-names")
    assert "Give --key and --certificate" in dravo("sign-in", "rotate-key", key, "upload").stderr
    files = ("--key", str(tmp_path / "key.pem"), "--certificate", str(tmp_path / "certificate.pem"))
    uploaded = dravo("sign-in", "rotate-key", key, "upload", *files)
    assert certificate.fingerprint in uploaded.stdout and "next" in uploaded.stdout
    assert dravo("sign-in", "rotate-key", key, "use").returncode == 0
    certificates = json.loads(dravo("sign-in", "show", key, "--json").stdout)["certificates"]
    assert (certificates[0]["use"], certificates[0]["fingerprint"]) == ("active", certificate.fingerprint)
    nothing = dravo("sign-in", "accept-certificates", key)
    assert nothing.returncode != 0 and "There is no new certificate to accept." in nothing.stderr


def test_groups_that_a_choice_names_are_listed(dravo: Dravo, running: Running, fresh: Fresh) -> None:
    key = fresh("staff")
    source = running.provider(key)
    for name in ("Glasshouse east", "Herbarium"):
        source.group(name, [])
    shown = dravo("source", "match-groups", key, "--pattern", "^Glass").stdout
    assert "1 of 2 groups match." in shown and "Glasshouse east" in shown
    assert "No group has the name or ID 'Seeds' yet." in (
        dravo("source", "match-groups", key, "--name", "Herbarium", "--name", "Seeds").stdout
    )
    wrong = dravo("source", "match-groups", key, "--pattern", "(")
    assert wrong.returncode != 0 and "The pattern is invalid" in wrong.stderr
