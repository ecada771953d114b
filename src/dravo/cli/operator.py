"""`dravo operator`: who may run Dravo."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "operator", "operators of Dravo")
    list_options(command(verbs, "list", _list, "list operators"))
    _declare_create(verbs)
    _declare_change(verbs)
    _declare_reset_second_factor(verbs)
    _declare_reset_password(verbs)
    command(verbs, "links", _links, "show your sign-in options; change them in the console")
    unlinked = command(verbs, "unlink", _unlink, "remove the link of a source to your operator")
    unlinked.add_argument("id", help="ID of the link, as in 'dravo operator links --json'")
    _declare_disable(verbs)
    _declare_enable(verbs)


KINDS = ("super_administrator", "administrator", "help_desk", "auditor", "application_owner")
AREAS = ("requests", "sign_ins", "audit")
# What can be masked: the field, what a list calls it, and what it hides.
MASKS = (
    ("masked", "attributes", "email addresses and other user attributes"),
    ("masked_names", "names", "names and user names, and texts that quote them"),
    ("masked_networks", "network addresses", "network addresses"),
)


def _option(name: str) -> str:
    return f"--{name.replace('_', '-')}"


def _declare_create(verbs: Any) -> None:
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
        choices=KINDS,
        default="administrator",
        help="kind of operator: super_administrator, administrator, help_desk, auditor or application_owner "
        "(default administrator)",
    )
    parser.add_argument("--email", default="", metavar="ADDRESS", help="email address for notices")
    parser.add_argument(
        "--application",
        action="append",
        default=[],
        metavar="KEY",
        help="application of an application owner; repeat for several",
    )
    for name, _, what in MASKS:
        parser.add_argument(
            _option(name), action="store_true", help=f"mask {what}; for help_desk and auditor"
        )
    parser.add_argument(
        "--hidden-area",
        action="append",
        default=[],
        choices=AREAS,
        help="hide an area: requests (of sources), sign_ins (sign-in history) or audit (audit log); repeat "
        "for several; for help_desk and auditor",
    )


def _declare_change(verbs: Any) -> None:
    parser = command(
        verbs,
        "change",
        _change,
        "change an operator; permissions change at once",
        ["dravo operator change 0197b2c4-... --kind auditor --hidden-area sign_ins"],
    )
    parser.add_argument("id", help="ID of the operator, as in 'dravo operator list'")
    parser.add_argument("--name", help="sign-in name")
    parser.add_argument(
        "--kind",
        choices=KINDS,
        help="kind of operator: super_administrator, administrator, help_desk, auditor or application_owner",
    )
    parser.add_argument(
        "--email", metavar="ADDRESS", help="email address for notices; an empty text deletes the address"
    )
    parser.add_argument(
        "--application",
        action="append",
        metavar="KEY",
        help="application of an application owner; repeat for several; replaces the former ones",
    )
    parser.add_argument(
        "--no-applications",
        action="store_const",
        const=[],
        dest="application",
        help="remove all applications, except those whose owner the operator is",
    )
    for name, _, what in MASKS:
        parser.add_argument(
            _option(name),
            action=argparse.BooleanOptionalAction,
            help=f"mask {what}, or stop; for help_desk and auditor",
        )
    parser.add_argument(
        "--hidden-area",
        action="append",
        choices=AREAS,
        help="hide an area: requests (of sources), sign_ins (sign-in history) or audit (audit log); repeat "
        "for several; replaces the former areas; for help_desk and auditor",
    )
    parser.add_argument(
        "--no-hidden-areas", action="store_const", const=[], dest="hidden_area", help="show all areas again"
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


def _declare_enable(verbs: Any) -> None:
    parser = command(verbs, "enable", _enable, "enable a disabled operator, with all that worked before")
    parser.add_argument("id", help="ID of the operator, as in 'dravo operator list'")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda o: o["name"],
        "Kind": lambda o: o["kind"],
        "Masked": lambda o: ", ".join(short for name, short, _ in MASKS if o[name]),
        "Hidden": lambda o: ", ".join(o["hidden_areas"]),
        "Email": lambda o: o["email"],
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
    made = dravo.operators.add(
        given.name,
        given.kind,
        applications=given.application,
        **{name: getattr(given, name) for name, _, _ in MASKS},
        hidden_areas=given.hidden_area,
        email=given.email,
    )
    if given.json:
        show_json(made)
    else:
        print(f"Created {made['name']} ({made['kind']}). Password (shown only once): {made['password']}")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    wanted = {
        "name": given.name,
        "kind": given.kind,
        "email": given.email,
        "applications": given.application,
        **{name: getattr(given, name) for name, _, _ in MASKS},
        "hidden_areas": given.hidden_area,
    }
    changed = dravo.operators.change(
        given.id, **{name: value for name, value in wanted.items() if value is not None}
    )
    if given.json:
        show_json(changed)
    else:
        print(f"{changed['name']} ({changed['kind']}) is saved.")


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


def _enable(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.operators.enable(given.id)['name']} is enabled.")


def _unlink(given: argparse.Namespace, dravo: Dravo) -> None:
    links = dravo.operators.unlink(given.id)
    if given.json:
        show_json(links)
    else:
        print("Removed.")
