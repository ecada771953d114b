"""Progress of long work."""

from __future__ import annotations

from pydantic import Field

from dravo.web.api.schemas.base import Model


class WorkPath(Model):
    """The name under which work is waited for."""

    id: str = Field(max_length=64)


class Work(Model):
    """How far work is: how many of how many users were looked at."""

    done: int
    total: int
