"""The overview and the access flow.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class Flow(TypedDict):
    """The flow picture as it was counted last; each role that somebody has is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]


class FlowBand(TypedDict):
    """So many users flow from one place to another."""

    from_id: str
    to_id: str
    users: int


class FlowNode(TypedDict):
    """A place in the flow picture: a source, a group or another way, a role, an application; without `key` it bundles several."""

    id: str
    stage: str
    kind: str
    key: str | None
    application: str | None
    label: str
    users: int


class Overview(TypedDict):
    """The whole band."""

    stages: list[Stage]
    active_users: int
    groups: int
    being_worked_out: int


class Stage(TypedDict):
    """One stage of the band."""

    name: str
    count: int
    needs: int
