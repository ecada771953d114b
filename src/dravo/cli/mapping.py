"""`dravo mapping` and `dravo policy`: the mapping table of an application, and how it decides about
access.
"""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.assignment import assignee, show_preview, what
from dravo.cli.errors import FAILED
from dravo.cli.output import command, facts, list_options, noun, read_text, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mapping", "role mapping: groups, patterns and rules that assign roles")
    listing = command(
        verbs,
        "list",
        _list,
        "list the role mapping with the number of users and warnings",
        ["dravo mapping list ticket-desk"],
    )
    listing.add_argument("application", metavar="KEY", help="key of the application")
    list_options(listing)
    attempt = command(
        verbs,
        "check-pattern",
        _try,
        "show which groups of a source match a pattern",
        ["dravo mapping check-pattern ticket-desk --source staff '^ticketdesk-(.+)$'"],
    )
    attempt.add_argument("application", metavar="KEY", help="key of the application")
    attempt.add_argument(
        "pattern", help="pattern of group names (RE2) with one part in parentheses, such as ^ticketdesk-(.+)$"
    )
    attempt.add_argument("--source", metavar="KEY", required=True, help="key of the source")
    many = command(
        verbs,
        "assign",
        _many,
        "map several groups from a file",
        [
            "dravo mapping assign plant-records rows.csv --preview",
            "dravo mapping assign plant-records rows.csv",
        ],
    )
    many.add_argument("application", metavar="KEY", help="key of the application")
    many.add_argument("file", help="CSV file with source, group and role in each line; - for standard input")
    many.add_argument("--preview", action="store_true", help="show what would change, and change nothing")

    rules = noun(nouns, "policy", "access policies of applications")
    show = command(rules, "show", _show, "show the access policy of an application")
    show.add_argument("application", metavar="KEY", help="key of the application")
    change = command(
        rules,
        "set",
        _set,
        "change the access policy of an application",
        [
            "dravo policy set plant-records --eligibility everyone --fallback fallback_role "
            "--fallback-role viewer --preview"
        ],
    )
    change.add_argument("application", metavar="KEY", help="key of the application")
    change.add_argument(
        "--eligibility", choices=("assigned", "everyone"), help="eligible users: assigned or everyone"
    )
    change.add_argument(
        "--fallback",
        choices=("no_access", "fallback_role", "retain"),
        help="what users without an assignment get",
    )
    change.add_argument(
        "--fallback-role",
        metavar="ROLE",
        help="key of the role of users without an assignment; required for fallback_role",
    )
    change.add_argument(
        "--several",
        choices=("all", "highest"),
        help="whether users with several roles keep all or the highest",
    )
    change.add_argument(
        "--first", choices=("both", "direct", "rules"), help="precedence: both, direct or rules"
    )
    change.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    change.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "For": assignee,
        "ID in the source": lambda a: (a["group"]["external_id"] or a["group"]["id"]) if a["group"] else None,
        "Source": lambda a: a["source"]["key"] if a["source"] else None,
        "Role": what,
        "Users": lambda a: a["matching_users"],
        "Warning": lambda a: " ".join(f"{note['what']} {note['hint']}".strip() for note in a["notes"]),
    }
    show_list(given, dravo.applications.mapping(given.application), columns, "No role mapping.")


def _try(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.applications.preview_pattern(given.application, given.source, given.pattern)
    if given.json:
        show_json(found)
        return
    print(
        f"The pattern matches {found['matching_users']} users in "
        f"{sum(each['outcome'] == 'gives' for each in found['groups'])} groups."
    )
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
    found = dravo.applications.map_many(given.application, read_text(given.file), apply=not given.preview)
    if given.json:
        show_json(found)
        return 0
    columns = {
        "Line": lambda b: b["number"],
        "Source": lambda b: b["source"],
        "Group": lambda b: b["group"],
        "Role": lambda b: b["role"],
        "Status": lambda b: b["status"],
        "Error": lambda b: b["message"],
    }
    table(columns, found["lines"])
    if not given.preview:
        print(f"{found['done']} groups were mapped.")
    elif found["preview"]:
        show_preview(given, found["preview"])
    return FAILED if any(line["status"] == "invalid" for line in found["lines"]) else 0


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.get(given.application))


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    wanted = {
        name: getattr(given, name)
        for name in ("eligibility", "fallback", "fallback_role", "several", "first")
    }
    if given.preview:
        show_preview(given, dravo.applications.preview_policy(given.application, **wanted))
    else:
        _print(given, dravo.applications.change_policy(given.application, confirm=given.confirm, **wanted))


def _print(given: argparse.Namespace, application: Any) -> None:
    policy = application["policy"]
    if given.json:
        show_json(policy)
        return
    nothing = (
        f"the fallback role, {policy['fallback_role']}"
        if policy["fallback"] == "fallback_role"
        else policy["fallback"]
    )
    heard = {"both": "equal", "direct": "direct assignments first", "rules": "groups and rules first"}
    facts(
        {
            "Application": f"{application['label']} ({application['key']})",
            "Eligible users": "everyone" if policy["eligibility"] == "everyone" else "assigned users only",
            "Without an assignment": nothing,
            "Multiple roles": "keep all" if policy["several"] == "all" else "keep the highest",
            "Heard": heard[policy["first"]],
        }
    )
