"""Expressions, evaluated for a user.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import UserRef


class Tried(TypedDict):
    """An expression tried on a user: its result (null: missing), what it does in words, and the attributes that it reads."""

    result: Any
    words: str
    uses: list[str]
    user: UserRef | None
