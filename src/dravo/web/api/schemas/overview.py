"""The overview and the access flow."""

from __future__ import annotations

from typing import Literal

from dravo.web.api.schemas.base import Model


class Stage(Model):
    """One stage of the band."""

    name: str
    count: int
    needs: int


class Overview(Model):
    """The whole band."""

    stages: list[Stage]
    active_users: int
    groups: int
    being_worked_out: int


class FlowNode(Model):
    """A place in the flow picture: a source, a group or another way, a role, an application; without `key` it bundles several."""

    id: str
    stage: Literal["source", "group", "role", "application"]
    kind: str
    key: str | None
    application: str | None
    label: str
    users: int


class FlowBand(Model):
    """So many users flow from one place to another."""

    from_id: str
    to_id: str
    users: int


class Flow(Model):
    """The flow picture as it was counted last; each role that somebody has is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]
