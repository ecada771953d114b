"""Claims and identifiers of users towards applications."""

from __future__ import annotations

import pytest

from dravo.core.app_sign_in import claims, subjects
from dravo.core.app_sign_in.claims import (
    DEFAULT_CLAIMS,
    Claim,
    ClaimSet,
    ClaimUser,
    TooManyValues,
    UserGroup,
    UserRole,
)
from dravo.core.app_sign_in.comparison import difference
from dravo.core.app_sign_in.subjects import NoSubject, Subject
from dravo.core.errors import InvalidInput

UNA = ClaimUser(
    {
        "userName": "una.kerrigan",
        "displayName": "Una Kerrigan",
        "name": {"givenName": "Una", "familyName": "Kerrigan"},
        "emails": [{"value": "una@fernhollow.example", "primary": True}],
        "active": True,
    },
    [
        UserGroup("g1", "Herbarium", "s-1", grants=True),
        UserGroup("g2", "All staff", None),
        UserGroup("g3", "rota-coordinators", "s-3"),
    ],
    [UserRole("viewer", "Viewer", "V", 1), UserRole("curator", "Curator", "urn:rec:curator", 2)],
)


def of(claim: Claim, user: ClaimUser = UNA) -> tuple[str, ...]:
    (found,) = ClaimSet([claim]).values(user)
    return found.values


def test_the_default_set_has_what_most_applications_expect() -> None:
    found = {each.name: each.values for each in ClaimSet(DEFAULT_CLAIMS).values(UNA)}
    assert found == {
        "email": ("una@fernhollow.example",),
        "given_name": ("Una",),
        "family_name": ("Kerrigan",),
        "display_name": ("Una Kerrigan",),
        "user_name": ("una.kerrigan",),
        "roles": ("urn:rec:curator", "V"),
    }


@pytest.mark.parametrize(
    ("claim", "values"),
    [
        (Claim("c", expression='"constant"'), ("constant",)),
        (Claim("c", expression='"{name.familyName}, {name.givenName}"'), ("Kerrigan, Una",)),
        (Claim("c", expression="active"), ("true",)),
        (Claim("c", expression="title"), ()),
        (
            Claim("g", kind="groups", which="all", written_as="name"),
            ("All staff", "Herbarium", "rota-coordinators"),
        ),
        (Claim("g", kind="groups", which="granting", written_as="id"), ("g1",)),
        (Claim("g", kind="groups", which="all", written_as="source_id"), ("s-1", "s-3")),
        (
            Claim("g", kind="groups", which="pattern", written_as="name", pattern="^rota-"),
            ("rota-coordinators",),
        ),
        (Claim("r", kind="roles", which="highest", written_as="key"), ("curator",)),
        (Claim("r", kind="roles", which="several", written_as="label"), ("Curator", "Viewer")),
    ],
)
def test_a_claim_has_values_of_attributes_groups_or_roles(claim: Claim, values: tuple[str, ...]) -> None:
    assert of(claim) == values


@pytest.mark.parametrize(
    ("claim", "message"),
    [
        (Claim(" email", expression="userName"), "is not a claim name"),
        (Claim("c", expression="userNme"), "Claim 'c'"),
        (Claim("c", kind="group"), "unknown kind 'group'"),
        (Claim("g", kind="groups", which="some", written_as="name"), "'some' cannot be used"),
        (
            Claim("g", kind="groups", which="pattern", written_as="name", pattern="("),
            "the pattern cannot be used",
        ),
    ],
)
def test_a_claim_that_cannot_be_computed_names_itself(claim: Claim, message: str) -> None:
    with pytest.raises(InvalidInput) as wrong:
        ClaimSet([claim])
    assert message in wrong.value.message


def test_a_claim_is_defined_once_and_a_large_one_is_refused_with_its_size() -> None:
    with pytest.raises(InvalidInput, match="defined twice"):
        ClaimSet([Claim("c", expression="userName"), Claim("c", expression="title")])
    many = ClaimUser({}, [UserGroup(f"g{number}", f"Group {number}") for number in range(300)])
    groups = ClaimSet([Claim("groups", kind="groups", which="all", written_as="name")])
    assert len(groups.values(many)[0].values) == 300
    with pytest.raises(TooManyValues, match="The claim 'groups' has 300 values; the limit is 200"):
        groups.values(many, most=200)


def test_what_claims_read_is_known() -> None:
    assert ClaimSet(DEFAULT_CLAIMS).uses >= {"emails", "userName", "name"}
    assert claims.as_texts([1, True, "", None, "x"]) == ("1", "true", "x")


@pytest.mark.parametrize(
    ("subject", "found"),
    [
        (Subject(), "p"),
        (Subject("transient"), "t"),
        (Subject("email"), "una@fernhollow.example"),
        (Subject("user_name"), "una.kerrigan"),
        (Subject("attribute", "name.givenName then lower"), "una"),
    ],
)
def test_an_identifier_is_of_its_kind(subject: Subject, found: str) -> None:
    subjects.check_subject(subject)
    assert subjects.identifier(subject, UNA.attributes, lambda: "p", lambda: "t") == found


def test_a_user_without_the_value_has_no_identifier() -> None:
    for subject, message in (
        (Subject("email"), "The user has no email address"),
        (Subject("attribute", "title"), "no value for the identifier"),
    ):
        with pytest.raises(NoSubject, match=message):
            subjects.identifier(subject, {"userName": "x"}, lambda: "p", lambda: "t")
    with pytest.raises(InvalidInput, match="is not a kind"):
        subjects.check_subject(Subject("mail"))
    with pytest.raises(InvalidInput):
        subjects.check_subject(Subject("attribute", "userNme"))


@pytest.mark.parametrize(
    ("expected", "found", "words"),
    [
        ("https://rota.example/sp", "https://rota.example/sp", ""),
        ("https://rota.example/sp", "https://rota.example/sp/", "The received one has a slash at its end."),
        ("https://rota.example/sp/", "https://rota.example/sp", "The stored one has a slash at its end."),
        ("https://rota.example/sp", "http://rota.example/sp", "begins with http: in place of https:"),
        (
            "https://rota.example/SP",
            "https://rota.example/sp",
            "letter case at character 22: 'S' is stored, 's'",
        ),
        ("urn:rota", "urn:rota ", "blanks at the beginning or the end"),
        ("urn:rota:1", "urn:rota:12", "at character 11: the end is stored, '2' was received"),
        ("urn:rota", "urn:ro\u200bta", "a zero-width space was received"),
    ],
)
def test_two_identifiers_differ_at_a_place(expected: str, found: str, words: str) -> None:
    assert (words in difference(expected, found)) and bool(words) == bool(difference(expected, found))
