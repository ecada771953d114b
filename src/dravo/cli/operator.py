"""`dravo operator` and `dravo token`: who may run Dravo, and tokens for programs."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "operator", "operators of Dravo")
    list_options(command(verbs, "list", _list, "list operators"))
    _declare_create(verbs)
    _declare_reset_second_factor(verbs)
    _declare_reset_password(verbs)
    command(verbs, "links", _links, "show your sign-in options; change them in the console")
    _declare_disable(verbs)
    tokens = noun(nouns, "token", "API tokens")
    _declare_token_list(tokens)
    _declare_token_create(tokens)
    _declare_token_revoke(tokens)
    settings = noun(nouns, "setting", "organization settings")
    command(settings, "list", _setting_list, "list settings with their values")
    _declare_setting_set(settings)


def _declare_create(verbs: Any) -> None:
    kinds = ("super_administrator", "administrator", "help_desk", "auditor", "application_owner")
    parser = command(
        verbs,
        "create",
        _create,
        "create an operator; prints a generated password once",
        ["dravo operator create honor.blackthorn --kind administrator"],
    )
    parser.add_argument("name", help="sign-in name")
    parser.add_argument(
        "--kind",
        choices=kinds,
        default="administrator",
        help="kind of operator: super_administrator, administrator, help_desk, auditor or application_owner",
    )
    parser.add_argument(
        "--application",
        action="append",
        default=[],
        metavar="KEY",
        help="application of an application owner; repeat for several",
    )
    parser.add_argument(
        "--masked", action="store_true", help="mask user attributes; for help_desk and auditor"
    )


def _declare_reset_second_factor(verbs: Any) -> None:
    parser = command(
        verbs,
        "reset-second-factor",
        _reset_second_factor,
        "reset the second factor of an operator who lost the app and the recovery codes",
    )
    parser.add_argument("id", help="ID of the operator, as in 'dravo operator list'")


def _declare_reset_password(verbs: Any) -> None:
    parser = command(
        verbs,
        "reset-password",
        _reset_password,
        "reset the password of an operator; prints the new password once",
    )
    parser.add_argument("id", help="ID of the operator, as in 'dravo operator list'")


def _declare_disable(verbs: Any) -> None:
    parser = command(verbs, "disable", _disable, "disable an operator")
    parser.add_argument("id", help="ID of the operator, as in 'dravo operator list'")


def _declare_token_list(tokens: Any) -> None:
    parser = command(tokens, "list", _token_list, "list your tokens, or those of all operators")
    parser.add_argument(
        "--all", action="store_true", help="list the tokens of all operators; for super administrators"
    )
    list_options(parser)


def _declare_token_create(tokens: Any) -> None:
    parser = command(
        tokens,
        "create",
        _token_create,
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


def _declare_token_revoke(tokens: Any) -> None:
    parser = command(
        tokens,
        "revoke",
        _token_revoke,
        "revoke one of your tokens; super administrators can revoke all tokens",
    )
    parser.add_argument("id", help="ID of the token, as in 'dravo token list'")


def _declare_setting_set(settings: Any) -> None:
    parser = command(settings, "set", _setting_set, "change a setting", ["dravo setting set trace_days 30"])
    parser.add_argument("name", help="name of the setting, as in 'dravo setting list'")
    parser.add_argument("value", help="new value; yes or no for a boolean")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _setting_list(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_settings(given, dravo.settings())


def _setting_set(given: argparse.Namespace, dravo: Dravo) -> None:
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


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda o: o["name"],
        "Kind": lambda o: o["kind"] + (", masked" if o["masked"] else ""),
        "Applications": lambda o: ", ".join(o["applications"]),
        "Sign-in": lambda o: (
            "source sign-in only"
            if o["only_by_source"]
            else "password, second factor"
            if o["second_factor"]
            else "password"
        ),
        "Since (UTC)": lambda o: moment(o["created_at"]),
        "Disabled": lambda o: moment(o["disabled_at"]),
        "ID": lambda o: o["id"],
    }
    show_list(given, dravo.operators.list(), columns, "No operators.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.operators.add(given.name, given.kind, applications=given.application, masked=given.masked)
    if given.json:
        show_json(made)
    else:
        print(f"Created {made['name']} ({made['kind']}). Password (shown only once): {made['password']}")


def _reset_second_factor(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.operators.reset_second_factor(given.id)['name']} can now sign in with the password only.")


def _links(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.operators.own_links()
    if given.json:
        show_json(found)
        return
    if not found["items"]:
        offered = ", ".join(each["label"] for each in found["offered"])
        print(
            "You sign in with your password. "
            f"{f'In the console you can link to: {offered}.' if offered else 'No source signs in operators.'}"
        )
        return
    print(
        "You sign in through a source only. Your password is disabled."
        if found["only_by_source"]
        else "You sign in with your password or through a source:"
    )
    columns = {
        "Source": lambda n: n["source"]["label"],
        "Identifies you as": lambda n: n["subject"],
        "Linked (UTC)": lambda n: moment(n["created_at"]),
        "Last sign-in (UTC)": lambda n: moment(n["last_used_at"]),
        "Status": lambda n: n["status"],
    }
    table(columns, found["items"])


def _reset_password(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.operators.new_password(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"New password of {made['name']} (shown only once): {made['password']}")


def _disable(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.operators.disable(given.id)['name']} is disabled.")


def _token_list(given: argparse.Namespace, dravo: Dravo) -> None:
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


def _token_create(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.tokens.add(given.label, given.scope, given.expires_at, given.permissions)
    if given.json:
        show_json(made)
    else:
        print(f"Token (shown only once):\n\n{made['token']}\n")


def _token_revoke(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.tokens.revoke(given.id)
    print("Revoked.")
