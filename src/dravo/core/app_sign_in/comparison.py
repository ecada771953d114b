"""Comparison of identifiers character by character: most mistakes in a set-up are a slash or a letter."""

from __future__ import annotations

from urllib.parse import urlsplit

_NAMED = {
    " ": "a blank",
    "/": "a slash",
    "\t": "a tab",
    "\u00a0": "a no-break space",
    "\u200b": "a zero-width space",
}


def difference(expected: str, found: str) -> str:
    """Return in words where two identifiers differ first; "" if they are the same.

    Args:
        expected: the identifier as stored.
        found: the identifier as received.
    """
    if expected == found:
        return ""
    if expected.strip() == found.strip():
        return "They differ in blanks at the beginning or the end."
    if expected.rstrip("/") == found.rstrip("/"):
        return f"The {'received' if found.endswith('/') else 'stored'} one has a slash at its end."
    if expected.casefold() == found.casefold():
        return f"They differ in letter case{_at(expected, found)}."
    ours, theirs = urlsplit(expected), urlsplit(found)
    if ours.scheme and theirs.scheme and ours._replace(scheme="") == theirs._replace(scheme=""):
        return f"The received one begins with {theirs.scheme}: in place of {ours.scheme}:."
    return f"They differ{_at(expected, found)}."


def _at(expected: str, found: str) -> str:
    place = next(
        (number for number, (one, other) in enumerate(zip(expected, found, strict=False)) if one != other),
        min(len(expected), len(found)),
    )
    return (
        f" at character {place + 1}: {_shown(expected, place)} is stored, {_shown(found, place)} was received"
    )


def _shown(text: str, place: int) -> str:
    sign = text[place : place + 1]
    if not sign:
        return "the end"
    return _NAMED.get(sign, f"'{sign}'" if sign.isprintable() else f"U+{ord(sign):04X}")
