"""`dravo overview` and `dravo flow`: how much there is, what needs a person, and by which ways people come to what they have."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, moment, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    command(nouns, "overview", _overview, "how much there is at each stage, and how much needs a person", ["dravo overview"])
    command(nouns, "flow", _flow, "people from sources through groups and roles into applications, the largest ways", ["dravo flow"])


def _overview(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.overview()
    if given.json:
        show_json(found)
        return
    columns = {
        "Stage": lambda s: s["name"],
        "There are": lambda s: f"{s['count']:,}",
        "Need a person": lambda s: f"{s['needs']:,}" if s["needs"] else None,
    }
    table(columns, found["stages"])
    print(f"{found['active_people']:,} people are active; {found['being_worked_out']:,} are being worked out anew.")


def _flow(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.flow()
    if given.json:
        show_json(found)
        return
    if found["at"] is None:
        print("It was not counted yet; the worker does so within seconds.")
        return
    nodes = {node["id"]: node for node in found["nodes"]}
    table(
        {
            "From": lambda b: nodes[b["from_id"]]["label"],
            "": lambda b: nodes[b["to_id"]]["stage"],
            "To": lambda b: nodes[b["to_id"]]["label"],
            "Users": lambda b: f"{b['people']:,}",
        },
        sorted(found["bands"], key=lambda b: [("group", "role", "application").index(nodes[b["to_id"]]["stage"]), -b["people"]]),
    )
    print(f"As of {moment(found['at'])} UTC; each role that somebody has is counted once.")
