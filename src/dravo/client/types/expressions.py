"""Expressions, evaluated for a user.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import UserRef


class ExpressionResult(TypedDict):
    """The result of an expression."""

    result: Any
    words: str
    uses: list[str]
    user: UserRef | None
