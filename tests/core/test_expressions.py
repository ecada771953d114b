"""The expression language: what each form gives, what is missing, what is told where it is wrong; and that
nothing hangs.
"""

from __future__ import annotations

import time
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.expressions import ExpressionError, compile_expression

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
ZOE: dict[str, Any] = {
    "userName": "Zoë.Fern@fernhollow.example",
    "name": {"givenName": "Zoë", "familyName": "Fern"},
    "title": "Head Guide",
    "nickName": "",
    "active": True,
    "emails": [
        {"value": "work@x.example", "type": "work", "primary": True},
        {"value": "home@x.example", "type": "home"},
    ],
    ENTERPRISE: {"department": "Seed Bank", "employeeNumber": "0042"},
    "urn:garden:User": {"bed": "North", "plots": [1, 2]},
}


@pytest.mark.parametrize(
    ("text", "result"),
    [
        ("userName", ZOE["userName"]),
        ("name.familyName", "Fern"),
        ("active", True),
        ("emails", ["work@x.example", "home@x.example"]),
        ("emails.type", ["work", "home"]),
        ('emails[type eq "home"].value', "home@x.example"),
        ('emails[type eq "home"]', "home@x.example"),
        ('emails[type eq "fax"].value', None),
        (f"{ENTERPRISE}:department", "Seed Bank"),
        ("urn:garden:User:bed", "North"),
        ("urn:garden:User:plots", [1, 2]),
        ("urn:nowhere:User:bed", None),
        ("nickName", None),
        ('"x"', "x"),
        ("'x'", "x"),
        ("12", 12),
        ("1.5", 1.5),
        ("true", True),
        ("false", False),
        ('""', None),
        (r'"a\"b\\c\n"', 'a"b\\c\n'),
        ('"{{x}}"', "{x}"),
        ('"{name.givenName} {name.familyName}"', "Zoë Fern"),
        ('"{nickName} x"', None),
        ("\"{nickName else ''}x\"", "x"),
        ('"{name.givenName then lower}.{name.familyName then upper}"', "zoë.FERN"),
        ('"{emails}"', "work@x.example, home@x.example"),
        ("nickName else title", "Head Guide"),
        ('nickName else nickName else "-"', "-"),
        ("(nickName else title) then lower", "head guide"),
        ('"guide" when [title co "guide"]', "guide"),
        ('"guide" when [title co "keeper"] else "staff"', "staff"),
        ('"w" when [emails[type eq "work"] and active eq true]', "w"),
        ('userName then before "@"', "Zoë.Fern"),
        ('title then before "x"', "Head Guide"),
        ('userName then after "@"', "fernhollow.example"),
        ('title then after "@"', None),
        ('userName then before last "."', "Zoë.Fern@fernhollow"),
        ('userName then after last "."', "example"),
        ('title then after last "@"', None),
        ('"aXb" then lower', "axb"),
        ('" a " then trim', "a"),
        ('"Zoë Łukasz Straße Ærø" then plain', "Zoe Lukasz Strasse AEro"),
        (r"userName then part '^(\pL+)[.]'", "Zoë"),
        ("title then part 'G.*'", "Guide"),
        ("title then part '[0-9]+'", None),
        ('title then replace " " with "_"', "Head_Guide"),
        (r"title then replace pattern '(\w+) (\w+)' with '\2 \1'", "Guide Head"),
        (r"title then replace pattern '[aeiou]' with '<\0>'", "H<e><a>d G<u><i>d<e>"),
        (f'{ENTERPRISE}:department then look up ("seed bank" is "SB", "x" is 4)', "SB"),
        ('title then look up ("x" is 1)', None),
        ('title then look up ("x" is 1) else 0', 0),
        ('"x" then look up ("X" is 4)', 4),
        ("title then at most 4", "Head"),
        ('emails then join with ";"', "work@x.example;home@x.example"),
        ("emails then first", "work@x.example"),
        ("emails then last", "home@x.example"),
        ("title then first", "Head Guide"),
        ('emails then before "@"', ["work", "home"]),
        ('emails then after "nothing"', None),
        (f"{ENTERPRISE}:employeeNumber then as number", 42),
        ("title then as number", None),
        ('"1.50" then as number', 1.5),
        ('"inf" then as number', None),
        ("active then as text", "true"),
        ('"Yes" then as boolean', True),
        ('"0" then as boolean', False),
        ("title then as boolean", None),
        ("7 then as text", "7"),
        ("active then upper", "TRUE"),
        ("2.0 then as text", "2"),
    ],
)
def test_results_of_expressions(text: str, result: Any) -> None:
    assert compile_expression(text).result(ZOE) == result


