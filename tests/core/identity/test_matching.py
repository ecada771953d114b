"""Whose a record is: bound for good, linked only if it is safe, else decided by a user.

Thought of as somebody who would be somebody else.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.identity.matching import (
    EMAIL_KNOWN,
    LEAVER,
    NAME_KNOWN,
    OPERATOR,
    TWO_RECORDS,
    Binding,
    Candidate,
    Conflict,
    bind,
    match,
)
from dravo.core.identity.source_policy import ASK, BY_EMAIL, BY_USER_NAME, SourcePolicy

HOME, ELSEWHERE = "fernhollow.example", "elsewhere.example"
UNA = {"userName": "una", "emails": [{"value": f"una@{HOME}"}]}


def policy(match_by: str, *domains: str) -> SourcePolicy:
    return SourcePolicy(match_by, domains or (HOME,), attributes=(("userName", "uid"),))


def candidate(
    user_id: str = "u1", name: str = "una", email: str | None = f"una@{HOME}", **more: Any
) -> Candidate:
    return Candidate(user_id, name, email, **{"name_counts": True, "email_counts": True, **more})


def kind(found: Binding | Conflict) -> str:
    assert isinstance(found, Conflict), found
    return found.kind


def test_a_linked_record_stays_linked_without_a_search() -> None:
    assert bind("u1", "u2") == Binding("u1", new=False)
    assert bind(None, "u2") == Binding("u2", new=True)


def test_no_match_is_a_new_user() -> None:
    assert match(UNA, [], policy(ASK), "u9") == Binding("u9", new=True)


@pytest.mark.parametrize(
    ("match_by", "data", "who", "linked"),
    [
        (BY_USER_NAME, UNA, candidate(), True),
        (BY_EMAIL, UNA, candidate(name="other"), True),
        (BY_EMAIL, {**UNA, "emails": [{"value": f"UNA@{HOME.upper()}"}]}, candidate(), True),
        # What anybody could say of their own users counts for nothing.
        (BY_USER_NAME, UNA, candidate(name_counts=False), False),
        (BY_USER_NAME, UNA, candidate(email_counts=False), False),
        (BY_EMAIL, UNA, candidate(email_counts=False), False),
        (BY_EMAIL, UNA, candidate(name_counts=False), True),
        # Nothing is linked unless the source says by what.
        (ASK, UNA, candidate(), False),
        # By user name, the user's address and the record's must both be of a domain that the source owns.
        (BY_USER_NAME, UNA, candidate(email=f"una@{ELSEWHERE}"), False),
        (BY_USER_NAME, UNA, candidate(email=None), False),
        (BY_USER_NAME, {**UNA, "emails": [{"value": f"una@{ELSEWHERE}"}]}, candidate(), False),
        # By address, the same address: a part of it, or a domain that only ends like one of the source's, is
        # another one.
        (
            BY_EMAIL,
            {**UNA, "emails": [{"value": f"una@not{HOME}"}]},
            candidate(email=f"una@not{HOME}"),
            False,
        ),
        (
            BY_EMAIL,
            {**UNA, "emails": [{"value": f"una@{HOME}.{ELSEWHERE}"}]},
            candidate(email=f"una@{HOME}.{ELSEWHERE}"),
            False,
        ),
        (BY_EMAIL, {"userName": "una"}, candidate(), False),
        (BY_EMAIL, UNA, candidate(email=f"una2@{HOME}"), False),
        # A user name is no address, whatever it looks like.
        (
            BY_USER_NAME,
            {"userName": f"una@{HOME}"},
            candidate(name=f"una@{HOME}", email=f"una@{ELSEWHERE}"),
            False,
        ),
    ],
)
def test_a_rule_links_only_what_is_safe(
    match_by: str, data: dict[str, Any], who: Candidate, linked: bool
) -> None:
    found = match(data, [who], policy(match_by), "u9")
    assert (found == Binding("u1", new=False)) == linked
    if not linked:
        assert kind(found) in (NAME_KNOWN, EMAIL_KNOWN)


@pytest.mark.parametrize(
    ("who", "told"),
    [
        (candidate(operator=True), OPERATOR),
        (candidate(gone=True), LEAVER),
        (candidate(here=True), TWO_RECORDS),
        (candidate(name="other", gone=True), LEAVER),
        (candidate(operator=True, gone=True), OPERATOR),
    ],
)
def test_no_rule_links_to_an_operator_a_leaver_or_a_user_of_this_source(who: Candidate, told: str) -> None:
    for match_by in (ASK, BY_USER_NAME, BY_EMAIL):
        assert kind(match(UNA, [who], policy(match_by), "u9")) == told


def test_two_matches_are_a_conflict() -> None:
    found = match(UNA, [candidate(), candidate("u2", "other")], policy(BY_USER_NAME), "u9")
    assert kind(found) == NAME_KNOWN and isinstance(found, Conflict) and found.candidates == ("u1", "u2")
    assert (
        kind(match(UNA, [candidate(name="other"), candidate("u2", "another")], policy(BY_EMAIL), "u9"))
        == EMAIL_KNOWN
    )


def test_records_of_one_source_with_one_name_are_one_user() -> None:
    assert match(UNA, [candidate(email=None, here=False)], policy(ASK), "u9") == Binding("u1", new=False)
    # By the address alone it is not.
    assert kind(match(UNA, [candidate(name="other", here=False)], policy(ASK), "u9")) == EMAIL_KNOWN


@given(
    st.lists(
        st.builds(
            Candidate,
            st.sampled_from(["u1", "u2", "u3"]),
            st.sampled_from(["una", "other"]),
            st.sampled_from([None, f"una@{HOME}", f"x@{ELSEWHERE}"]),
            st.booleans(),
            st.booleans(),
            st.sampled_from([None, True, False]),
        ),
        max_size=3,
        unique_by=lambda each: each.user_id,
    ),
    st.sampled_from([ASK, BY_USER_NAME, BY_EMAIL]),
)
def test_no_record_is_linked_to_a_forbidden_user(candidates: list[Candidate], match_by: str) -> None:
    found = match(UNA, candidates, policy(match_by), "u9")
    if isinstance(found, Conflict):
        assert set(found.candidates) == {each.user_id for each in candidates} and found.message
        assert not may_be_linked(candidates, match_by)
        return
    if found.new:
        assert candidates == []
        return
    (who,) = [each for each in candidates if each.user_id == found.user_id]
    assert may_be_linked(candidates, match_by)
    assert who == candidates[0]


def may_be_linked(candidates: list[Candidate], match_by: str) -> bool:
    """Whether Una's record may be linked by itself, said once more in other words than the code's."""
    if len(candidates) != 1:
        return False
    who = candidates[0]
    if who.gone or who.operator or who.here is True:
        return False
    same_name, same_email = who.user_name_key == "una", who.email == f"una@{HOME}"
    if who.here is False and same_name:
        return True
    if match_by == BY_EMAIL:
        return same_email
    return match_by == BY_USER_NAME and same_name and (who.email or "").endswith(f"@{HOME}")
