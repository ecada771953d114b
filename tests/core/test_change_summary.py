"""What a change led to, as it is kept with the request that asked for it."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.access.types import Assignment
from dravo.core.change_summary import MOST_SHOWN, changed_attributes, effects
from dravo.core.identity.records import UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import Application, ConfigSnapshot, Role, UserPlan, UserSnapshot
from dravo.core.planning import plan_user
from dravo.core.provisioning.accounts import Settings

NOW = Instant("2031-04-02T09:15:00.000000Z")
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


@pytest.fixture
def catalogue() -> ConfigSnapshot:
    """An application whose only role a group gives."""
    application = Application("a", "records", "Plant Records", Settings())
    role = Role("viewer", "Viewer", 1, "r", "a")
    return ConfigSnapshot(
        1, {"a": application}, {"r": role}, {"g": (Assignment("x", "a", "r", group_id="g"),)}, {}, {}, {}
    )


def outcome(catalogue: ConfigSnapshot, number: int, *groups: str, active: bool = True) -> UserPlan:
    record = UserRecord(
        f"rec{number}",
        "s",
        "inbound_scim",
        {"userName": f"p{number}", "displayName": f"User {number}", "active": active},
        f"u{number}",
    )
    return plan_user(UserSnapshot(f"u{number}", 1, (record,), groups), catalogue, NOW)


def test_who_gained_what_and_which_accounts_are_due(catalogue: ConfigSnapshot) -> None:
    led_to = effects([outcome(catalogue, 1, "g"), outcome(catalogue, 2)], catalogue)
    assert led_to["more"] == 0
    assert led_to["users"] == [
        {
            "id": "u1",
            "name": "User 1",
            "gained": ["Viewer in Plant Records"],
            "lost": [],
            "accounts": [["Plant Records", "active, Viewer"]],
        }
    ], "who is not touched is not named"


def test_of_very_many_the_first_are_named_and_the_others_counted(catalogue: ConfigSnapshot) -> None:
    led_to = effects([outcome(catalogue, number, "g") for number in range(MOST_SHOWN + 7)], catalogue)
    assert (len(led_to["users"]), led_to["more"]) == (MOST_SHOWN, 7)


@pytest.mark.parametrize(
    ("before", "after", "names"),
    [
        ({}, {}, []),
        ({"title": "a"}, {"title": "a"}, []),
        ({"title": "a"}, {"title": "b", "nickName": "c"}, ["title", "nickName"]),
        ({"title": "a"}, {}, ["title"]),
        ({ENTERPRISE: {"department": "x"}}, {ENTERPRISE: {"department": "y"}}, ["department"]),
    ],
)
def test_changed_attributes_are_named_shortly(
    before: dict[str, Any], after: dict[str, Any], names: list[str]
) -> None:
    assert changed_attributes(before, after) == names
