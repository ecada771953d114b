"""What a provider claims, as expressions name it: with and without a namespace, by identifiers, in any
letter case.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.expressions.functions import text_of
from dravo.core.identity.claims import looks_like_id, read_claims, safe_policy, told_groups, usual_policy
from dravo.core.identity.names import fold
from dravo.core.identity.source_policy import ASK, BY_EMAIL

SPACE = "http://schemas.fernhollow.example/claims/"
ENTERPRISE = "urn:oid:2.5.4."


@pytest.mark.parametrize(
    ("name", "short"),
    [
        (f"{SPACE}EmailAddress", "emailaddress"),
        (f"{SPACE}groups", "groups"),
        ("urn:oid:0.9.2342.19200300.100.1.3", "mail"),
        (f"{ENTERPRISE}42", "givenname"),
        (f"{ENTERPRISE}4", "sn"),
        ("urn:fernhollow:names#title", "title"),
        ("Mail", None),
        ("mail", None),
    ],
)
def test_a_name_is_found_whole_and_by_its_short_form(name: str, short: str | None) -> None:
    claims = read_claims({name: ["x"]}, "s")
    assert claims.attributes[name.lower()] == ["x"]
    assert claims.short == ({} if short is None else {short: name.lower()})
    if short is not None:
        assert claims.attributes[short] == ["x"]


def test_an_ambiguous_short_name_means_no_claim() -> None:
    both = read_claims({f"{SPACE}mail": ["a"], "http://other.example/mail": ["b"]}, "s")
    assert "mail" not in both.attributes and both.short == {}
    itself = read_claims({f"{SPACE}mail": ["a"], "mail": ["b"]}, "s")
    assert itself.attributes["mail"] == ["b"]


def test_values_of_two_spellings_merge_and_composites_are_text() -> None:
    claims = read_claims({"Groups": ["a"], "groups": ["b", 3, True, {"c": 1}]}, "s")
    assert claims.attributes["groups"] == ["a", "b", 3, True, "{'c': 1}"]


@pytest.mark.parametrize("name", ["subject", "SUBJECT", f"{SPACE}subject"])
def test_no_claim_takes_the_place_of_the_subject(name: str) -> None:
    assert read_claims({name: ["edmund.sallow"]}, "s-17").attributes["subject"] == ["s-17"]


@pytest.mark.parametrize(
    ("protocol", "came", "made"),
    [
        (
            "saml",
            {"uid": ["una"], "mail": ["una@x.example"], "sn": ["Kerrigan"]},
            ("una", "una@x.example", "Kerrigan"),
        ),
        (
            "saml",
            {f"{SPACE}emailaddress": ["una@x.example"], f"{SPACE}surname": ["Kerrigan"]},
            ("una@x.example", "una@x.example", "Kerrigan"),
        ),
        ("saml", {"displayName": ["Una"]}, ("s-17", None, None)),
        (
            "oidc",
            {"preferred_username": ["una"], "email": ["una@x.example"], "family_name": ["Kerrigan"]},
            ("una", "una@x.example", "Kerrigan"),
        ),
        ("oidc", {"name": ["Una"]}, ("s-17", None, None)),
    ],
)
def test_the_usual_answers_understand_what_providers_usually_send(
    protocol: str, came: dict[str, Any], made: tuple[Any, ...]
) -> None:
    user = usual_policy(protocol).user(read_claims(came, "s-17").attributes)
    email = user.get("emails", [{}])[0].get("value")
    assert (user["userName"], email, user.get("name", {}).get("familyName")) == made


@pytest.mark.parametrize(
    ("came", "told"),
    [
        ({}, None),
        ({"mail": ["x"]}, None),
        ({"groups": []}, []),
        ({"groups": ["A", "a", " B "]}, ["A", "B"]),
        ({"memberOf": ["A"]}, ["A"]),
        ({"roles": ["A"]}, ["A"]),
        ({f"{SPACE}groups": ["A"]}, ["A"]),
        ({"group": ["A"], "roles": ["B"]}, ["A"]),
    ],
)
def test_messages_about_groups(came: dict[str, list[str]], told: list[str] | None) -> None:
    assert told_groups(usual_policy("saml"), read_claims(came, "s").attributes) == told


def test_a_source_without_group_claims_reports_no_groups() -> None:
    policy = replace(usual_policy("saml"), groups_from=(), gives=("Partners",))
    assert told_groups(policy, read_claims({"groups": ["A"]}, "s").attributes) == ["Partners"]


@pytest.mark.parametrize(
    ("name", "is_id"),
    [
        ("3f0c6a1e-5d0b-4a67-9a2d-6f6d4f0a9b11", True),
        ("3F0C6A1E-5D0B-4A67-9A2D-6F6D4F0A9B11", True),
        ("6aeb9318282bf8eb00112233", True),
        ("1048576", True),
        (" 1048576 ", True),
        ("Site", False),
        ("Team 7", False),
        ("Glazing works 2031", False),
        ("12345", False),
        ("decade", False),
        ("", False),
    ],
)
def test_values_that_look_like_ids(name: str, is_id: bool) -> None:
    assert looks_like_id(name) is is_id


@pytest.mark.parametrize(
    ("says", "verified", "links"),
    [
        (False, [], True),
        (True, [True], True),
        (True, ["true"], True),
        (True, [], False),
        (True, [False], False),
        (True, ["false"], False),
        (True, ["True "], False),
        (True, [1], False),
    ],
)
def test_only_a_verified_address_may_link(says: bool, verified: list[Any], links: bool) -> None:
    policy = replace(usual_policy("oidc"), match=BY_EMAIL, domains=("fernhollow.example",))
    assert safe_policy(policy, {"email_verified": verified}, says_verified=says).match == (
        BY_EMAIL if links else ASK
    )


_VALUES = st.lists(
    st.one_of(
        st.text(max_size=20), st.sampled_from(["Site", " site ", "SITE", ""]), st.booleans(), st.integers()
    ),
    max_size=4,
)


@given(
    st.dictionaries(
        st.text(min_size=1, max_size=30) | st.sampled_from(["groups", f"{SPACE}groups", "Groups", "subject"]),
        _VALUES,
        max_size=8,
    )
)
def test_no_claims_change_the_subject_or_fail_unexpectedly(came: dict[str, list[Any]]) -> None:
    claims = read_claims(came, "s-17")
    assert claims.attributes["subject"] == ["s-17"]
    assert set(claims.short.values()) <= set(claims.attributes)
    told = told_groups(usual_policy("saml"), claims.attributes)
    # A claim of groups that came is told, also when it is empty; one that did not come is not.
    assert (told is None) == ("groups" not in claims.attributes)
    if told is not None:
        said = [text_of(each).strip() for each in claims.attributes["groups"]]
        assert [fold(each) for each in told] == list(dict.fromkeys(fold(each) for each in said if each))
        assert set(told) <= set(said)
