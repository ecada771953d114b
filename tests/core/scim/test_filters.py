from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.scim.errors import ScimError
from dravo.core.scim.filters import matches
from dravo.core.scim.paths import parse_filter, parse_path
from dravo.core.scim.schemas import ENTERPRISE_URN, GROUP, USER

SAMPLE: dict[str, Any] = {
    "id": "2819c223",
    "userName": "Philippa.Marlow",
    "externalId": "FB-1028",
    "name": {"givenName": "Philippa", "familyName": "Marlow"},
    "active": True,
    "emails": [
        {"value": "philippa.marlow@fernhollow.example", "type": "work", "primary": True},
        {"value": "pip@garden.example", "type": "home"},
    ],
    ENTERPRISE_URN: {"department": "Education"},
    "meta": {"lastModified": "2031-04-02T09:15:00.000000Z"},
}


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ('userName eq "philippa.marlow"', True),
        ('USERNAME Eq "PHILIPPA.MARLOW"', True),
        ('externalId eq "fb-1028"', False),  # caseExact
        ('externalId eq "FB-1028"', True),
        ('userName ne "someone"', True),
        ('title ne "Guide"', True),  # no value is not equal to any
        ("title pr", False),
        ("name.familyName pr", True),
        ('name.familyName co "arl" and name.givenName sw "phil"', True),
        ('name.familyName ew "low" or title pr', True),
        ('not (name.familyName eq "Marlow")', False),
        ('title pr or active eq true and userName sw "phil"', True),  # and binds closer than or
        ('(title pr or active eq true) and userName sw "x"', False),
        ("active eq True", True),
        ('active eq "true"', True),
        ("active ne false", True),
        ('emails co "garden"', True),
        ('emails.type eq "home"', True),
        ('emails[type eq "work" and value co "garden"]', False),  # one and the same element
        ('emails.type eq "work" and emails.value co "garden"', True),
        ('emails[primary eq true].value eq "x" or userName pr', None),
        (f'{ENTERPRISE_URN}:department eq "education"', True),
        (f'{ENTERPRISE_URN.upper()}:Department sw "edu"', True),
        ('meta.lastModified gt "2031-04-02T09:00:00Z"', True),
        ('meta.lastModified gt "2031-04-02T12:00:00+02:00"', False),
        ("title eq null", True),
        ("userName eq null", False),
        ('userName eq "a\\"b"', False),
    ],
)
def test_a_filter_of_the_grammar_finds_what_the_standard_says(text: str, expected: bool | None) -> None:
    if expected is None:
        with pytest.raises(ScimError):
            parse_filter(text, USER)
    else:
        assert matches(parse_filter(text, USER), SAMPLE) is expected


@pytest.mark.parametrize(
    "text",
    [
        "",
        "userName",
        "userName eq",
        'userName xx "a"',
        'userName eq "a',
        "userName eq a",
        "(userName pr",
        "userName pr)",
        "userName eq 5",
        "active gt true",
        'active eq "yes"',
        'name eq "x"',
        'nickname.first eq "x"',
        'unknown eq "x"',
        'urn:other:User:title eq "x"',
        'emails[type eq "work"',
        'userName[value eq "x"]',
        "title gt null",
        'x509Certificates.value gt "AA=="',
        "not userName pr",
        "[",
        ")",
        'userName eq "\\x"',
        "(" * 60 + "userName pr" + ")" * 60,
        'userName eq "' + "a" * 9000 + '"',
    ],
)
def test_a_wrong_filter_is_refused_as_invalid_filter(text: str) -> None:
    with pytest.raises(ScimError) as told:
        parse_filter(text, USER)
    assert told.value.status == 400
    assert told.value.scim_type == "invalidFilter"


def test_the_error_says_where_the_filter_breaks() -> None:
    with pytest.raises(ScimError, match="character 10"):
        parse_filter('userName zz "a"', USER)


@given(st.text(max_size=60))
def test_no_text_does_more_than_be_refused(text: str) -> None:
    for parse in (parse_filter, parse_path):
        for resource_type in (USER, GROUP):
            try:
                parse(text, resource_type)
            except ScimError as wrong:
                assert wrong.status == 400


_ATOMS = st.sampled_from(
    [
        'userName eq "philippa.marlow"',
        "title pr",
        "active eq true",
        'emails[type eq "home"]',
        'name.familyName sw "x"',
        'title ne "y"',
    ]
)
_FILTERS = st.recursive(
    _ATOMS.map(lambda text: (text, matches(parse_filter(text, USER), SAMPLE))),
    lambda inner: st.one_of(
        st.tuples(inner, inner).map(
            lambda pair: (f"({pair[0][0]}) and ({pair[1][0]})", pair[0][1] and pair[1][1])
        ),
        st.tuples(inner, inner).map(
            lambda pair: (f"({pair[0][0]}) or ({pair[1][0]})", pair[0][1] or pair[1][1])
        ),
        inner.map(lambda each: (f"not ({each[0]})", not each[1])),
    ),
    max_leaves=12,
)


@given(_FILTERS)
def test_and_or_not_mean_what_they_mean_in_logic(pair: tuple[str, bool]) -> None:
    text, expected = pair
    assert matches(parse_filter(text, USER), SAMPLE) is expected


def test_brackets_within_strings_nest_nothing() -> None:
    text = 'displayName eq "' + "([" * 60 + '\\"' + "(" * 60 + '"'
    assert matches(parse_filter(text, USER), {"displayName": "([" * 60 + '"' + "(" * 60})
    with pytest.raises(ScimError, match="nested deeper"):
        parse_filter("(" * 60 + 'title eq "x"' + ")" * 60, USER)
