"""The base of the models that the management API takes and gives."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field


class Model(BaseModel):
    """A model whose validator is built when the first request needs it: building all of them is a third of
    the start.
    """

    model_config = ConfigDict(defer_build=True)


class Problem(Model):
    """An error with its hint."""

    code: str = Field(description="Code of the error for programs.")
    message: str = Field(description="What is wrong, in a sentence.")
    hint: str = ""
    field: str | None = None


class ProblemAnswer(Model):
    """An error."""

    error: Problem


Text = Annotated[str, Field(max_length=2_000)]


class RequestModel(Model):
    """What is sent to us: unknown fields are an error, so that a misspelt one is not lost."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)