@pytest.mark.parametrize(
    ("text", "position", "words"),
    [
        ("", 0, "empty"),
        ("userName then", 13, "lower"),
        ("userName then befre 'x'", 14, "before"),
        ("shoeSize", 0, "has no attribute"),
        ("name", 0, "complex attribute"),
        ("title title", 6, "else"),
        ('"open', 0, "closing quote"),
        ('"{userName"', 1, "closing brace"),
        ('"a}"', 2, "opening brace"),
        ('"{userName} {shoeSize}"', 13, "has no attribute"),
        ("title then part '('", 16, "RE2"),
        (r"title then replace pattern 'a' with '\3'", 27, "no group 3"),
        ('"a" when [shoeSize eq 1]', 4, "condition"),
        ("groups", 0, "cannot be used"),
        ("password", 0, "cannot be used"),
        ('title then before ""', 18, "empty"),
        ("title then at most 0", 19, "at least 1"),
        ("x" * 2_001, 0, "longer"),
        ("(" * 200 + "title" + ")" * 200, 0, "deeply"),
        ("urn:garden:User:", 15, "is invalid"),
    ],
)
def test_an_error_names_its_position(text: str, position: int, words: str) -> None:
    with pytest.raises(ExpressionError) as told:
        compile_expression(text)
    assert told.value.position == position
    assert words in str(told.value)
    assert told.value.hint


def test_it_says_what_it_reads_and_what_it_does() -> None:
    made = compile_expression('"{nickName}" when [title pr] else userName then lower')
    assert made.uses == {"nickName", "title", "userName"}
    assert made.words == "nickName, when title pr; if there is none, userName, in lower case"


def test_a_pattern_that_would_hang_elsewhere_does_not() -> None:
    made = compile_expression("title then part '^(a+)+$'")
    began = time.perf_counter()
    assert made.result({"title": "a" * 9_000 + "b"}) is None
    assert time.perf_counter() - began < 2


_PIECES = st.lists(
    st.sampled_from(
        [
            "userName",
            "then",
            "else",
            "when",
            "[title pr]",
            '"',
            "'",
            "{",
            "}",
            "(",
            ")",
            "before",
            "lower",
            '"x"',
            "look up",
            "is",
            "part",
            "12",
            "emails",
            "[",
            "]",
            "\\",
            "é",
        ]
    ),
    max_size=14,
).map(" ".join)


@given(text=st.one_of(_PIECES, st.text(max_size=60)))
def test_any_text_is_an_expression_or_an_explained_error(text: str) -> None:
    try:
        made = compile_expression(text)
    except ExpressionError as wrong:
        assert 0 <= wrong.position <= len(text) and wrong.message and wrong.hint
        return
    for user in (ZOE, {}):
        value = made.result(user)
        # The same each time, and plain values all the way down: they become attributes of accounts.
        assert value == made.result(user)
        assert value not in ("", [])
        for each in value if isinstance(value, list) else [value]:
            assert each is None or type(each) in (str, int, float, bool)
    # Nothing but what is written in it comes out where there is nobody to read from.
    if not any(sign in text for sign in "\"'0123456789") and "true" not in text and "false" not in text:
        assert made.result({}) is None


_CONSTANTS = st.text(st.characters(codec="utf-8", exclude_characters='"{}\\'), max_size=8)
_STEPS = st.sampled_from([("lower", str.lower), ("upper", str.upper), ("trim", str.strip), ("as text", str)])


@given(st.lists(st.one_of(st.none(), _CONSTANTS), min_size=1, max_size=4), st.lists(_STEPS, max_size=4))
def test_the_first_that_has_a_value_is_worked_on_step_by_step(
    values: list[str | None], steps: list[tuple[str, Any]]
) -> None:
    written = " else ".join("nickName" if each is None else f'"{each}"' for each in values)
    text = f"({written})" + "".join(f" then {name}" for name, _ in steps)
    expected = next((each for each in values if each), "")
    for _, step in steps:
        expected = step(expected)
    assert compile_expression(text).result(ZOE) == (expected or None)
