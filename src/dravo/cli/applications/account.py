"""`dravo account`: accounts of users in applications."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, facts, list_options, moment, noun, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "account", "accounts of users in applications")
    listing = command(
        verbs,
        "list",
        _list,
        "list accounts",
        ["dravo account list --application ticket-desk --status failed"],
    )
    listing.add_argument("words", nargs="?", help="a part of the user's name, or the ID in the application")
    listing.add_argument("--application", metavar="KEY", help="only accounts of this application")
    listing.add_argument(
        "--status",
        choices=("in_sync", "pending", "waiting", "manual", "failed", "held", "unmanaged"),
        help="only accounts of this status",
    )
    list_options(listing)
    show = command(verbs, "show", _show, "show one account with its desired and applied state")
    show.add_argument("id", help="ID of the account, as in 'dravo account list --json'")


ACCOUNT = {
    "User": lambda a: a["user"]["display_name"],
    "Application": lambda a: a["application"]["label"],
    "Desired state": lambda a: a["should_be"],
    "Roles": lambda a: ", ".join(a["roles"]),
    "Status": lambda a: a["status"],
    "Applied (UTC)": lambda a: moment(a["applied_at"]),
    "Account ID": lambda a: a["remote_id"],
}


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.accounts.list(application=given.application, status=given.status, words=given.words)
    show_list(given, found, ACCOUNT, "No account matches.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    account = dravo.accounts.get(given.id)
    if given.json:
        show_json(account)
        return
    facts(
        {
            "User": account["user"]["display_name"],
            "Application": account["application"]["label"],
            "Status": account["status"],
            "Applied (UTC)": moment(account["applied_at"]),
            "Account ID": account["remote_id"],
        }
    )
    print("\nDesired state:")
    show_json(account["desired"])
    print("\nApplied state:")
    show_json(account["applied"])
