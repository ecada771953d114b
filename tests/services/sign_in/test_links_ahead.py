"""Links ahead of the first record: an operator knows whose subject it is before the user signs in."""

from __future__ import annotations

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.records import SIGN_IN
from dravo.protocols.verified_identity import SignInRefused
from dravo.services.imports import config as import_config
from dravo.services.ingest import conflicts
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import links_ahead
from dravo.services.sources.links_ahead import LinkAhead, LinkWish
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.directories import Reading
from tests.service_fixture import ServiceFixture
from tests.services.sign_in.test_jit_provisioning import ISSUER, Door

NAMED = {"username": ["i.vance"], "email": ["idris@elsewhere.example"], "displayname": ["Idris"]}


class Links:
    """A source with sign-in, and a user whom another source reports."""

    def __init__(self, services: ServiceFixture) -> None:
        self.services = services
        self.record = services.user(services.source("known"), "idris.vance")
        self.source_id = services.source("partners")
        given = {"protocol": "saml", "fields": {"entity_id": ISSUER}}
        sign_in_settings.change(services.ctx, services.caller, "partners", given)
        self.door = Door(services, self.source_id)

    def add(self, subject: str = "s-1", user: str = "idris.vance", kind: str = SIGN_IN) -> LinkAhead:
        wish = LinkWish(kind, subject, user)
        return links_ahead.add(self.services.ctx, self.services.caller, "partners", wish)

    def waiting(self) -> list[str]:
        found = links_ahead.list_links(self.services.ctx, "partners", PageRequest())
        return [each.subject for each in found.items]


@pytest.fixture
def links(services: ServiceFixture) -> Links:
    return Links(services)


def test_the_first_sign_in_is_linked_and_the_link_is_used_up(links: Links) -> None:
    made = links.add()
    assert made.user is not None and links.waiting() == ["s-1"]
    # Links are no conflicts, neither open nor decided ones.
    for status in ("open", "decided"):
        listed = conflicts.list_conflicts(
            links.services.ctx, links.services.caller, "partners", PageRequest(), status
        )
        assert listed.items == []
    result = links.door.come("s-1", **NAMED)
    assert result.user_id == made.user.id and links.waiting() == []
    assert len(links.services.rows(t.user)) == 1
    # Another subject with the same claims is no one else's.
    with pytest.raises(SignInRefused):
        links.door.come("s-2", **NAMED)


def test_a_subject_of_another_provider_is_not_linked(links: Links) -> None:
    links.add()
    provider = {"protocol": "saml", "fields": {"entity_id": "https://other.example"}}
    sign_in_settings.change(links.services.ctx, links.services.caller, "partners", provider)
    assert links.add("s-1").subject == "s-1"
    assert len({row.native_id for row in links.services.rows(t.conflict)}) == 2


def test_a_link_can_be_removed_before_it_is_used(links: Links) -> None:
    made = links.add()
    links_ahead.remove(links.services.ctx, links.services.caller, "partners", made.id)
    assert links.waiting() == []
    result = links.door.come("s-1", **NAMED)
    assert made.user is not None and result.user_id != made.user.id
    with pytest.raises(NotFound, match="no such link"):
        links_ahead.remove(links.services.ctx, links.services.caller, "partners", made.id)


def test_what_cannot_be_linked_is_refused(links: Links) -> None:
    links.add()
    with pytest.raises(AlreadyExists, match="has a link"):
        links.add("s-1")
    links.door.come("s-1", **NAMED)
    with pytest.raises(AlreadyExists, match="has a record of 's-1'"):
        links.add("s-1")
    with pytest.raises(InvalidInput, match="already has a record of"):
        links.add("s-2")
    with pytest.raises(InvalidInput, match="cannot be linked ahead"):
        links.add("s-3", kind="inbound_scim")
    with pytest.raises(InvalidInput, match="1 to 1,000 characters"):
        links.add("a\nb")


def test_an_import_uses_a_link_too(services: ServiceFixture) -> None:
    services.user(services.source("known"), "una")
    reading = Reading(
        services.unguarded(),
        "csv",
        {"id_column": "number"},
        policy={"attributes": [{"attribute": "userName", "expression": "login"}]},
    )
    links_ahead.add(services.ctx, services.caller, "estates", LinkWish("import", "7", "una"))
    import_config.put_file(services.ctx, services.caller, "estates", "users.csv", b"number;login\n7;u.k\n")
    reading.run(whole=True)
    (user,) = services.rows(t.user)
    assert {row.user_id for row in services.rows(t.record)} == {user.id}
