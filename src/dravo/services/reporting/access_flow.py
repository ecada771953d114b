"""Counts access by its path, for the flow picture.

Counting reads every access, so the result is stored and renewed after changes.
"""

from __future__ import annotations

import time
from collections import Counter
from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core.access.flow import GROUP, ROLE, SOURCE, Held, Node, picture
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.store import cached_reports, clock
from dravo.store import tables as t
from dravo.store.snapshots.config import revision

FLOW = "flow"
MOST_GROUPS, MOST_ROLES, MOST_APPLICATIONS = 9, 11, 8
# Counting takes no more than so small a part of the time.
SHARE = 40
LEAST_SECONDS = 2.0
CHUNK = 5_000


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
    """Return a text that changes whenever access of a user changes."""
    x = t.access.c
    began = connection.execute(select(func.max(x.from_at))).scalar()
    ended = connection.execute(select(func.max(x.until_at)).where(x.until_at.is_not(None))).scalar()
    return f"{began} {ended} {revision(connection)}"


def _counted(connection: Connection) -> dict[str, Any]:
    """Return {"held": [[source, kind, by group, role, users]], "names": {group ID: name}}; each role of a
    user once, by its first reason.
    """
    r, s, x = t.record.c, t.source.c, t.access.c
    sources = {row.id: row.key for row in connection.execute(select(s.id, s.key).order_by(s.priority))}
    home: dict[str, str] = {}
    for user_id, source_id in connection.execute(
        select(r.user_id, r.source_id).where(r.deleted_at.is_(None)).order_by(r.id)
    ):
        home.setdefault(user_id, sources[source_id])
    found: Counter[tuple[str, str, bool, str]] = Counter()
    names: dict[str, str] = {}
    statement = select(x.user_id, x.role_id, x.reasons).where(x.until_at.is_(None))
    for row in connection.execute(statement.execution_options(yield_per=CHUNK)):
        reason = next((each for each in row.reasons if each["until"] is None), None)
        if reason is None:
            continue
        if reason["group"]:
            names[reason["group"]] = reason["group_name"] or reason["group"]
        # Where they come from: also of a local group the user's own source.
        way = (reason["group"], True) if reason["group"] else (reason["kind"], False)
        found[home.get(row.user_id, ""), *way, row.role_id] += 1
    return {"held": [[*key, number] for key, number in sorted(found.items())], "names": names}


def shown(ctx: AppContext) -> dict[str, Any]:
    """Return the flow picture as it was counted last: {"at", "nodes", "bands"}; `at` is None as long as it
    never was.
    """
    with ctx.database.reading() as connection:
        kept = cached_reports.get(connection, FLOW)
        if kept is None:
            return {"at": None, "nodes": [], "bands": []}
        catalogue = ctx.catalogue.get(connection)
        labels = {row.key: row.label for row in connection.execute(select(t.source.c.key, t.source.c.label))}
    application_of = {role.id: role.application_id for role in catalogue.roles.values()}
    held = [Held(*row) for row in kept.value["held"]]
    nodes, bands = picture(held, application_of, MOST_GROUPS, MOST_ROLES, MOST_APPLICATIONS)
    words = {
        "direct": "by name",
        "rule": "by a rule",
        "everyone": "everyone",
        "fallback": "fallback role",
        "kept": "kept",
    }
    plural = {GROUP: "groups", ROLE: "roles"}

    def line(node: Node) -> dict[str, Any]:
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
            label = words.get(node.of, node.of)
        return {
            "id": node.id,
            "stage": node.stage,
            "kind": node.kind,
            "key": key,
            "application": application,
            "label": label,
            "users": node.users,
        }

    return {
        "at": kept.at,
        "nodes": [line(node) for node in nodes],
        "bands": [band._asdict() for band in bands],
    }
