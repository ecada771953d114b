"""Source templates: each can be used as it is, changed, and says something true."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.expressions import ENTRY
from dravo.core.identity.claims import read_claims
from dravo.core.identity.policy_reading import read_policy
from dravo.protocols.directory.connectors import kind_of
from dravo.services.imports import config as import_config
from dravo.services.policies import new_sources, policies
from dravo.services.sign_in import setup_checklist
from dravo.services.sources import templates
from dravo.services.sources.templates import SourceTemplate
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

EVERY = templates.list_templates().items
# What a connector cannot know.
NEEDED: dict[str, dict[str, Any]] = {
    "ldap": {"address": "ldaps://directory.fernhollow.example", "users_base": "dc=fernhollow,dc=example"},
    "scim": {"address": "https://directory.fernhollow.example/scim/v2"},
    "csv": {},
}
GUIDES = Path(__file__).parents[2] / "docs/guides"


@pytest.mark.parametrize("template", EVERY, ids=lambda each: each.key)
def test_each_template_presets_a_source_that_can_be_changed(
    services: ServiceFixture, template: SourceTemplate
) -> None:
    ctx, caller = services.ctx, services.caller
    added = new_sources.add(ctx, caller, "partners", "Partners", template.key)
    assert (added.connection_type, added.template) == (template.connection_type, template.key)
    assert (GUIDES / f"{template.guide}.md").exists()
    settings: dict[str, Any] = {}
    if template.connection_type == "import":
        assert template.connector is not None
        found = import_config.change(ctx, caller, "partners", {"settings": NEEDED[template.connector]})
        assert found.kind == template.connector and not found.enabled
        settings = found.settings
        import_config.change(ctx, caller, "partners", {"policy": {"makes": False}})
    elif template.connection_type == "sign_in":
        shown = setup_checklist.shown(ctx, caller, "partners", "https://dravo.fernhollow.example")
        assert (shown.protocol, shown.status) == (template.protocol, "disabled")
        settings = shown.settings
    assert template.settings == {name: settings[name] for name in template.settings}
    policy = policies.one(ctx, "partners", template.connection_type).policy
    for name, value in template.policy.items():
        assert policy[name] == value if name != "groups" else policy[name]["which"] == value["which"]


def test_values_that_are_given_win_over_those_of_a_template(services: ServiceFixture) -> None:
    ctx, caller = services.ctx, services.caller
    new_sources.add(ctx, caller, "estates", "Estates", "ldap-posix")
    given = {**NEEDED["ldap"], "membership": "memberOf"}
    found = import_config.change(ctx, caller, "estates", {"kind": "ldap", "settings": given})
    assert found.settings["membership"] == "memberOf"
    assert found.settings["users_filter"] == "(objectClass=posixAccount)"
    # Another connector than that of the template has none of its values.
    new_sources.add(ctx, caller, "rota", "Rota", "ldap-posix")
    assert import_config.change(ctx, caller, "rota", {"kind": "csv", "settings": {}}).kind == "csv"
    assert services.rows(t.source, key="rota")[0].policy is None


def test_an_unknown_template_adds_no_source(services: ServiceFixture) -> None:
    before = len(services.rows(t.source))
    with pytest.raises(InvalidInput, match="no source template 'ldap-posx'") as wrong:
        new_sources.add(services.ctx, services.caller, "estates", "Estates", "ldap-posx")
    assert "ldap-posix" in wrong.value.hint
    assert len(services.rows(t.source)) == before


def test_unix_accounts_without_names_take_them_from_gecos() -> None:
    policy = read_policy(templates.get("ldap-posix").policy, kind_of("ldap").reads)
    user = policy.user({"uid": ["una.kerrigan"], "gecos": ["Una Kerrigan"], "cn": ["una"]})
    assert user["displayName"] == "Una Kerrigan"
    assert user["name"] == {"givenName": "Una", "familyName": "Kerrigan"}


def test_claims_named_by_object_identifier_become_a_user() -> None:
    policy = read_policy(templates.get("saml-object-identifiers").policy, ENTRY)
    claims = {
        "urn:oid:0.9.2342.19200300.100.1.1": ["idris.vance"],
        "urn:oid:0.9.2342.19200300.100.1.3": ["idris.vance@rootworks.example"],
        "urn:oid:2.5.4.42": ["Idris"],
        "urn:oid:2.5.4.4": ["Vance"],
        "uid": ["another.user"],
    }
    user = policy.user(read_claims(claims, "s-1").attributes)
    assert user["userName"] == "idris.vance"
    assert user["name"] == {"givenName": "Idris", "familyName": "Vance"}
    assert user["emails"] == [{"type": "work", "value": "idris.vance@rootworks.example"}]
