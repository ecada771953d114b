"""`dravo guard`: removals beyond the limits, that wait for a person."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, moment, noun, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "guard", "removals beyond the limits, that wait for a person")
    command(verbs, "list", _list, "what is held, and why")
    for name, run, text in (
        ("let-through", _let_through, "let what is held for an application through"),
        ("drop", _drop, "drop what is held: accounts stay there as they are, until something about them changes"),
    ):
        verb = command(verbs, name, run, text, [f"dravo guard {name} plant-records --confirm 'Plant Records'"])
        verb.add_argument("application", metavar="KEY")
        verb.add_argument("--confirm", metavar="LABEL", required=True, help="the application's name")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.guard()
    if given.json:
        show_json(found)
        return
    if not found:
        print("Nothing is held.")
    for item in found:
        application = item["application"]
        print(f"{application['label']} ({application['key']}): {item['number']} held since {moment(item['since'])} UTC.")
        print(item["message"])
        columns = {
            "Person": lambda p: p["person"]["display_name"],
            "User name": lambda p: p["person"]["user_name"],
            "To become": lambda p: p["aim"],
        }
        table(columns, item["people"])
        if item["number"] > len(item["people"]):
            print(f"and {item['number'] - len(item['people'])} more; 'dravo delivery list --state held' has them all.\n")


def _let_through(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.let_through(given.application, given.confirm)} removals are let through.")


def _drop(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.drop_held(given.application, given.confirm)} removals are dropped.")
