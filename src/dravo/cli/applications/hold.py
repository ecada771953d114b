"""`dravo hold`: removals above the limit, held until an operator approves or discards them."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, moment, noun, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "hold", "removals beyond the limit, held for approval")
    command(verbs, "list", _list, "list held removals, and why")
    for name, run, text in (
        ("approve", _approve, "approve the held removals of an application"),
        (
            "discard",
            _discard,
            "discard the held removals: the accounts stay as they are until their desired state changes",
        ),
    ):
        verb = command(verbs, name, run, text, [f"dravo hold {name} plant-records --confirm 'Plant Records'"])
        verb.add_argument("application", metavar="KEY", help="the application")
        verb.add_argument(
            "--confirm", metavar="LABEL", required=True, help="label of the application; required"
        )


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.holds()
    if given.json:
        show_json(found)
        return
    if not found:
        print("Nothing is held.")
    for item in found:
        application = item["application"]
        print(
            f"{application['label']} ({application['key']}): {item['number']} held since "
            f"{moment(item['since'])} UTC."
        )
        print(item["message"])
        columns = {
            "User": lambda p: p["user"]["display_name"],
            "User name": lambda p: p["user"]["user_name"],
            "Desired state": lambda p: p["desired_state"],
        }
        table(columns, item["users"])
        if item["number"] > len(item["users"]):
            print(
                f"and {item['number'] - len(item['users'])} more; 'dravo task list --status held' "
                "lists all.\n"
            )


def _approve(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.approve_holds(given.application, given.confirm)} removals are approved.")


def _discard(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.discard_holds(given.application, given.confirm)} removals are discarded.")
