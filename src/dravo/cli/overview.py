"""`dravo overview` and `dravo flow`: numbers by stage, objects that need an operator, and the paths of
access.
"""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, moment, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    command(
        nouns,
        "overview",
        _overview,
        "show the numbers of each stage, and what needs attention",
        ["dravo overview"],
    )
    command(
        nouns,
        "flow",
        _flow,
        "show how users get access: sources, groups, roles, applications",
        ["dravo flow"],
    )


def _overview(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.overview()
    if given.json:
        show_json(found)
        return
    columns = {
        "Stage": lambda s: s["name"],
        "Number": lambda s: f"{s['count']:,}",
        "Needs attention": lambda s: f"{s['needs']:,}" if s["needs"] else None,
    }
    table(columns, found["stages"])
    print(f"{found['active_users']:,} active users; {found['being_recomputed']:,} are being recalculated.")


def _flow(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.flow()
    if given.json:
        show_json(found)
        return
    if found["at"] is None:
        print("Not counted yet. Try again in a few seconds.")
        return
    nodes = {node["id"]: node for node in found["nodes"]}
    table(
        {
            "From": lambda b: nodes[b["from_id"]]["label"],
            "": lambda b: nodes[b["to_id"]]["stage"],
            "To": lambda b: nodes[b["to_id"]]["label"],
            "Users": lambda b: f"{b['users']:,}",
        },
        sorted(
            found["bands"],
            key=lambda b: [("group", "role", "application").index(nodes[b["to_id"]]["stage"]), -b["users"]],
        ),
    )
    print(f"As of {moment(found['at'])} UTC. Each role of a user is counted once.")
