"""Texts of expressions: quotes, escapes, and errors with their position."""

from __future__ import annotations

import json
from typing import Any

from lark import Token, UnexpectedInput

from dravo.core.expressions.errors import ExpressionError


def token_start(token: Any) -> int:
    """Return the position of a token in its text."""
    return int(token.start_pos or 0) if isinstance(token, Token) else 0


def unquoted(token: Token, offset: int) -> str:
    r"""Return the content of a quoted text, with escapes as in JSON, and \\' as well."""
    inner = str(token)[1:-1]
    if "\\" not in inner:
        return inner
    kept = inner.replace("\\'", "'") if token[0] == "'" else inner
    if token[0] == "'":
        kept = kept.replace('\\"', '"').replace('"', '\\"')
    try:
        # A backslash before another character is literal, so that patterns need no double backslashes.
        return str(json.loads(f'"{_escaped(kept)}"', strict=False))
    except ValueError:
        raise ExpressionError(
            "The text contains a single backslash.",
            "Write two backslashes for one.",
            offset + token_start(token),
        ) from None


def _escaped(text: str) -> str:
    made, position = [], 0
    while position < len(text):
        pair = text[position : position + 2]
        if pair[0] == "\\" and len(pair) == 2:
            made.append(pair if pair[1] in '"\\/nrtu' else "\\\\" + pair[1])
            position += 2
        else:
            made.append(text[position])
            position += 1
    return "".join(made)


def closing(text: str, position: int, start: int) -> int:
    """Return the position of the closing brace; braces within quotes are skipped."""
    quote = ""
    depth = 0
    for place in range(position, len(text)):
        sign = text[place]
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "\"'":
            quote = sign
        elif sign == "{":
            depth += 1
        elif sign == "}":
            depth -= 1
            if depth == 0:
                return place
    raise ExpressionError(
        "An opening brace has no closing brace.", "Add }, or write {{ for a literal brace.", start + position
    )


_WORDS = {
    "THEN": "then",
    "ELSE": "else",
    "WHEN": "when",
    "TEXT": "a text in quotes",
    "PATH": "an attribute",
    "NUMBER": "a number",
    "LPAR": "(",
    "RPAR": ")",
    "WITH": "with",
    "IS": "is",
    "COMMA": ",",
    "UP": "up",
    "MOST": "most",
    "$END": "the end",
}


def unreadable(text: str, wrong: UnexpectedInput, offset: int) -> ExpressionError:
    """Return the error for an expression that the grammar refuses."""
    position = (
        wrong.pos_in_stream if wrong.pos_in_stream is not None and wrong.pos_in_stream >= 0 else len(text)
    )
    position = min(position, len(text))
    token = getattr(wrong, "token", None)
    if token is not None and token.type == "$END":
        position = len(text)
    expected = (
        getattr(wrong, "accepts", None)
        or getattr(wrong, "expected", None)
        or getattr(wrong, "allowed", None)
        or set()
    )
    named = sorted({_WORDS.get(each, each.lower()) for each in expected})
    if text[position : position + 1] in ("'", '"') and text.count(text[position], position) % 2:
        return ExpressionError(
            "A text has no closing quote.", f"Add {text[position]} at the end of the text.", offset + position
        )
    rest = text[position : position + 15]
    where = f"at '{rest}'" if rest else "at its end"
    hint = f"Expected: {', '.join(named)}." if named and len(named) <= 25 else "See the expression reference."
    return ExpressionError(
        f"The expression is invalid {where} (character {position + 1}).", hint, offset + position
    )
