"""Progress of long work."""

from __future__ import annotations

from pydantic import Field

from dravo.web.api.schemas.base import Model


class JobPath(Model):
    """The name of a job."""

    id: str = Field(max_length=64)


class Job(Model):
    """The progress of a job."""

    done: int
    total: int
