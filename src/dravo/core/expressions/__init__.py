"""The expression language: formulas that compute an attribute from others.

See docs/reference/expressions.md.
"""

from dravo.core.expressions.compiler import ENTRY, SCIM_USER, Expression, compile_expression
from dravo.core.expressions.errors import ExpressionError

__all__ = ["ENTRY", "SCIM_USER", "Expression", "ExpressionError", "compile_expression"]
