"""The overview and the access flow.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class Flow(TypedDict):
    """The access flow. Each role of a user is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]


class FlowBand(TypedDict):
    """A connection between two nodes with the number of users."""

    from_id: str
    to_id: str
    users: int


class FlowNode(TypedDict):
    """A node of the access flow; without `key` it bundles several objects."""

    id: str
    stage: str
    kind: str
    key: str | None
    application: str | None
    label: str
    users: int


class Overview(TypedDict):
    """The numbers of all stages."""

    stages: list[Stage]
    active_users: int
    groups: int
    being_recomputed: int


class Stage(TypedDict):
    """The numbers of one stage."""

    name: str
    count: int
    needs: int
