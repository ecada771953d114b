"""The overview and the access flow."""

from __future__ import annotations

from typing import Literal

from dravo.web.api.schemas.base import Model


class Stage(Model):
    """The numbers of one stage."""

    name: str
    count: int
    needs: int


class Overview(Model):
    """The numbers of all stages."""

    stages: list[Stage]
    active_users: int
    groups: int
    being_worked_out: int


class FlowNode(Model):
    """A node of the access flow; without `key` it bundles several objects."""

    id: str
    stage: Literal["source", "group", "role", "application"]
    kind: str
    key: str | None
    application: str | None
    label: str
    users: int


class FlowBand(Model):
    """A connection between two nodes with the number of users."""

    from_id: str
    to_id: str
    users: int


class Flow(Model):
    """The access flow. Each role of a user is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]
