"""`dravo assignment`: which person or group gets which role."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.frame import WrongUse, command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "assignment", "which person or group gets which role")
    listing = command(
        verbs, "list", _list, "list assignments, with how many people each reaches", ["dravo assignment list --application plant-records"]
    )
    listing.add_argument("--application", metavar="KEY")
    list_options(listing)
    add = command(
        verbs, "add", _add, "give a role to a person, or to a group of a source",
        [
            "dravo assignment add plant-records recorder --source staff --group Herbarium",
            "dravo assignment add plant-records viewer --person philippa.marlow --until 2031-04-02T00:00:00Z",
            "dravo assignment add plant-records viewer --source staff --group 'All staff' --preview",
        ],
    )  # fmt: skip
    add.add_argument("application", help="its key")
    add.add_argument("role", help="its key")
    add.add_argument("--person", help="id, user name, e-mail or external id")
    add.add_argument("--group", help="id, external id or whole name")
    add.add_argument("--source", metavar="KEY", help="the group's source")
    add.add_argument("--from", dest="from_", metavar="INSTANT", help="such as 2031-04-02T09:15:00Z")
    add.add_argument("--until", metavar="INSTANT")
    add.add_argument("--note")
    add.add_argument("--preview", action="store_true", help="only show what it would do")
    remove = command(verbs, "remove", _remove, "take an assignment away")
    remove.add_argument("id")
    remove.add_argument("--preview", action="store_true", help="only show what it would do")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Application": lambda a: a["application"]["label"],
        "For": lambda a: a["person"]["display_name"] if a["person"] else f"{a['group']['name']}{' (gone)' if a['group']['gone'] else ''}",
        "Of source": lambda a: a["source"]["key"] if a["source"] else None,
        "Role": lambda a: a["role"]["label"],
        "Reaches": lambda a: a["reach"],
        "From (UTC)": lambda a: moment(a["from"]),
        "Until": lambda a: moment(a["until"]),
        "By": lambda a: a["created_by"],
        "Id": lambda a: a["id"],
    }
    show_list(given, dravo.assignments.list(application=given.application), columns, "There is no assignment yet.")


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    if bool(given.person) == bool(given.group):
        raise WrongUse("Give either --person, or --group with its --source.")
    whom = {name: getattr(given, name) for name in ("person", "group", "source", "from_", "until", "note")}
    if given.preview:
        _show_preview(given, dravo.assignments.preview(given.application, given.role, **whom))
        return
    made = dravo.assignments.add(given.application, given.role, **whom)
    if given.json:
        show_json(made)
    else:
        name = made["person"]["display_name"] if made["person"] else made["group"]["name"] if made["group"] else ""
        print(f"'{name}' gets {made['role']['label']} in {made['application']['label']}; that reaches {made['reach']} people now. ({made['id']})")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        _show_preview(given, dravo.assignments.preview_removal(given.id))
        return
    dravo.assignments.remove(given.id)
    print("Taken away.")


def _show_preview(given: argparse.Namespace, preview: Any) -> None:
    if given.json:
        show_json(preview)
        return
    people = f"{preview['gained']} gain, {preview['lost']} lose, {preview['unchanged']} stay as they are"
    print(f"{people}; {preview['accounts']} accounts change. Nothing is done yet.")
    if preview["people"]:
        table(
            {
                "Person": lambda p: p["person"]["display_name"],
                "Before": lambda p: ", ".join(p["before"]),
                "After": lambda p: ", ".join(p["after"]),
            },
            preview["people"],
        )
