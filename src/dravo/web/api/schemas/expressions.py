"""Expressions, evaluated for a user."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import UserRef


class Tried(Model):
    """An expression tried on a user: its result (null: missing), what it does in words, and the attributes that it reads."""

    result: Any
    words: str
    uses: list[str]
    user: UserRef | None


class EvaluateExpressionRequest(RequestModel):
    """An expression to be tried on a user (by id, user name or email), perhaps for an attribute of accounts."""

    expression: Annotated[str, Field(max_length=4_000)]
    user: Text | None = None
    attribute: Text | None = None
    source: Text | None = Field(None, description="Over what this source says of them, instead of what they are here.")
