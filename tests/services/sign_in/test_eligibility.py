"""By which ways somebody could sign in, foretold: what it says is what then happens."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import update

from dravo.protocols.verified_identity import SignInRefused
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignments import Wish
from dravo.services.notifications import mail_queue
from dravo.services.sign_in import eligibility
from dravo.services.sign_in import settings as sign_in_settings
from dravo.services.sources import policy as source_policies
from dravo.store import tables as t
from tests.service_fixture import Rooms
from tests.services.sign_in.test_jit_provisioning import Door
from tests.services.sign_in.test_settings import FIELDS

MAIL = "idris.vance@rootworks.example"
OWNED = {"match": "user name", "domains": ["rootworks.example"]}


@pytest.fixture
def house(rooms: Rooms) -> Rooms:
    """A house in which somebody of the staff could come by the contractors' provider too."""
    rooms.source("contractors")
    sign_in_settings.change(rooms.house, rooms.caller, "contractors", {"protocol": "saml", "fields": FIELDS})
    return rooms


def put(rooms: Rooms, state: str, pilot: str = "") -> None:
    with rooms.house.database.writing() as connection:
        for row in rooms.rows(t.source_sign_in):
            here = t.source_sign_in.c.source_id == row.source_id
            connection.execute(update(t.source_sign_in).where(here).values(state=state, settings={**row.settings, "pilot": pilot}))


def way(rooms: Rooms, who: str = "idris.vance") -> dict[str, Any]:
    ways: list[dict[str, Any]] = eligibility.of_person(rooms.house, who)["ways"]
    return ways[0]


def staff(rooms: Rooms, **more: Any) -> tuple[str, str]:
    source = rooms.source("staff", MAIL.rpartition("@")[2])
    return source, rooms.person(source, "idris.vance", emails=[{"value": MAIL, "primary": True}], **more)


def test_where_it_is_not_in_force_they_would_read_so(house: Rooms) -> None:
    staff(house)
    settings.change(house.house, house.caller, "whom_to_ask", "Ask Hazel Marlow.")
    found = way(house)
    assert (found["opens"], found["told"], found["bound_at"]) == (False, "Signing in this way is not open yet.", None)
    assert (found["whom_to_ask"], found["source"]["key"], found["protocol"]) == ("Ask Hazel Marlow.", "contractors", "SAML 2.0")
    assert "not in force" in found["reason"] and "trial" in found["mend"]


def test_a_pilot_group_opens_it_to_those_who_are_known_to_be_in_it(house: Rooms) -> None:
    source, record = staff(house)
    sign_in_settings.change(house.house, house.caller, "contractors", {"policy": OWNED})
    put(house, "pilot", "First ones")
    house.group(source, "First ones", record)
    # A group of that name in another source is not the pilot group.
    assert way(house)["told"] == "Signing in this way is not open for you yet."
    door = Door(house, house.rows(t.source, key="contractors")[0].id)
    door.come("s-9", username=["juno.marlow"], email=["juno.marlow@rootworks.example"], groups=["First ones"])
    assert way(house, "juno.marlow")["opens"]
    assert not way(house)["opens"]


@pytest.mark.parametrize(
    ("policy", "reason"),
    [
        ({}, "conflict"),
        (OWNED, None),
        ({"match": "e-mail", "domains": ["rootworks.example"]}, None),
        ({"match": "user name", "domains": ["elsewhere.example"]}, "conflict"),
    ],
)
def test_whose_the_first_one_would_be_is_foretold_as_it_comes(house: Rooms, policy: dict[str, Any], reason: str | None) -> None:
    staff(house)
    put(house, "everybody")
    sign_in_settings.change(house.house, house.caller, "contractors", {"policy": policy})
    found = way(house)
    assert found["opens"] == (reason is None)
    row = house.rows(t.source_sign_in)[0]
    door = Door(house, row.source_id, source_policies.sign_in_policy(row))
    if reason is None:
        door.come()
        assert way(house)["bound_at"] == house.rows(t.record, source_id=row.source_id)[0].created_at
        assert len(house.rows(t.user)) == 1
        return
    with pytest.raises(SignInRefused) as wrong:
        door.come(look_only=True)
    assert (wrong.value.reason, wrong.value.message, wrong.value.mend) == (reason, found["reason"], found["mend"])
    assert found["told"] == "Somebody has to confirm first who you are here."


def test_who_is_bound_and_outside_by_now_or_inactive_is_told_apart(house: Rooms) -> None:
    put(house, "everybody")
    door = Door(house, house.rows(t.source)[0].id)
    house.application()
    door.come(groups=["Site"])
    assignments.add(house.house, house.caller, Wish("records", "curator", group="Site", source="contractors"))
    seen = eligibility.of_person(house.house, "idris.vance")
    assert (seen["ways"][0]["opens"], [(each["key"], each["roles"]) for each in seen["applications"]]) == (True, [("records", ["Curator"])])
    sign_in_settings.change(house.house, house.caller, "contractors", {"policy": {"people": 'userName sw "x"'}})
    assert "outside of whom you let in" in way(house)["reason"]
    sign_in_settings.change(house.house, house.caller, "contractors", {"policy": {"people": ""}})
    with house.house.database.writing() as connection:
        connection.execute(update(t.user).values(active=False))
    after = eligibility.of_person(house.house, "idris.vance")
    assert (after["ways"][0]["told"], after["applications"]) == ("You may not come in here any more.", [])


def test_a_code_goes_only_to_an_address_of_the_domain(house: Rooms) -> None:
    house.source("volunteers")
    given = {"protocol": "mail", "policy": {"domains": ["volunteers.example"]}}
    sign_in_settings.change(house.house, house.caller, "volunteers", given)
    mail_queue.change(house.house, house.caller, {"host": "mail.fernhollow.example", "sender": "dravo@fernhollow.example"})
    put(house, "everybody")
    staff(house)
    found = eligibility.of_person(house.house, "idris.vance")["ways"][1]
    assert (found["opens"], found["told"], found["protocol"]) == (False, "Nobody of this domain signs in by a code.", "a code by mail")
    assert "domain" in found["mend"]
    # Whoever is bound by an address of the domain gets codes there, whatever other address a source of higher precedence gives them.
    row = house.rows(t.source_sign_in, protocol="mail")[0]
    door = Door(house, row.source_id, sign_in_settings.policy_with(row, {"makes": True}))
    door.come("p-1", email=["petra.lind@volunteers.example"], name=["Petra Lind"], registered=[])
    with house.house.database.writing() as connection:
        connection.execute(update(t.user).where(t.user.c.display_name == "Petra Lind").values(email="petra@elsewhere.example"))
    petra = {each["source"]["key"]: each for each in eligibility.of_person(house.house, "petra.lind@volunteers.example")["ways"]}
    assert petra["volunteers"]["opens"] and petra["volunteers"]["bound_at"]


def test_what_is_missing_again_closes_it(house: Rooms) -> None:
    staff(house)
    sign_in_settings.change(house.house, house.caller, "contractors", {"policy": OWNED})
    put(house, "everybody")
    assert way(house)["opens"]
    sign_in_settings.change(house.house, house.caller, "contractors", {"fields": {"certificates": ""}})
    found = way(house)
    assert (found["opens"], found["told"]) == (False, found["reason"])
    assert "the provider's certificate" in found["reason"] and "exchange sheet" in found["mend"]


def test_sources_of_operators_alone_are_no_way_in_for_people(house: Rooms) -> None:
    staff(house)
    sign_in_settings.change(house.house, house.caller, "contractors", {"serves": "operators"})
    assert eligibility.of_person(house.house, "idris.vance")["ways"] == []
