"""User names as they are compared, and names that look like others."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.identity.names import lookalike_key, user_name_key


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("Ada.Birch", "ada.birch"),
        ("\uff21\uff24\uff21", "ada"),
        ("JU\u0308RGEN", "j\u00fcrgen"),
        ("\u039d\u0399\u039a\u039f\u03a3", "\u03bd\u03b9\u03ba\u03bf\u03c2"),
    ],
)
def test_names_that_are_equal_by_the_profile_are_one(one: str, other: str) -> None:
    assert user_name_key(one) == user_name_key(other)


@pytest.mark.parametrize(
    ("one", "other"), [("stra\u00dfe", "strasse"), ("ada", "\u0430da"), ("ada", "ada\u200b"), ("i", "\u0131")]
)
def test_names_that_differ_by_the_profile_are_two(one: str, other: str) -> None:
    assert user_name_key(one) != user_name_key(other)


def test_a_name_that_the_profile_does_not_allow_is_compared_all_the_same() -> None:
    # A space, and a superscript, are not allowed.
    assert user_name_key("Ada Birch") == "ada birch"
    assert user_name_key("\u00c9COLE\u00b9 x") == user_name_key("e\u0301cole\u00b9 x")


@given(st.text(min_size=1, max_size=20))
def test_every_name_has_a_key_and_its_key_is_its_own(name: str) -> None:
    key = user_name_key(name)
    assert user_name_key(key) == key or not name.isascii()
    lookalike_key(name)


@pytest.mark.parametrize(
    "name", ["\u0430da.birch", "ada\u200b.birch", "ada.bir\u00adch", "\u200eada.birch", "ad\u0430.bir\u0441h"]
)
def test_a_name_of_mixed_scripts_or_with_invisible_characters_looks_like_another(name: str) -> None:
    assert user_name_key(name) != "ada.birch"
    assert lookalike_key(name) == "ada.birch"


@pytest.mark.parametrize(
    "name",
    ["ada.birch", "j\u00fcrgen", "\u0438\u0432\u0430\u043d", "\u0623\u062d\u0645\u062f", "\u5c71\u7530"],
)
def test_a_name_of_one_script_looks_like_no_other(name: str) -> None:
    assert lookalike_key(name) is None
