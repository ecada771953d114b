"""Groups that only claims have named: offered for mapping, made ahead, and filled by anyone who comes with
them.
"""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.ingest import claimed_groups
from dravo.services.sign_in import test_sign_ins
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.test_sign_ins import NewTestSignIn
from dravo.services.sign_in.verification import JitResult
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture
from tests.services.sign_in.test_jit_provisioning import Door
from tests.services.sign_in.test_settings import FIELDS

BASE = "https://dravo.fernhollow.example"


@pytest.fixture
def door(services: ServiceFixture) -> Door:
    made = Door(services, services.source("contractors"))
    sign_in_settings.change(
        services.ctx, services.caller, "contractors", {"protocol": "saml", "fields": FIELDS}
    )
    return made


def keep(services: ServiceFixture, door: Door, arrival: JitResult, **more: Any) -> str:
    """Keep a trace of an arrival, as the bind does."""
    row = {
        "source_id": door.source_id,
        "test_id": None,
        "outcome": "observed",
        "reason": None,
        "message": "Sign-in would succeed.",
        "hint": "",
        "name": "Idris",
        "user_id": arrival.user_id,
        "steps": door.steps.lines,
        "received": {},
        "result": arrival.document(),
        "raw": None,
    }
    with services.ctx.database.writing() as connection:
        return sign_in_traces.write(connection, {**row, **more})


def offered(services: ServiceFixture, words: str = "") -> list[tuple[str, str]]:
    return [(each.source.key, each.name) for each in claimed_groups.seen(services.ctx, words).items]


def test_claimed_groups_are_offered_until_they_exist(services: ServiceFixture, door: Door) -> None:
    assert offered(services) == []
    keep(services, door, door.come(preview=True, groups=["Site", "Scaffolders"]))
    keep(
        services,
        door,
        door.come(
            "s-2", preview=True, username=["juno"], email=["juno@rootworks.example"], groups=["site", "Yard"]
        ),
    )
    assert not services.rows(t.group)
    assert [name.lower() for _, name in offered(services)] == ["scaffolders", "site", "yard"]
    assert offered(services, " SCAFF ") == [("contractors", "Scaffolders")]
    made = claimed_groups.make(services.ctx, services.caller, "contractors", " Scaffolders ")
    assert made.name == "Scaffolders" and ("contractors", "Scaffolders") not in offered(services)
    for wrong, name in ((AlreadyExists, "scaffolders"), (InvalidInput, " "), (InvalidInput, "x" * 201)):
        with pytest.raises(wrong):
            claimed_groups.make(services.ctx, services.caller, "contractors", name)
    services.source("others")
    with pytest.raises(NotFound, match="'Others' has no sign-in"):
        claimed_groups.make(services.ctx, services.caller, "others", "Scaffolders")


def test_a_group_created_ahead_is_used_by_the_first_sign_in(services: ServiceFixture, door: Door) -> None:
    services.application()
    made = claimed_groups.make(services.ctx, services.caller, "contractors", "Scaffolders")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", group=made.id))
    arrived = door.come(groups=["scaffolders"])
    assert [(each["role"], each["what"]) for each in arrived.access] == [("Curator", "gained")]
    assert [row.id for row in services.rows(t.group)] == [made.id]
    # Of a group of the same name in another source nothing follows.
    other = Door(services, services.source("guests"))
    assert (
        other.come("s-9", username=["odalys"], email=["odalys@guests.example"], groups=["Scaffolders"]).access
        == []
    )


def test_a_sign_in_test_tells_how_far_it_has_come(services: ServiceFixture, door: Door) -> None:
    made = test_sign_ins.begin(
        services.ctx, services.caller, "contractors", NewTestSignIn("idris.vance", "observe"), BASE
    )
    assert (made.so_far, made.trace) == ("not_opened", None)
    trace = keep(services, door, door.come(preview=True), test_id=made.id)
    found = test_sign_ins.list_test_sign_ins(services.ctx, "contractors", PageRequest(None, 10)).items
    assert [(each.so_far, each.trace, each.message) for each in found] == [
        ("observed", trace, "Sign-in would succeed.")
    ]
