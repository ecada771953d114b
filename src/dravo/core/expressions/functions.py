"""The steps of expressions.

Each takes a value (text, number, boolean, list) and returns one; None stands for a missing value.
"""

from __future__ import annotations

import math
import re
import unicodedata
from collections.abc import Callable, Mapping
from typing import Any, Protocol

import re2


class Pattern(Protocol):
    """A compiled pattern of re2."""

    def search(self, text: str) -> Any:
        """Return the first match, or None."""

    def sub(self, replacement: Any, text: str) -> str:
        """Return a text with all matches replaced."""

    @property
    def groups(self) -> int:
        """The number of captured parts."""


Step = Callable[[Any], object]
LONGEST = 10_000
# Letters that Unicode does not decompose into a base letter and an accent.
_PLAIN = str.maketrans(
    {
        "ß": "ss",
        "æ": "ae",
        "Æ": "AE",
        "œ": "oe",
        "Œ": "OE",
        "ø": "o",
        "Ø": "O",
        "ł": "l",
        "Ł": "L",
        "đ": "d",
        "Đ": "D",
        "þ": "th",
        "Þ": "Th",
        "ð": "d",
        "Ð": "D",
        "ı": "i",
    }
)


def text_of(value: Any) -> str:
    """Return a value as text: booleans in lower case, whole numbers without a point."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


def on_text(change: Callable[[str], str | None]) -> Step:
    """Return a step that works on a text, and on each text of a list; missing results are left out of the
    list.
    """

    def step(value: Any) -> object:
        if isinstance(value, list):
            return [each for each in (step(inner) for inner in value) if each is not None] or None
        changed = change(text_of(value))
        return None if changed is None else changed[:LONGEST]

    return step


def plain(text: str) -> str:
    """Return a text without accents."""
    apart = unicodedata.normalize("NFKD", text.translate(_PLAIN))
    return unicodedata.normalize("NFC", "".join(c for c in apart if not unicodedata.combining(c)))


def before(mark: str) -> Step:
    """Return the text before the first separator; the whole text without one."""
    return on_text(lambda text: text.partition(mark)[0])


def before_last(mark: str) -> Step:
    """Return the text before the last separator; the whole text without one."""
    return on_text(lambda text: text.rpartition(mark)[0] if mark in text else text)


def after(mark: str) -> Step:
    """Return the text after the first separator; missing without one."""
    return on_text(lambda text: text.partition(mark)[2] if mark in text else None)


def after_last(mark: str) -> Step:
    """Return the text after the last separator; missing without one."""
    return on_text(lambda text: text.rpartition(mark)[2] if mark in text else None)


def part(pattern: Any) -> Step:
    """Return the match of a pattern: its first group if it has one, else the whole match; missing without a
    match.
    """

    def find(text: str) -> str | None:
        found = pattern.search(text)
        if found is None:
            return None
        kept: str | None = found.group(1 if pattern.groups else 0)
        return kept

    return on_text(find)


def replace_pattern(pattern: Any, replacement: str) -> Step:
    r"""Return a text with each match replaced; \1 to \9 in the replacement stand for the pattern's groups,
    \0 for all of it.

    Raises:
        ValueError: if the pattern has no such group.
    """
    pieces = re.split(r"\\(\d)", replacement)
    for digit in pieces[1::2]:
        if int(digit) > pattern.groups:
            raise ValueError(f"it has no group {digit}")

    def made(match: Any) -> str:
        return "".join(
            piece if place % 2 == 0 else match.group(int(piece)) or "" for place, piece in enumerate(pieces)
        )

    return on_text(lambda text: str(pattern.sub(made, text)))


def look_up(table: Mapping[str, Any]) -> Step:
    """Return the value of a table for a text, in any letter case; missing without one."""
    folded = {key.casefold(): value for key, value in table.items()}

    def find(value: Any) -> object:
        if isinstance(value, list):
            return [each for each in (find(inner) for inner in value) if each is not None] or None
        return folded.get(text_of(value).casefold())

    return find


def join(between: str) -> Step:
    """Return the values of a list as one text."""
    return lambda value: (
        between.join(text_of(each) for each in value)[:LONGEST] if isinstance(value, list) else text_of(value)
    )


def pick(place: int) -> Step:
    """Return the first (0) or last (-1) of a list; a single value stays."""
    return lambda value: value[place] if isinstance(value, list) else value


def as_number(value: Any) -> object:
    """Return a number, whole where possible; missing if the text is no number."""
    if isinstance(value, list):
        return [each for each in map(as_number, value) if each is not None] or None
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    text = text_of(value).strip()
    try:
        return int(text)
    except ValueError:
        pass
    try:
        number = float(text)
    except ValueError:
        return None
    return number if math.isfinite(number) else None


def as_boolean(value: Any) -> object:
    """Return true or false for a text (true, yes, 1; false, no, 0, in any letter case); missing for
    others.
    """
    if isinstance(value, list):
        return [each for each in map(as_boolean, value) if each is not None] or None
    return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}.get(
        text_of(value).strip().lower()
    )


def compiled(text: str, *, any_case: bool = False) -> Pattern:
    """Return a compiled pattern, which runs in linear time; letter case matters unless `any_case` is set.

    Raises:
        ValueError: for an invalid pattern.
    """
    if len(text) > 500:
        raise ValueError("a pattern has at most 500 characters")
    options = re2.Options()
    options.log_errors = False
    options.case_sensitive = not any_case
    options.max_mem = 1 << 20
    try:
        found: Pattern = re2.compile(text, options)
        return found
    except re2.error as wrong:
        message = wrong.args[0] if wrong.args else "unknown"
        raise ValueError(message.decode() if isinstance(message, bytes) else str(message)) from None
