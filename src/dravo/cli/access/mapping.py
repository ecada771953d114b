"""`dravo mapping` and `dravo policy`: the mapping table of an application, and how it decides about
access.
"""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import assignee, show_preview, what
from dravo.cli.errors import FAILED
from dravo.cli.output import command, facts, list_options, noun, read_text, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mapping", "role mapping: groups, patterns and rules that assign roles")
    _declare_list(verbs)
    _declare_check_pattern(verbs)
    _declare_assign(verbs)
    policies = noun(nouns, "policy", "access policies of applications")
    _declare_policy_show(policies)
    _declare_policy_set(policies)


def _declare_list(verbs: Any) -> None:
    parser = command(
        verbs,
        "list",
        _list,
        "list the role mapping with the number of users and warnings",
        ["dravo mapping list ticket-desk"],
    )
    parser.add_argument("application", metavar="KEY", help="key of the application")
    list_options(parser)


def _declare_check_pattern(verbs: Any) -> None:
    parser = command(
        verbs,
        "check-pattern",
        _check_pattern,
        "show which groups of a source match a pattern",
        ["dravo mapping check-pattern ticket-desk --source staff '^ticketdesk-(.+)$'"],
    )
    parser.add_argument("application", metavar="KEY", help="key of the application")
    parser.add_argument(
        "pattern", help="pattern of group names (RE2) with one part in parentheses, such as ^ticketdesk-(.+)$"
    )
    parser.add_argument("--source", metavar="KEY", required=True, help="key of the source")


def _declare_assign(verbs: Any) -> None:
    parser = command(
        verbs,
        "assign",
        _assign,
        "map several groups from a file",
        [
            "dravo mapping assign plant-records rows.csv --preview",
            "dravo mapping assign plant-records rows.csv",
        ],
    )
    parser.add_argument("application", metavar="KEY", help="key of the application")
    parser.add_argument(
        "file", help="CSV file with source, group and role in each line; - for standard input"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _declare_policy_show(policies: Any) -> None:
    parser = command(policies, "show", _policy_show, "show the access policy of an application")
    parser.add_argument("application", metavar="KEY", help="key of the application")


def _declare_policy_set(policies: Any) -> None:
    parser = command(
        policies,
        "set",
        _policy_set,
        "change the access policy of an application",
        [
            "dravo policy set plant-records --eligibility everyone --fallback fallback_role "
            "--fallback-role viewer --preview"
        ],
    )
    parser.add_argument("application", metavar="KEY", help="key of the application")
    parser.add_argument(
        "--eligibility", choices=("assigned", "everyone"), help="eligible users: assigned or everyone"
    )
    parser.add_argument(
        "--fallback",
        choices=("no_access", "fallback_role", "retain"),
        help="what users without an assignment get",
    )
    parser.add_argument(
        "--fallback-role",
        metavar="ROLE",
        help="key of the role of users without an assignment; required for fallback_role",
    )
    parser.add_argument(
        "--several",
        choices=("all", "highest"),
        help="whether users with several roles keep all or the highest",
    )
    parser.add_argument(
        "--first", choices=("both", "direct", "rules"), help="precedence: both, direct or rules"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
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


def _check_pattern(given: argparse.Namespace, dravo: Dravo) -> None:
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
            "By": lambda g: g["by"],
            "Outcome": lambda g: g["outcome"],
            "ID": lambda g: g["group"]["id"],
        }
        table(columns, found["groups"])
    for note in found["notes"]:
        print(f"{note['what']} {note['hint']}")


def _assign(given: argparse.Namespace, dravo: Dravo) -> int:
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


def _policy_show(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_policy(given, dravo.applications.get(given.application))


def _policy_set(given: argparse.Namespace, dravo: Dravo) -> None:
    wanted = {
        name: getattr(given, name)
        for name in ("eligibility", "fallback", "fallback_role", "several", "first")
    }
    if given.preview:
        show_preview(given, dravo.applications.preview_policy(given.application, **wanted))
    else:
        _show_policy(
            given, dravo.applications.change_policy(given.application, confirm=given.confirm, **wanted)
        )


def _show_policy(given: argparse.Namespace, application: Any) -> None:
    policy = application["policy"]
    if given.json:
        show_json(policy)
        return
    nothing = (
        f"the fallback role, {policy['fallback_role']}"
        if policy["fallback"] == "fallback_role"
        else policy["fallback"]
    )
    precedence = {"both": "equal", "direct": "direct assignments first", "rules": "groups and rules first"}
    facts(
        {
            "Application": f"{application['label']} ({application['key']})",
            "Eligible users": "everyone" if policy["eligibility"] == "everyone" else "assigned users only",
            "Without an assignment": nothing,
            "Multiple roles": "keep all" if policy["several"] == "all" else "keep the highest",
            "Heard": precedence[policy["first"]],
        }
    )
