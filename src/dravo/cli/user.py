"""`dravo user`: users, what they have, and local users."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access import ACCESS
from dravo.cli.account import ACCOUNT
from dravo.cli.assignment import show_preview
from dravo.cli.output import command, facts, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "user", "users, by ID, user name, email or external ID")
    listing = command(verbs, "list", _list, "list users by name", ["dravo user list", "dravo user list marlow", "dravo user list --state gone"])
    listing.add_argument("words", nargs="?", help="a part of name, user name or email")
    listing.add_argument("--state", choices=("active", "inactive", "gone"), help="only users of this status")
    list_options(listing)
    show = command(verbs, "show", _show, "show one user: attributes, groups, access, accounts", ["dravo user show philippa.marlow"])
    show.add_argument("user", help="ID, user name, email or external ID")

    add = command(
        verbs, "create", _add, "create a local user",
        ["dravo user create ida.vosper --given Ida --family Vosper --email ida.vosper@fernhollow.example"],
    )  # fmt: skip
    add.add_argument("user_name", help="such as ida.vosper")
    change = command(verbs, "change", _change, "change a local user", ["dravo user change ida.vosper --title Botanist --preview"])
    change.add_argument("user", help="ID, user name, email or external ID")
    change.add_argument("--user-name", help="a new user name")
    for each in (add, change):
        each.add_argument("--given", dest="given_name", metavar="NAME", help="given name")
        each.add_argument("--family", dest="family_name", metavar="NAME", help="family name")
        each.add_argument("--display-name", metavar="NAME", help="given and family name, if it is left out")
        each.add_argument("--email", help="email address")
        each.add_argument("--title", help="job title")
        each.add_argument("--department", help="department")
    change.add_argument("--active", choices=("yes", "no"), help="no: the user is inactive")
    remove = command(verbs, "remove", _remove, "mark a local user as left and end their access")
    remove.add_argument("user", help="ID, user name, email or external ID")
    for each in (change, remove):
        each.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
        each.add_argument("--confirm", metavar="NAME", help="the user's name; required where the change is serious")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda p: p["display_name"],
        "User name": lambda p: p["user_name"],
        "Email": lambda p: p["email"],
        "State": lambda p: p["state"],
        "Since (UTC)": lambda p: moment(p["since"]),
    }
    show_list(given, dravo.people.list(words=given.words, state=given.state), columns, "No user matches.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.get(given.user)
    if given.json:
        show_json(person)
        return
    facts({"Name": person["display_name"], "State": f"{person['state']} since {moment(person['since'])} UTC", "ID": person["id"]})
    print("\nAttributes")
    table(
        {"Attribute": lambda a: a["name"], "Value": lambda a: a["value"], "Given by": lambda a: a["source"]["label"] if a["source"] else None},
        person["attributes"],
    )
    if person["groups"]:
        print("Groups")
        table(
            {
                "Group": lambda m: m["group"]["name"],
                "Source": lambda m: m["source"]["key"] if m["source"] else None,
                "Since (UTC)": lambda m: moment(m["since"]),
                "Until": lambda m: moment(m["until"]),
            },
            person["groups"],
        )
    if person["access"]:
        print("Access")
        table(ACCESS, person["access"])
    if person["accounts"]:
        print("Accounts")
        table({name: cell for name, cell in ACCOUNT.items() if name != "User"}, person["accounts"])


_FIELDS = ("given_name", "family_name", "display_name", "email", "title", "department")


# Where each of them stands among the attributes of a person.
_ATTRIBUTES = {"given_name": "name.givenName", "family_name": "name.familyName", "display_name": "displayName", "email": "emails"}


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.add(given.user_name, **{name: value for name in _FIELDS if (value := getattr(given, name))})
    if given.json:
        show_json(person)
        return
    print(f"Created {person['display_name']}: {person['id']}.")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    before = dravo.people.get(given.user)
    known = {each["name"]: each["value"] for each in before["attributes"]}
    fields: dict[str, Any] = {name: known.get(_ATTRIBUTES.get(name, name), "") for name in _FIELDS}
    fields["email"] = before["email"] or ""
    fields |= {name: value for name in _FIELDS if (value := getattr(given, name)) is not None}
    fields["active"] = given.active == "yes" if given.active else before["state"] == "active"
    user_name = given.user_name or before["user_name"]
    if given.preview:
        show_preview(given, dravo.people.preview(before["id"], user_name, **fields))
        return
    person = dravo.people.change(before["id"], user_name, **fields, confirm=given.confirm)
    if given.json:
        show_json(person)
        return
    print(f"{person['display_name']} is {person['state']}.")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.people.preview_removal(given.user))
        return
    dravo.people.remove(given.user, given.confirm)
    print("The user has left; their access ends.")
