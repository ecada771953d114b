"""Counts access by its path, for the flow picture.

Counting reads every access, so the result is stored and renewed after changes.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.access import reasons
from dravo.core.access.flow import GROUP, ROLE, SOURCE, Held, Node, picture
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store.reports import access_flow as stored
from dravo.store.reports import cached_reports
from dravo.store.snapshots.config import revision
from dravo.store.sources import sources as source_rows

FLOW = "flow"
MOST_GROUPS, MOST_ROLES, MOST_APPLICATIONS = 9, 11, 8
# Counting takes at most one part in this number of the time.
SHARE = 40
LEAST_SECONDS = 2.0


def is_due(ctx: AppContext, now: Instant) -> bool:
    """Whether something changed since the last count, and enough time has passed."""
    with ctx.database.reading() as connection:
        kept = cached_reports.get(connection, FLOW)
        if kept is None:
            return True
        pause = max(LEAST_SECONDS, SHARE * kept.milliseconds / 1_000)
        return bool(later(kept.at, pause) <= now and kept.marker != _marker(connection))


def count(ctx: AppContext) -> None:
    """Count, and store the result."""
    began, now = time.monotonic(), clock.now()
    connection = ctx.database.apart()
    try:
        marker = _marker(connection)
        value = _counted(connection)
    finally:
        connection.close()
    with ctx.database.writing() as connection:
        cached_reports.keep(connection, FLOW, now, marker, value, int((time.monotonic() - began) * 1_000))


def _marker(connection: Connection) -> str:
    """Return a text that changes whenever access of a user or the configuration changes."""
    return f"{stored.marker(connection)} {revision(connection)}"


def _counted(connection: Connection) -> dict[str, Any]:
    """Return the counts as they are stored."""
    found = stored.count(connection)
    return {
        "held": [[*key, number] for key, number in sorted(found.users.items())],
        "names": found.group_names,
    }


@dataclass(frozen=True)
class FlowNode:
    """A part of the access flow: a source, a group, a role or an application, with its users."""

    id: str
    stage: str
    kind: str
    key: str | None
    application: str | None
    label: str
    users: int


@dataclass(frozen=True)
class Flow:
    """The access flow; `at` is the time of the last count, None before the first one."""

    at: Instant | None
    nodes: list[FlowNode]
    bands: list[dict[str, Any]]


def shown(ctx: AppContext) -> Flow:
    """Return the access flow as it was counted last."""
    with ctx.database.reading() as connection:
        kept = cached_reports.get(connection, FLOW)
        if kept is None:
            return Flow(None, [], [])
        catalogue = ctx.catalogue.get(connection)
        labels = source_rows.labels(connection)
    application_of = {role.id: role.application_id for role in catalogue.roles.values()}
    held = [Held(*row) for row in kept.value["held"]]
    nodes, bands = picture(held, application_of, MOST_GROUPS, MOST_ROLES, MOST_APPLICATIONS)
    plural = {GROUP: "groups", ROLE: "roles"}

    def line(node: Node) -> FlowNode:
        key, application = node.of, None
        if node.of is None:
            label = f"{node.bundled} more {plural.get(node.stage, 'applications')}"
        elif node.kind == SOURCE:
            label = labels.get(node.of, "no source")
        elif node.kind == GROUP:
            label = kept.value["names"].get(node.of, node.of)
        elif node.kind == ROLE:
            role = catalogue.roles[node.of]
            label, key, application = role.label, role.key, catalogue.applications[role.application_id].key
        elif node.of in catalogue.applications:
            label, key = catalogue.applications[node.of].label, catalogue.applications[node.of].key
        else:
            label = reasons.WORDS[node.of]
        return FlowNode(
            id=node.id,
            stage=node.stage,
            kind=node.kind,
            key=key,
            application=application,
            label=label,
            users=node.users,
        )

    return Flow(kept.at, [line(node) for node in nodes], [band._asdict() for band in bands])
