"""`dravo operator` and `dravo token`: who may run Dravo, and tokens for programs."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "operator", "who may run Dravo")
    list_options(command(verbs, "list", _list, "list operators"))
    add = command(
        verbs,
        "create",
        _add,
        "add an operator; the password is made and shown this once",
        ["dravo operator create honor.blackthorn --kind administrator"],
    )
    add.add_argument("name")
    kinds = ("super_administrator", "administrator", "help_desk", "auditor", "application_owner")
    add.add_argument("--kind", choices=kinds, default="administrator")
    add.add_argument("--application", action="append", default=[], metavar="KEY", help="of an application owner; may be given several times")
    add.add_argument("--masked", action="store_true", help="for help desk and auditors: people's attributes are not for them")
    reset = command(verbs, "reset-second-factor", _reset, "turn an operator's second factor off, who lost both app and recovery codes")
    reset.add_argument("id")
    fresh = command(verbs, "reset-password", _new_password, "give an operator a new password, shown this once")
    fresh.add_argument("id")
    command(verbs, "links", _links, "show by which sources you come in as an operator; links are made in the console")
    disable = command(verbs, "disable", _disable, "shut an operator out")
    disable.add_argument("id")

    tokens = noun(nouns, "token", "your API tokens, for programs")
    listing = command(tokens, "list", _tokens, "list your tokens, or those of all operators")
    listing.add_argument("--all", action="store_true", help="those of all operators; for super administrators")
    list_options(listing)
    new = command(tokens, "create", _new, "make a token, shown this once", ["dravo token create --label 'Nightly report'"])
    new.add_argument("--label", required=True, help="what the token is for")
    new.add_argument("--scope", choices=("read", "write"), default="read", help="what the token may do (default read)")
    new.add_argument("--expires", metavar="INSTANT", help="when the token ends, such as 2031-12-31T00:00:00Z (default: no end)")
    new.add_argument(
        "--permission",
        dest="permissions",
        action="append",
        metavar="NAME",
        help="limit the token to a permission, such as people.read; repeat for several (default: all that you have)",
    )
    revoke = command(tokens, "revoke", _revoke, "revoke one of your tokens, or as a super administrator anybody's")
    revoke.add_argument("id", help="as `dravo token list` shows it")

    settings = noun(nouns, "setting", "what is set for the whole house")
    command(settings, "list", _settings, "list the settings with their values")
    change = command(settings, "set", _set, "give a setting another value", ["dravo setting set trace_days 30"])
    change.add_argument("name")
    change.add_argument("value")


def _settings(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_settings(given, dravo.settings())


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_settings(given, dravo.change_setting(given.name, int(given.value) if given.value.isdigit() else given.value))


def _show_settings(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    columns = {
        "Name": lambda s: s["name"],
        "Value": lambda s: s["value"],
        "Meaning": lambda s: s["label"],
        "From": lambda s: s["least"] if s["kind"] == "number" else None,
        "To": lambda s: s["most"] if s["kind"] == "number" else None,
    }
    table(columns, found)


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda o: o["name"],
        "Kind": lambda o: o["kind"] + (", masked" if o["masked"] else ""),
        "Of": lambda o: ", ".join(o["applications"]),
        "Signs in by": lambda o: "a source alone" if o["only_by_source"] else "password, second factor" if o["second_factor"] else "password",
        "Since (UTC)": lambda o: moment(o["created_at"]),
        "Disabled": lambda o: moment(o["disabled_at"]),
        "ID": lambda o: o["id"],
    }
    show_list(given, dravo.operators.list(), columns, "There is no operator.")


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.operators.add(given.name, given.kind, applications=given.application, masked=given.masked)
    if given.json:
        show_json(made)
    else:
        print(f"Added {made['name']} as {made['kind']}. Password, shown this once: {made['password']}")


def _reset(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.operators.reset_second_factor(given.id)['name']} signs in by the password alone again.")


def _links(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.operators.own_links()
    if given.json:
        show_json(found)
        return
    if not found["items"]:
        offered = ", ".join(each["label"] for each in found["offered"])
        print(
            f"You come in by your password. {f'You can link yourself, in the console, to: {offered}.' if offered else 'No source lets operators in.'}"
        )
        return
    print("By a source alone; your password does not count." if found["only_by_source"] else "By your password, and by a source:")
    columns = {
        "Source": lambda n: n["source"]["label"],
        "Knows you as": lambda n: n["subject"],
        "Linked (UTC)": lambda n: moment(n["made_at"]),
        "Let you in (UTC)": lambda n: moment(n["last_used_at"]),
        "In force for": lambda n: n["state"],
    }
    table(columns, found["items"])


def _new_password(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.operators.new_password(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"New password of {made['name']}, shown this once: {made['password']}")


def _disable(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.operators.disable(given.id)['name']} is shut out.")


def _tokens(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda k: k["id"],
        **({"Operator": lambda k: k["operator"]["name"]} if given.all else {}),
        "Label": lambda k: k["label"],
        "Scope": lambda k: k["scope"],
        "Limited to": lambda k: ", ".join(k["permissions"] or ()),
        "Begins with": lambda k: f"dravo_api_{k['prefix']}_",
        "Last used (UTC)": lambda k: moment(k["last_used_at"]),
        "Expires": lambda k: moment(k["expires_at"]),
        "Revoked": lambda k: moment(k["revoked_at"]),
    }
    show_list(given, dravo.tokens.list(of_all=given.all), columns, "There is no token." if given.all else "You have no token.")


def _new(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.tokens.add(given.label, given.scope, given.expires, given.permissions)
    if given.json:
        show_json(made)
    else:
        print(f"The token, shown this once:\n\n{made['token']}\n")


def _revoke(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.tokens.revoke(given.id)
    print("Revoked.")
