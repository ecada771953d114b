"""Conditions as they are compiled hold exactly where the filter that they were read from does; and nobody is
missed by what they need.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.access.conditions import read_condition, read_entered_condition, seen, text_of, user_type
from dravo.core.access.evaluation import compute_access, decide_about
from dravo.core.access.patterns import GIVES, Captured, compile_pattern, read_name, texts_of
from dravo.core.access.types import AccessConfig, Assignment, UserFacts
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.scim.filters import matches
from dravo.core.scim.paths import parse_filter

NOW = Instant("2031-01-01T00:00:00.000000Z")
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
WORDS = ("Herbarium", "herbarium", "Estates", "ESTATES", "Straße", "STRASSE", "", "Seed Bank")

_words = st.sampled_from(WORDS)
_simple = st.one_of(
    st.builds(
        lambda word, operator: f'{ENTERPRISE}:department {operator} "{word}"',
        _words,
        st.sampled_from(["eq", "ne", "sw", "co", "ew"]),
    ),
    st.builds(
        lambda word, operator: f'title {operator} "{word}"',
        _words,
        st.sampled_from(["eq", "ne", "sw", "co", "ew", "gt"]),
    ),
    st.builds(lambda word: f'groups[display eq "{word}" and source eq "staff"]', _words),
    st.builds(lambda word: f'emails.value ew "{word}"', _words),
    st.sampled_from(
        ['source eq "staff"', "title pr", "groups pr", 'not (title eq "Estates")', 'groups.value eq "g1"']
    ),
)
_filters = st.recursive(
    _simple,
    lambda inner: st.one_of(
        st.builds(lambda a, b: f"({a} and {b})", inner, inner),
        st.builds(lambda a, b: f"({a} or {b})", inner, inner),
        st.builds(lambda a: f"not ({a})", inner),
    ),
    max_leaves=5,
)
_users = st.builds(
    lambda title, department, groups, sources, mail: seen(
        {
            **({"title": title} if title is not None else {}),
            **({ENTERPRISE: {"department": department}} if department is not None else {}),
            **({"emails": [{"value": mail}]} if mail else {}),
        },
        [
            {"value": f"g{number}", "display": name, "source": source}
            for number, (name, source) in enumerate(groups)
        ],
        sources,
    ),
    st.none() | _words,
    st.none() | _words,
    st.lists(st.tuples(_words, st.sampled_from(["staff", "estates"])), max_size=3),
    st.lists(st.sampled_from(["staff", "estates"]), unique=True),
    st.none() | _words,
)


@given(_filters, _users)
def test_a_compiled_condition_is_the_filter(text: str, user: dict[str, Any]) -> None:
    condition = read_condition(text)
    assert condition.holds(user) == matches(parse_filter(text, user_type()), user)


@given(_filters, _users)
def test_a_match_has_the_attributes_that_a_condition_needs(text: str, user: dict[str, Any]) -> None:
    condition = read_condition(text)
    if condition.needs is None:
        return
    urn, name, wanted = condition.needs
    has = text_of(user, urn, name) == wanted
    assert has or not condition.holds(user)
    if condition.is_that:
        assert condition.holds(user) == has


@given(st.lists(_filters, min_size=1, max_size=6), _users)
def test_rules_found_by_what_they_need_are_those_that_hold(texts: list[str], user: dict[str, Any]) -> None:
    rules = tuple(
        Assignment(f"r{number}", "records", f"role{number}", condition=read_condition(text))
        for number, text in enumerate(texts)
    )
    facts, declared = UserFacts(True, seen=user), AccessConfig(general=rules)
    wanted = {
        f"role{number}"
        for number, rule in enumerate(rules)
        if rule.condition is not None and rule.condition.holds(user)
    }
    assert {role for _, role in compute_access(facts, declared, NOW).roles} == wanted
    assert set(decide_about(facts, declared, "records", NOW).roles) == wanted


@given(st.text(max_size=60))
def test_any_text_is_a_condition_or_an_explained_error(text: str) -> None:
    try:
        condition = read_condition(text)
    except InvalidInput as wrong:
        assert wrong.message and wrong.hint and wrong.field == "rule"
    else:
        condition.holds(seen({"title": "Guide"}, [], ["staff"]))


@given(st.text(max_size=40), st.text(max_size=40))
def test_any_pattern_is_read_in_linear_time_or_refused(pattern: str, name: str) -> None:
    try:
        compile_pattern(pattern)
    except InvalidInput as wrong:
        assert wrong.message and wrong.hint
        return
    texts = texts_of([("viewer", "Viewer", None), ("curator", "Curator", None)])
    read = read_name(pattern, name, "g", Captured(texts, "curator"), frozenset())
    assert read.outcome != GIVES or read.role == "viewer", "the highest role is never given by a name alone"


def test_a_pattern_that_would_hang_others_does_not() -> None:
    read = read_name("^((?:a+)+)$", "a" * 5_000 + "b", "g", Captured({}, None), frozenset())
    assert read.outcome == "no_match"


@pytest.mark.parametrize("name", ["department", "Department", "DEPARTMENT", f"{ENTERPRISE}:department"])
def test_an_enterprise_attribute_is_known_by_each_of_its_names(name: str) -> None:
    assert read_condition(f'{name} eq "Herbarium"').needs == (ENTERPRISE, "department", "herbarium")


@pytest.mark.parametrize(
    "text",
    ['groups eq "Botanists"', 'title pr and not (groups co "Bot")', 'GROUPS  sw "a"', '(groups ne "x")'],
)
def test_groups_compared_with_a_text_are_refused_with_the_right_form(text: str) -> None:
    with pytest.raises(InvalidInput, match="compares groups with a text") as caught:
        read_entered_condition(text)
    assert 'groups[display eq "Botanists" and source eq "staff"]' in caught.value.hint


@pytest.mark.parametrize(
    "text",
    [
        "groups pr",
        'groups.value eq "g1"',
        'groups[display eq "B" and source eq "staff"]',
        'title eq "groups eq x"',
    ],
)
def test_other_conditions_on_groups_are_accepted(text: str) -> None:
    assert read_entered_condition(text).text == text


@pytest.mark.parametrize(
    ("text", "user", "holds"),
    [
        ('givenName eq "Una"', {"name": {"givenName": "Una"}}, True),
        ('familyname sw "Ker"', {"name": {"familyName": "Kerrigan"}}, True),
        ('manager eq "m1"', {ENTERPRISE: {"manager": {"value": "m1"}}}, True),
        ('manager.displayName eq "Rosa"', {ENTERPRISE: {"manager": {"displayName": "Rosa"}}}, True),
        ('(manager eq "m2")', {ENTERPRISE: {"manager": {"value": "m1"}}}, False),
    ],
)
def test_short_names_of_name_and_manager(text: str, user: dict[str, Any], holds: bool) -> None:
    condition = read_condition(text)
    assert condition.holds(seen(user, (), ("staff",))) is holds and condition.text == text
