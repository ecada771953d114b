"""Reads JSON request bodies for the management API and SCIM, and refuses bodies that are nested too deep."""

from __future__ import annotations

from typing import Any

import orjson

# The largest bodies, in bytes: of any request, of one about a single user, and of callers who are not known.
# Groups and files are long.
LARGEST_BODY, LARGEST_SINGLE, LARGEST_UNKNOWN = 10 * 1024 * 1024, 1024 * 1024, 64 * 1024
# Valid requests are nested about ten deep; recursion over much deeper ones would exhaust the stack.
DEEPEST = 32


class NoJson(ValueError):
    """A body cannot be read; the message completes the sentence "The body ..."."""


def read_json(content: bytes) -> Any:
    """Return the JSON value of a body.

    Raises:
        NoJson.
    """
    try:
        value = orjson.loads(content)
    except ValueError as wrong:
        raise NoJson(f"is not JSON: {wrong}") from None
    level = [value]
    for _ in range(DEEPEST):
        level = [
            inner
            for each in level
            if isinstance(each, dict | list)
            for inner in (each.values() if isinstance(each, dict) else each)
        ]
        if not level:
            return value
    raise NoJson(f"is nested more than {DEEPEST} deep")
