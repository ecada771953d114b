"""`dravo person`, `dravo why`, `dravo access`, `dravo account`: who there is, what they have, and why."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.assignment import show_preview
from dravo.cli.output import command, facts, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "person", "people, by id, user name, e-mail or external id")
    listing = command(
        verbs, "list", _list, "list people by name", ["dravo person list", "dravo person list marlow", "dravo person list --state gone"]
    )
    listing.add_argument("words", nargs="?", help="a part of name, user name or e-mail")
    listing.add_argument("--state", choices=("active", "inactive", "gone"))
    list_options(listing)
    show = command(verbs, "show", _show, "show one person: attributes, groups, access, accounts", ["dravo person show philippa.marlow"])
    show.add_argument("person")

    add = command(
        verbs, "add", _add, "enter somebody whom no source knows",
        ["dravo person add ida.vosper --given Ida --family Vosper --email ida.vosper@fernhollow.example"],
    )  # fmt: skip
    add.add_argument("user_name")
    change = command(verbs, "change", _change, "change a local person", ["dravo person change ida.vosper --title Botanist --preview"])
    change.add_argument("person")
    change.add_argument("--user-name")
    for each in (add, change):
        each.add_argument("--given", dest="given_name", metavar="NAME")
        each.add_argument("--family", dest="family_name", metavar="NAME")
        each.add_argument("--display-name", metavar="NAME", help="given and family name, if it is left out")
        each.add_argument("--email")
        each.add_argument("--title")
        each.add_argument("--department")
    change.add_argument("--active", choices=("yes", "no"))
    remove = command(verbs, "remove", _remove, "say that a local person is gone")
    remove.add_argument("person")
    for each in (change, remove):
        each.add_argument("--preview", action="store_true", help="only show what it would do")
        each.add_argument("--confirm", metavar="NAME", help="the person's name, where the change is grave")

    why = command(
        nouns, "why", _why, "say, in sentences, what a person has in an application and why, or why not", ["dravo why philippa.marlow plant-records"]
    )
    why.add_argument("person")
    why.add_argument("application", help="its key")

    access = command(
        nouns, "access", _access, "list who has which role where", ["dravo access --application plant-records --role curator", "dravo access --ended"]
    )
    access.add_argument("words", nargs="?", help="a part of the person's name")
    access.add_argument("--application", metavar="KEY")
    access.add_argument("--role", metavar="KEY")
    access.add_argument("--ended", action="store_true", help="access that has ended, newest first")
    list_options(access)

    accounts = noun(nouns, "account", "how people stand in applications")
    listing = command(accounts, "list", _accounts, "list accounts", ["dravo account list --application ticket-desk --state failed"])
    listing.add_argument("words", nargs="?", help="a part of the person's name, or the id there")
    listing.add_argument("--application", metavar="KEY")
    listing.add_argument("--state", choices=("agreed", "due", "waiting", "failed", "held"))
    list_options(listing)


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda p: p["display_name"],
        "User name": lambda p: p["user_name"],
        "E-mail": lambda p: p["email"],
        "State": lambda p: p["state"],
        "Since (UTC)": lambda p: moment(p["since"]),
    }
    show_list(given, dravo.people.list(words=given.words, state=given.state), columns, "Nobody fits.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.get(given.person)
    if given.json:
        show_json(person)
        return
    facts({"Name": person["display_name"], "State": f"{person['state']} since {moment(person['since'])} UTC", "Id": person["id"]})
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
        table(_ACCESS, person["access"])
    if person["accounts"]:
        print("Accounts")
        table({name: cell for name, cell in _ACCOUNT.items() if name != "Person"}, person["accounts"])


_FIELDS = ("given_name", "family_name", "display_name", "email", "title", "department")
# Where each of them stands among the attributes of a person.
_ATTRIBUTES = {"given_name": "name.givenName", "family_name": "name.familyName", "display_name": "displayName", "email": "emails"}


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.add(given.user_name, **{name: value for name in _FIELDS if (value := getattr(given, name))})
    if given.json:
        show_json(person)
        return
    print(f"{person['display_name']} is there now: {person['id']}.")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    before = dravo.people.get(given.person)
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
        show_preview(given, dravo.people.preview_removal(given.person))
        return
    dravo.people.remove(given.person, given.confirm)
    print("Gone; what they had ends.")


def _because(item: Any) -> str:
    """Return the chains of an access in short."""
    chains = []
    for reason in item["reasons"]:
        if reason["until"] and not item["until"]:
            continue
        if reason["group"]:
            way = " > ".join([*reason["through"], reason["group"]["name"]])
            chains.append(f"{reason['source']['key'] if reason['source'] else 'local'} > {way}")
        else:
            chains.append(f"direct, by {reason['by']}" if reason["kind"] == "direct" else _piece(reason))
    return "; ".join(chains)


def _seat(seat: Any) -> str | None:
    return None if seat is None else f"{seat['plan']['label']}{'' if seat['since'] else ' (waits)'}"


_ACCESS = {
    "Application": lambda x: x["application"]["label"],
    "Role": lambda x: x["role"]["label"],
    "Since (UTC)": lambda x: moment(x["since"]),
    "Because of": _because,
    "Seat": lambda x: _seat(x["seat"]),
    "Account": lambda x: x["account"]["state"] if x["account"] else None,
}
_ACCOUNT = {
    "Person": lambda a: a["person"]["display_name"],
    "Application": lambda a: a["application"]["label"],
    "Should be": lambda a: a["should_be"],
    "Roles": lambda a: ", ".join(a["roles"]),
    "State": lambda a: a["state"],
    "Agreed (UTC)": lambda a: moment(a["agreed_at"]),
    "Id there": lambda a: a["remote_id"],
}


def _why(given: argparse.Namespace, dravo: Dravo) -> None:
    answer = dravo.people.why(given.person, given.application)
    if given.json:
        show_json(answer)
        return
    for sentence in answer["sentences"]:
        print(sentence)
    for item in answer["access"]:
        account = answer["account"]
        for reason in item["reasons"]:
            if reason["until"]:
                continue
            chain = [reason["source"]["label"] if reason["source"] else None, *reason["through"]]
            chain += [_piece(reason), item["role"]["label"]]
            chain.append(f"account {account['state']}" if account else "no account")
            print("\n  " + " > ".join(part for part in chain if part))


def _piece(reason: Any) -> str:
    """Return what a reason names: a group, a rule, everybody, or how the application decides."""
    if reason["group"]:
        return str(reason["group"]["name"])
    words = {"rule": f"rule {reason['rule']}", "everybody": "everybody", "default": "the default role", "kept": "kept"}
    return words.get(reason["kind"], "assigned directly")


def _access(given: argparse.Namespace, dravo: Dravo) -> None:
    columns: dict[str, Any] = {"Person": lambda x: x["person"]["display_name"], **_ACCESS}
    if given.ended:
        columns["Until"] = lambda x: moment(x["until"])
    found = dravo.access(application=given.application, role=given.role, words=given.words, ended=given.ended)
    show_list(given, found, columns, "Nobody fits.")


def _accounts(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.accounts.list(application=given.application, state=given.state, words=given.words)
    show_list(given, found, _ACCOUNT, "No account fits.")
