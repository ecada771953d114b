"""The expression language: small formulas that make one attribute out of others. See docs/reference/expressions.md."""

from dravo.core.expressions.compiling import Expression, ExpressionError, compile_expression

__all__ = ["Expression", "ExpressionError", "compile_expression"]
