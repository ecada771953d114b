"""`dravo setting`: organization settings."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import command, noun, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "setting", "organization settings")
    command(verbs, "list", _list, "list settings with their values")
    _declare_set(verbs)


def _declare_set(verbs: Any) -> None:
    parser = command(verbs, "set", _set, "change a setting", ["dravo setting set trace_days 30"])
    parser.add_argument("name", help="name of the setting, as in 'dravo setting list'")
    parser.add_argument("value", help="new value; yes or no for a boolean")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_settings(given, dravo.settings())


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    kind = next((each["kind"] for each in dravo.settings() if each["name"] == given.name), "text")
    value: bool | int | str = given.value
    if kind == "boolean":
        value = {"yes": True, "true": True, "no": False, "false": False}.get(given.value.lower(), given.value)
    elif kind == "number" and given.value.isdigit():
        value = int(given.value)
    if given.preview:
        show_effects(given, dravo.preview_setting(given.name, value))
        return
    _show_settings(given, dravo.change_setting(given.name, value))


def _show_settings(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    columns = {
        "Group": lambda s: s["group"],
        "Name": lambda s: s["name"],
        "Value": lambda s: ("yes" if s["value"] else "no") if s["kind"] == "boolean" else s["value"],
        "Unit": lambda s: s["unit"] or None,
        "Meaning": lambda s: s["label"],
        "Minimum": lambda s: s["least"] if s["kind"] == "number" else None,
        "Maximum": lambda s: s["most"] if s["kind"] == "number" else None,
    }
    table(columns, found)
