"""Groups that only claims have named: offered for mapping, made ahead, and filled by whoever comes with them."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound
from dravo.services.access import assignments
from dravo.services.access.assignments import Wish
from dravo.services.ingest import claimed_groups
from dravo.services.sign_in import settings as sign_in_settings
from dravo.services.sign_in import test_sign_ins
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.verification import Arrival
from dravo.store import tables as t
from dravo.store.pagination import Ask
from tests.service_fixture import Rooms
from tests.services.sign_in.test_jit_provisioning import Door
from tests.services.sign_in.test_settings import FIELDS

BASE = "https://dravo.fernhollow.example"


@pytest.fixture
def door(rooms: Rooms) -> Door:
    made = Door(rooms, rooms.source("contractors"))
    sign_in_settings.change(rooms.house, rooms.caller, "contractors", {"protocol": "saml", "fields": FIELDS})
    return made


def keep(rooms: Rooms, door: Door, arrival: Arrival, **more: Any) -> str:
    """Keep a trace of an arrival, as signing in does."""
    row = {
        "source_id": door.source_id, "trial_id": None, "outcome": "observed", "reason": None, "message": "It would work.", "mend": "", "name": "Idris",
        "user_id": arrival.user_id, "steps": door.steps.lines, "arrived": {}, "came_to": arrival.document(), "raw": None,
    }  # fmt: skip
    with rooms.house.database.writing() as connection:
        return sign_in_traces.write(connection, {**row, **more})


def offered(rooms: Rooms, words: str = "") -> list[tuple[str, str]]:
    return [(each["source"]["key"], each["name"]) for each in claimed_groups.seen(rooms.house, words)["items"]]


def test_what_a_look_has_shown_is_offered_until_it_is_here(rooms: Rooms, door: Door) -> None:
    assert offered(rooms) == []
    keep(rooms, door, door.come(look_only=True, groups=["Site", "Scaffolders"]))
    keep(rooms, door, door.come("s-2", look_only=True, username=["juno"], email=["juno@rootworks.example"], groups=["site", "Yard"]))
    assert not rooms.rows(t.group)
    assert [name.lower() for _, name in offered(rooms)] == ["scaffolders", "site", "yard"]
    assert offered(rooms, " SCAFF ") == [("contractors", "Scaffolders")]
    made = claimed_groups.make(rooms.house, rooms.caller, "contractors", " Scaffolders ")
    assert made["name"] == "Scaffolders" and ("contractors", "Scaffolders") not in offered(rooms)
    for wrong, name in ((AlreadyThere, "scaffolders"), (InvalidInput, " "), (InvalidInput, "x" * 201)):
        with pytest.raises(wrong):
            claimed_groups.make(rooms.house, rooms.caller, "contractors", name)
    rooms.source("others")
    with pytest.raises(NotFound, match="Nobody signs in"):
        claimed_groups.make(rooms.house, rooms.caller, "others", "Scaffolders")


def test_a_group_made_ahead_is_the_one_that_they_come_with(rooms: Rooms, door: Door) -> None:
    rooms.application()
    made = claimed_groups.make(rooms.house, rooms.caller, "contractors", "Scaffolders")
    assignments.add(rooms.house, rooms.caller, Wish("records", "curator", group=made["id"]))
    arrived = door.come(groups=["scaffolders"])
    assert [(each["role"], each["what"]) for each in arrived.access] == [("Curator", "gained")]
    assert [row.id for row in rooms.rows(t.group)] == [made["id"]]
    # Of a group of the same name in another source nothing follows.
    other = Door(rooms, rooms.source("guests"))
    assert other.come("s-9", username=["odalys"], email=["odalys@guests.example"], groups=["Scaffolders"]).access == []


def test_a_trial_tells_how_far_it_has_come(rooms: Rooms, door: Door) -> None:
    made = test_sign_ins.begin(rooms.house, rooms.caller, "contractors", "idris.vance", "observe", BASE)
    assert (made["so_far"], made["trace"]) == ("not opened", None)
    trace = keep(rooms, door, door.come(look_only=True), trial_id=made["id"])
    found = test_sign_ins.listing(rooms.house, "contractors", Ask(None, 10))["items"]
    assert [(each["so_far"], each["trace"], each["message"]) for each in found] == [("observed", trace, "It would work.")]
