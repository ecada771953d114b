"""Accounts found in an application that belong to no user: what a policy does, and what it leaves."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.provisioning.found_accounts import Candidate, Matches, decide, searched

ADA = Candidate("1", "Ada", active=True, has_access=True, linked=False, own_email=True)
AWAY = Candidate("1", "Ada", active=False, has_access=False, linked=False, own_email=True)
TWICE = Candidate("1", "Ada", active=True, has_access=True, linked=True, own_email=True)
UNPROVED = Candidate("1", "Ada", active=True, has_access=True, linked=False, own_email=False)
BOB = Candidate("2", "Bob", active=True, has_access=False, linked=False, own_email=True)


def by(attribute: str, *users: Candidate) -> list[Matches]:
    return [Matches(attribute, users)]


@pytest.mark.parametrize(
    ("there", "matches", "may_create", "action", "words"),
    [
        ({}, by("userName", ADA), False, "link", ""),
        ({}, by("userName", BOB), False, "assign_and_link", ""),
        ({}, by("userName", ADA) + by("emails", ADA), False, "link", ""),
        (
            {},
            by("userName", ADA) + by("emails", BOB),
            False,
            "leave",
            "Several users match the account: Ada",
        ),
        ({}, by("userName", ADA, BOB), True, "leave", "Several users"),
        ({}, by("userName"), False, "leave", "No user matches"),
        ({}, by("userName"), True, "create_user", ""),
        ({"active": False}, by("userName", ADA), True, "leave", "inactive"),
        ({"externalId": "9"}, by("userName", ADA), True, "leave", "another external ID"),
        (
            {},
            by(
                "userName",
                Candidate("1", "Ada", active=False, has_access=False, linked=False, own_email=True),
            ),
            True,
            "leave",
            "Ada is inactive.",
        ),
        (
            {},
            by("userName", Candidate("1", "Ada", active=True, has_access=True, linked=True, own_email=True)),
            True,
            "leave",
            "Ada has another account",
        ),
        # An email address that a source cannot vouch for proves nothing.
        (
            {},
            by("emails", Candidate("1", "Ada", active=True, has_access=True, linked=False, own_email=False)),
            False,
            "leave",
            "No user matches",
        ),
    ],
)
def test_an_account_is_linked_only_without_a_doubt(
    there: dict[str, Any], matches: list[Matches], may_create: bool, action: str, words: str
) -> None:
    found = decide(there, matches, may_create=may_create)
    assert (found.action, words in found.message) == (action, True)
    assert bool(found.hint) is (action == "leave")


def test_users_are_searched_by_the_attributes_of_the_setting() -> None:
    there = {"userName": "ADA", "emails": [{"value": "Ada@x.example"}], "nickName": "Addi"}
    assert searched(there, ()) == {"userName": ["ada"]}
    assert searched(there, ["emails", "nickName", "title"]) == {
        "emails": ["ada@x.example"],
        "nickName": ["Addi"],
    }
