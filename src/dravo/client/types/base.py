"""The base of the models that the management API takes and gives.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class Problem(TypedDict):
    """An error with its hint."""

    code: str
    message: str
    hint: str
    field: str | None


class ProblemAnswer(TypedDict):
    """An error."""

    error: Problem
