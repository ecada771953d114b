"""`dravo token`: API tokens for programs."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, list_options, moment, noun, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "token", "API tokens")
    _declare_list(verbs)
    _declare_create(verbs)
    _declare_revoke(verbs)


def _declare_list(verbs: Any) -> None:
    parser = command(verbs, "list", _list, "list your tokens, or those of all operators")
    parser.add_argument(
        "--all", action="store_true", help="list the tokens of all operators; for super administrators"
    )
    list_options(parser)


def _declare_create(verbs: Any) -> None:
    parser = command(
        verbs,
        "create",
        _create,
        "create a token; prints it once",
        ["dravo token create --label 'Nightly report'"],
    )
    parser.add_argument("--label", required=True, help="purpose of the token")
    parser.add_argument(
        "--scope", choices=("read", "write"), default="read", help="read, or read and write (default read)"
    )
    parser.add_argument(
        "--expires-at", metavar="INSTANT", help="expiry, such as 2031-12-31T00:00:00Z (default: never)"
    )
    parser.add_argument(
        "--permission",
        dest="permissions",
        action="append",
        metavar="NAME",
        help="limit the token to a permission, such as users.read; repeat for several (default: all of "
        "yours)",
    )


def _declare_revoke(verbs: Any) -> None:
    parser = command(
        verbs,
        "revoke",
        _revoke,
        "revoke one of your tokens; super administrators can revoke all tokens",
    )
    parser.add_argument("id", help="ID of the token, as in 'dravo token list'")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda k: k["id"],
        **({"Operator": lambda k: k["operator"]["name"]} if given.all else {}),
        "Label": lambda k: k["label"],
        "Scope": lambda k: k["scope"],
        "Permissions": lambda k: ", ".join(k["permissions"] or ()),
        "Prefix": lambda k: f"dravo_api_{k['prefix']}_",
        "Last used (UTC)": lambda k: moment(k["last_used_at"]),
        "Expires": lambda k: moment(k["expires_at"]),
        "Revoked": lambda k: moment(k["revoked_at"]),
    }
    show_list(
        given,
        dravo.tokens.list(of_all=given.all),
        columns,
        "No tokens." if given.all else "You have no tokens.",
    )


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.tokens.add(given.label, given.scope, given.expires_at, given.permissions)
    if given.json:
        show_json(made)
    else:
        print(f"Token (shown only once):\n\n{made['token']}\n")


def _revoke(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.tokens.revoke(given.id)
    print("Revoked.")
