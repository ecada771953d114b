"""The expression language: small formulas that make one attribute out of others.

See docs/reference/expressions.md.
"""

from dravo.core.expressions.compiler import ENTRY, SCIM_USER, Expression, ExpressionError, compile_expression

__all__ = ["ENTRY", "SCIM_USER", "Expression", "ExpressionError", "compile_expression"]
