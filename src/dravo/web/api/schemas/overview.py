"""The overview and the access flow."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model


class Stage(Model):
    """The numbers of one stage."""

    name: str = Field(description="Stage: sources, users, access, applications or tasks.")
    count: int
    needs: int


class Overview(Model):
    """The numbers of all stages."""

    stages: list[Stage] = Field(description="Numbers of each stage of the work.")
    active_users: int
    groups: int = Field(description="Number of groups.")
    being_recomputed: int


class FlowNode(Model):
    """A node of the access flow; without `key` it bundles several objects."""

    id: str = Field(description="ID of the node.")
    stage: Literal["source", "group", "role", "application"]
    kind: str = Field(description="Kind of the object at this place.")
    key: str | None
    application: str | None = Field(description="Key of the application of a role, or null.")
    label: str = Field(description="Label of the node.")
    users: int = Field(description="Number of users at this place.")


class FlowBand(Model):
    """A connection between two nodes with the number of users."""

    from_id: str
    to_id: str
    users: int = Field(description="Number of users on this path.")


class Flow(Model):
    """The access flow. Each role of a user is counted once."""

    at: str | None = Field(description="Time of the count; null before the first one.")
    nodes: list[FlowNode]
    bands: list[FlowBand]
