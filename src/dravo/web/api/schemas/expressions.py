"""Expressions, evaluated for a user."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import UserRef


class ExpressionResult(Model):
    """The result of an expression."""

    result: Any
    words: str
    uses: list[str]
    user: UserRef | None


class EvaluateExpressionRequest(RequestModel):
    """An expression to evaluate for a user."""

    expression: Annotated[str, Field(max_length=4_000)]
    user: Text | None = None
    attribute: Text | None = None
    source: Text | None = Field(
        None, description="Key of a source: evaluate the source record instead of the user."
    )
