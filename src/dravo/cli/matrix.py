"""`dravo matrix`, `dravo changes` and `dravo expected`: who has which role where, at any instant; what changed; what somebody would have."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import WrongUse, command, list_options, moment, read_json, show_json, show_list, table, write_pieces
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    matrix = command(
        nouns, "matrix", _matrix, "people against applications, now or at a past instant",
        [
            "dravo matrix --application plant-records --role curator",
            "dravo matrix --at 2031-04-02 --only 'highest role'",
            "dravo matrix --export access.csv",
        ],
    )  # fmt: skip
    matrix.add_argument("words", nargs="?", help="a part of a name, user name or e-mail")
    matrix.add_argument("--application", metavar="KEY", help="only people with access to it")
    matrix.add_argument("--role", metavar="KEY", help="with --application: only people in that role")
    matrix.add_argument("--only", choices=("direct only", "inactive but assigned", "highest role"))
    matrix.add_argument("--at", metavar="DAY", help="the end of a day, or an instant such as 2031-04-02T09:15:00Z")
    matrix.add_argument("--export", metavar="FILE", help="write all of it to a file, .csv or .json; - for standard output, as CSV")
    matrix.add_argument("--groups", action="store_true", help="groups that give something instead of people")
    list_options(matrix)
    compared = command(nouns, "compare", _compare, "two people side by side", ["dravo compare philippa.marlow rosa.fenn"])
    compared.add_argument("one", help="id, user name, e-mail or external id")
    compared.add_argument("two")
    changes = command(
        nouns, "changes", _changes, "who has other roles at one instant than at an earlier one, and by what",
        ["dravo changes 2031-04-01 2031-04-02", "dravo changes 2031-04-01 2031-04-30 --application plant-records"],
    )  # fmt: skip
    changes.add_argument("since", help="the end of a day, or an instant")
    changes.add_argument("until", help="the end of a day, or an instant")
    changes.add_argument("--application", metavar="KEY")
    list_options(changes)
    expected = command(
        nouns, "expected", _expected, "which roles somebody would get who does not exist yet",
        [
            "dravo expected staff --group Herbarium --attribute 'title=Head of Herbarium'",
            "dravo expected staff --user somebody.json",
        ],
    )  # fmt: skip
    expected.add_argument("source", metavar="KEY", help="whose person it would be")
    expected.add_argument("--group", action="append", default=[], metavar="NAME", help="a group of that source, by name or id")
    expected.add_argument("--attribute", action="append", default=[], metavar="NAME=VALUE", help="an attribute, such as title=Guide")
    expected.add_argument("--user", metavar="FILE", help="a SCIM User as JSON; - for standard input")


def _matrix(given: argparse.Namespace, dravo: Dravo) -> None:
    view = {name: getattr(given, name) for name in ("words", "application", "role", "only", "at")}
    if given.export:
        write_pieces(given.export, dravo.export_matrix("json" if given.export.endswith(".json") else "csv", **view))
        return

    def roles(person: Any) -> str:
        return "; ".join(f"{key}: {', '.join(labels)}" for key, labels in sorted(person["roles"].items()))

    if given.groups:
        if given.at or given.only or given.role:
            raise WrongUse("--groups goes with words and --application only.")
        of_groups = {
            "Group": lambda g: g["name"],
            "Source": lambda g: g["source"]["key"] if g["source"] else None,
            "Members": lambda g: g["members"],
            "Gives": roles,
        }
        show_list(given, dravo.matrix_of_groups(words=given.words, application=given.application), of_groups, "No group fits.")
        return
    columns = {"Person": lambda p: p["display_name"], "User name": lambda p: p["user_name"], "State": lambda p: p["state"], "Roles": roles}
    show_list(given, dravo.matrix(**view), columns, "Nobody fits.")


def _compare(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.compare(given.one, given.two)
    if given.json:
        show_json(found)
        return
    one, two = (person["display_name"] for person in found["people"])

    def side(number: int) -> Any:
        return lambda a: "; ".join(f"{each['role']} ({', '.join(each['because'])})" for each in a["sides"][number])

    if found["applications"]:
        columns = {"Application": lambda a: a["application"]["label"], "": lambda a: "same" if a["same"] else "differs", one: side(0)}
        table({**columns, two if two != one else f"{two} (the other)": side(1)}, found["applications"])
    else:
        print("Neither has access to anything.")
    for title, inside in ((f"Groups of {one} only", [True, False]), (f"Groups of {two} only", [False, True]), ("Groups of both", [True, True])):
        named = [each["group"]["name"] for each in found["groups"] if each["sides"] == inside]
        print(f"{title}: {', '.join(named) or 'none'}")


def _changes(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Person": lambda c: c["person"]["display_name"],
        "Application": lambda c: c["application"]["label"],
        "What": lambda c: c["what"],
        "Before": lambda c: ", ".join(c["before"]),
        "After": lambda c: ", ".join(c["after"]),
        "At (UTC)": lambda c: moment(c["at"]),
        "By": lambda c: "; ".join(c["reasons"]),
    }
    show_list(given, dravo.changes(given.since, given.until, given.application), columns, "Nobody has other roles.")


def _expected(given: argparse.Namespace, dravo: Dravo) -> None:
    attributes: dict[str, Any] = read_json(given.user) if given.user else {}
    for each in given.attribute:
        name, sign, value = each.partition("=")
        if not sign:
            raise WrongUse(f"'{each}' is not NAME=VALUE.")
        attributes[name.strip()] = value
    found = dravo.expected(given.source, attributes, given.group)
    if given.json:
        show_json(found)
        return
    if not found["active"]:
        print("Somebody inactive gets nothing.")
    elif not found["items"]:
        print("They would get nothing: no group, rule or policy gives them a role.")
    else:
        columns = {
            "Application": lambda e: e["application"]["label"],
            "Role": lambda e: e["role"]["label"],
            "Because of": lambda e: "; ".join(e["reasons"]),
            "Account": lambda e: e["account"] or "kept by hand",
        }
        table(columns, found["items"])
