"""`dravo mapping` and `dravo policy`: the mapping table of an application, and how it decides about access."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.assignment import show_preview, what, whom
from dravo.cli.errors import FAILED
from dravo.cli.output import command, facts, list_options, noun, read_text, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mapping", "which groups, patterns and rules give which role in an application")
    listing = command(verbs, "list", _list, "the mapping table: whom each row reaches, and what is amiss", ["dravo mapping list ticket-desk"])
    listing.add_argument("application", metavar="KEY")
    list_options(listing)
    attempt = command(
        verbs, "check-pattern", _try, "what a pattern makes of the groups of a source",
        ["dravo mapping check-pattern ticket-desk --source staff '^ticketdesk-(.+)$'"],
    )  # fmt: skip
    attempt.add_argument("application", metavar="KEY")
    attempt.add_argument("pattern")
    attempt.add_argument("--source", metavar="KEY", required=True)
    many = command(
        verbs, "assign", _many, "map many groups at once; only looked at, unless --apply is given",
        ["dravo mapping assign plant-records rows.csv", "dravo mapping assign plant-records rows.csv --apply"],
    )  # fmt: skip
    many.add_argument("application", metavar="KEY")
    many.add_argument("file", help="lines of: source, group, role; - for standard input")
    many.add_argument("--apply", action="store_true", help="do it; nothing is done as long as a line is wrong")

    rules = noun(nouns, "policy", "how an application decides about access")
    show = command(rules, "show", _show, "show how an application decides")
    show.add_argument("application", metavar="KEY")
    change = command(
        rules, "set", _set, "change how an application decides",
        ["dravo policy set plant-records --eligibility everybody --fallback 'default role' --default-role viewer --preview"],
    )  # fmt: skip
    change.add_argument("application", metavar="KEY")
    change.add_argument("--eligibility", choices=("assigned", "everybody"), help="who may come in")
    change.add_argument("--fallback", choices=("no access", "default role", "keep"), help="what people get to whom nothing gives a role")
    change.add_argument("--default-role", metavar="ROLE")
    change.add_argument("--several", choices=("all", "highest"), help="which of several roles count")
    change.add_argument("--first", choices=("both", "direct", "rules"), help="which assignments are heard where both give a role")
    change.add_argument("--preview", action="store_true", help="only show what it would do")
    change.add_argument("--confirm", metavar="LABEL", help="the application's name, where the change is grave")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "For": whom,
        "Id at the source": lambda a: (a["group"]["external_id"] or a["group"]["id"]) if a["group"] else None,
        "Of source": lambda a: a["source"]["key"] if a["source"] else None,
        "Role": what,
        "Reaches": lambda a: a["reach"],
        "What is amiss": lambda a: " ".join(f"{note['what']} {note['hint']}".strip() for note in a["notes"]),
    }
    show_list(given, dravo.applications.mapping(given.application), columns, "Nothing is mapped yet.")


def _try(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.applications.try_pattern(given.application, given.source, given.pattern)
    if given.json:
        show_json(found)
        return
    print(f"It reaches {found['reach']} people by {sum(each['outcome'] == 'gives' for each in found['groups'])} groups.")
    if found["groups"]:
        columns = {
            "Group": lambda g: g["group"]["name"],
            "Captured": lambda g: g["captured"],
            "Role": lambda g: g["role"],
            "Outcome": lambda g: g["outcome"],
            "ID": lambda g: g["group"]["id"],
        }
        table(columns, found["groups"])
    for note in found["notes"]:
        print(f"{note['what']} {note['hint']}")


def _many(given: argparse.Namespace, dravo: Dravo) -> int:
    found = dravo.applications.map_many(given.application, read_text(given.file), apply=given.apply)
    if given.json:
        show_json(found)
        return 0
    columns = {
        "Line": lambda b: b["number"],
        "Source": lambda b: b["source"],
        "Group": lambda b: b["group"],
        "Role": lambda b: b["role"],
        "State": lambda b: b["state"],
        "What is wrong": lambda b: b["message"],
    }
    table(columns, found["lines"])
    if given.apply:
        print(f"{found['done']} groups were mapped.")
    elif found["preview"]:
        show_preview(given, found["preview"])
    return FAILED if any(line["state"] == "wrong" for line in found["lines"]) else 0


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.get(given.application))


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    wanted = {name: getattr(given, name) for name in ("eligibility", "fallback", "default_role", "several", "first")}
    if given.preview:
        show_preview(given, dravo.applications.preview_policy(given.application, **wanted))
    else:
        _print(given, dravo.applications.change_policy(given.application, confirm=given.confirm, **wanted))


def _print(given: argparse.Namespace, application: Any) -> None:
    policy = application["policy"]
    if given.json:
        show_json(policy)
        return
    nothing = f"the default role, {policy['default_role']}" if policy["fallback"] == "default role" else policy["fallback"]
    heard = {"both": "direct assignments and rules", "direct": "direct assignments first", "rules": "groups and rules first"}
    facts(
        {
            "Application": f"{application['label']} ({application['key']})",
            "Open to": "everybody" if policy["eligibility"] == "everybody" else "the assigned only",
            "If nothing gives a role": nothing,
            "Of several roles": "all count" if policy["several"] == "all" else "the highest counts",
            "Heard": heard[policy["first"]],
        }
    )
