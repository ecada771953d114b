"""The expression language: small formulas that make one attribute out of others. See docs/reference/expressions.md."""

from dravo.core.expressions.compiler import ENTRY, PERSON, Expression, ExpressionError, compile_expression

__all__ = ["ENTRY", "PERSON", "Expression", "ExpressionError", "compile_expression"]
