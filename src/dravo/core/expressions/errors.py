"""Errors of expressions."""

from __future__ import annotations

from dravo.core.errors import InvalidInput


class ExpressionError(InvalidInput):
    """An expression that cannot be read; `position` is the number of the character at fault, counted from
    0.
    """

    code = "invalid_expression"

    def __init__(self, message: str, hint: str, position: int) -> None:
        super().__init__(message, hint, "expression")
        self.position = position
