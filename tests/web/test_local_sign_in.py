"""Sign-in of local users over HTTP: what is closed without local users, and what nobody may send."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.services import settings
from dravo.services.ingest.local import users as local_users
from dravo.services.local_users import one_time_passwords
from dravo.services.security.passkeys import relying_party
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture


@pytest.fixture
def http(services: ServiceFixture) -> Any:
    """A browser at a service with one local user, Kiosk."""
    local_users.add(services.ctx, services.caller, {"user_name": "kiosk.one", "given_name": "Kiosk"})
    return create_app(services.ctx, "http://dravo.fernhollow.example").test_client()


def test_an_organization_without_local_users_offers_none_of_it(services: ServiceFixture, http: Any) -> None:
    (given,) = one_time_passwords.create(services.ctx, services.caller, ["kiosk.one"]).items
    body = {"name": "kiosk.one", "password": given.password}
    assert http.get("/api/v1/sign-in").json["by_password"]
    assert http.post("/api/v1/sign-in/password", json=body).json["outcome"] == "new_password"
    settings.change(services.ctx, services.caller, "local_users", False)
    assert not http.get("/api/v1/sign-in").json["any"]
    for path, sent in (
        ("/sign-in/password", body),
        ("/sign-in/password/forgotten", {"email": "kiosk@guests.example"}),
        ("/sign-in/password/reset", {"secret": "x", "password": "y" * 20}),
        ("/invitation/open", {"secret": "x"}),
        ("/invitation/accept", {"secret": "x", "password": "y" * 20}),
    ):
        refused = http.post(f"/api/v1{path}", json=sent)
        assert refused.status_code == 403 and refused.json["error"]["code"] == "not_permitted", path


def test_a_password_of_dravo_is_offered_only_in_domains_of_its_users(
    services: ServiceFixture, http: Any
) -> None:
    def offered(name: str) -> bool:
        return bool(http.get("/api/v1/sign-in", query_string={"email": name}).json["by_password"])

    assert not offered("una@guests.example")
    one_time_passwords.create(services.ctx, services.caller, ["kiosk.one"])
    # Whether this address is known is not revealed: it is offered to all whose domain has no source.
    assert offered("nobody@guests.example") and offered("kiosk.one") and offered("nobody")


def test_nothing_that_a_browser_sends_as_a_passkey_is_an_error_of_the_service(http: Any) -> None:
    for credential in ({}, {"id": 1}, {"id": "x", "rawId": [], "response": None}, {"response": {"a": {}}}):
        body = {"state": "x", "code": "", "passkey": {"state": "y", "credential": credential}}
        assert http.post("/api/v1/sign-in/password/factor", json=body).status_code == 404


@pytest.mark.parametrize(
    ("address", "party"),
    [
        ("https://dravo.fernhollow.example", "dravo.fernhollow.example"),
        ("https://dravo.fernhollow.example:8443", "dravo.fernhollow.example"),
        ("http://127.0.0.1:8420", "localhost"),
        ("http://[::1]:8420", "localhost"),
        ("http://192.0.2.7:8420", None),
    ],
)
def test_a_passkey_belongs_to_a_name(address: str, party: str | None) -> None:
    found = relying_party(address)
    assert (found.id if found else None) == party
    assert found is None or found.origin.startswith(address.split("//", maxsplit=1)[0])
