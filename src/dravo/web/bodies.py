"""Bodies of requests in JSON, for every door alike: what is no JSON, or is nested without end, is refused before anything is made of it."""

from __future__ import annotations

from typing import Any

import orjson

# No resource or request of ours comes near it; working with deeper ones would take the stack.
DEEPEST = 32


class NoJson(ValueError):
    """A body is not JSON, or not such as is taken; says why, as the end of a sentence about it."""


def read_json(content: bytes) -> Any:
    """Return the value that a body holds.

    Raises:
        NoJson.
    """
    try:
        value = orjson.loads(content)
    except ValueError as wrong:
        raise NoJson(f"is not JSON: {wrong}") from None
    level = [value]
    for _ in range(DEEPEST):
        level = [inner for each in level if isinstance(each, dict | list) for inner in (each.values() if isinstance(each, dict) else each)]
        if not level:
            return value
    raise NoJson(f"is nested more than {DEEPEST} deep")
