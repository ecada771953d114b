"""`dravo access`: roles of users with their reasons; the matrix, comparison and simulation."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from dravo.cli.output import (
    UsageError,
    command,
    list_options,
    moment,
    noun,
    read_json,
    show_json,
    show_list,
    table,
    write_pieces,
)
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "access", "who has which role in which application, and why")
    _declare_list(verbs)
    _declare_why(verbs)
    _declare_matrix(verbs)
    _declare_compare(verbs)
    _declare_changes(verbs)
    _declare_simulate(verbs)


def _declare_list(verbs: Any) -> None:
    parser = command(
        verbs,
        "list",
        _list,
        "list access",
        ["dravo access list --application plant-records --role curator", "dravo access list --ended"],
    )
    parser.add_argument("words", nargs="?", help="a part of the user's name")
    parser.add_argument("--application", metavar="KEY", help="only this application")
    parser.add_argument("--role", metavar="KEY", help="only this role")
    parser.add_argument("--ended", action="store_true", help="access that has ended, newest first")
    list_options(parser)


def _declare_why(verbs: Any) -> None:
    parser = command(
        verbs,
        "why",
        _why,
        "explain why a user has access to an application, or why not",
        ["dravo access why philippa.marlow plant-records"],
    )
    parser.add_argument("user", help="ID, user name, email or external ID")
    parser.add_argument("application", help="key of the application")


def _declare_matrix(verbs: Any) -> None:
    parser = command(
        verbs,
        "matrix",
        _matrix,
        "show users against applications, now or on a past day",
        [
            "dravo access matrix --application plant-records --role curator",
            "dravo access matrix --at 2031-04-02 --only highest_role",
            "dravo access matrix --export access.csv",
        ],
    )
    parser.add_argument("words", nargs="?", help="a part of a name, user name or email")
    parser.add_argument("--application", metavar="KEY", help="only users with access to it")
    parser.add_argument("--role", metavar="KEY", help="with --application: only users in this role")
    parser.add_argument(
        "--only",
        choices=("direct_only", "inactive_assigned", "highest_role"),
        help="only users with such access",
    )
    parser.add_argument(
        "--at", metavar="DAY", help="end of a day, or a time such as 2031-04-02T09:15:00Z (default: now)"
    )
    parser.add_argument(
        "--export", metavar="FILE", help="write the complete matrix to a file, .csv or .json; - prints CSV"
    )
    parser.add_argument("--groups", action="store_true", help="groups that give roles, instead of users")
    list_options(parser)


def _declare_compare(verbs: Any) -> None:
    parser = command(
        verbs,
        "compare",
        _compare,
        "compare the access of two users",
        ["dravo access compare philippa.marlow rosa.fenn"],
    )
    parser.add_argument("one", help="ID, user name, email or external ID")
    parser.add_argument("two", help="ID, user name, email or external ID")


def _declare_changes(verbs: Any) -> None:
    parser = command(
        verbs,
        "changes",
        _changes,
        "list what changed between two days, and why",
        [
            "dravo access changes 2031-04-01 2031-04-02",
            "dravo access changes 2031-04-01 2031-04-30 --application plant-records",
        ],
    )
    parser.add_argument("since", help="end of a day, or a time such as 2031-04-02T09:15:00Z")
    parser.add_argument("until", help="end of a day, or a time such as 2031-04-02T09:15:00Z")
    parser.add_argument("--application", metavar="KEY", help="only this application")
    list_options(parser)


def _declare_simulate(verbs: Any) -> None:
    parser = command(
        verbs,
        "simulate",
        _simulate,
        "show which roles a new user would get",
        [
            "dravo access simulate staff --group Herbarium --attribute 'title=Head of Herbarium'",
            "dravo access simulate staff --user user.json",
        ],
    )
    parser.add_argument("source", metavar="KEY", help="the source that would report the user")
    parser.add_argument(
        "--group", action="append", default=[], metavar="NAME", help="a group of that source, by name or ID"
    )
    parser.add_argument(
        "--attribute",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="an attribute, such as title=Guide",
    )
    parser.add_argument("--user", metavar="FILE", help="a SCIM User as JSON; - for standard input")


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


ACCESS = {
    "Application": lambda x: x["application"]["label"],
    "Role": lambda x: x["role"]["label"],
    "Since (UTC)": lambda x: moment(x["since"]),
    "Reason": _because,
    "Seat": lambda x: _seat(x["seat"]),
    "Account": lambda x: x["account"]["status"] if x["account"] else None,
}


def _piece(reason: Any) -> str:
    """Return the object of a reason: a group, a rule, everyone, or the policy."""
    if reason["group"]:
        return str(reason["group"]["name"])
    words = {
        "rule": f"rule {reason['rule']}",
        "expression": f"expression {reason['rule']}",
        "everyone": "everyone",
        "fallback": "fallback role",
        "retained": "retained role",
        "direct": "direct assignment",
    }
    return words[reason["kind"]]


def _why(given: argparse.Namespace, dravo: Dravo) -> None:
    answer = dravo.users.why(given.user, given.application)
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
            chain.append(f"account {account['status'].replace('_', ' ')}" if account else "no account")
            print("\n  " + " > ".join(part for part in chain if part))


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns: dict[str, Any] = {"User": lambda x: x["user"]["display_name"], **ACCESS}
    if given.ended:
        columns["Until"] = lambda x: moment(x["until"])
    found = dravo.access(application=given.application, role=given.role, words=given.words, ended=given.ended)
    show_list(given, found, columns, "No access matches.")


def _matrix(given: argparse.Namespace, dravo: Dravo) -> None:
    view = {name: getattr(given, name) for name in ("words", "application", "role", "only", "at")}
    if given.export:
        write_pieces(
            given.export, dravo.export_matrix("json" if given.export.endswith(".json") else "csv", **view)
        )
        return

    def roles(user: Any) -> str:
        return "; ".join(f"{key}: {', '.join(labels)}" for key, labels in sorted(user["roles"].items()))

    if given.groups:
        if given.at or given.only or given.role:
            raise UsageError("--groups works only with words and --application.")
        of_groups = {
            "Group": lambda g: g["name"],
            "Source": lambda g: g["source"]["key"] if g["source"] else None,
            "Members": lambda g: g["members"],
            "Assigned roles": roles,
        }
        show_list(
            given,
            dravo.matrix_of_groups(words=given.words, application=given.application),
            of_groups,
            "No group matches.",
        )
        return
    columns = {
        "User": lambda p: p["display_name"],
        "User name": lambda p: p["user_name"],
        "Status": lambda p: p["status"],
        "Roles": roles,
    }
    show_list(given, dravo.matrix(**view), columns, "No user matches.")


def _compare(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.compare(given.one, given.two)
    if given.json:
        show_json(found)
        return
    one, two = (user["display_name"] for user in found["users"])

    def side(number: int) -> Callable[[dict[str, Any]], str]:
        return lambda a: "; ".join(
            f"{each['role']} ({', '.join(each['because'])})" for each in a["sides"][number]
        )

    if found["applications"]:
        columns = {
            "Application": lambda a: a["application"]["label"],
            "": lambda a: "same" if a["same"] else "differs",
            one: side(0),
        }
        table({**columns, two if two != one else f"{two} (second user)": side(1)}, found["applications"])
    else:
        print("Neither user has access to an application.")
    for title, inside in (
        (f"Groups of {one} only", [True, False]),
        (f"Groups of {two} only", [False, True]),
        ("Groups of both users", [True, True]),
    ):
        named = [each["group"]["name"] for each in found["groups"] if each["sides"] == inside]
        print(f"{title}: {', '.join(named) or 'none'}")


def _changes(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User": lambda c: c["user"]["display_name"],
        "Application": lambda c: c["application"]["label"],
        "Change": lambda c: c["what"],
        "Before": lambda c: ", ".join(c["before"]),
        "After": lambda c: ", ".join(c["after"]),
        "Time (UTC)": lambda c: moment(c["at"]),
        "By": lambda c: "; ".join(c["reasons"]),
    }
    show_list(given, dravo.changes(given.since, given.until, given.application), columns, "Nothing changed.")


def _simulate(given: argparse.Namespace, dravo: Dravo) -> None:
    attributes: dict[str, Any] = read_json(given.user) if given.user else {}
    for each in given.attribute:
        name, sign, value = each.partition("=")
        if not sign:
            raise UsageError(f"'{each}' is not NAME=VALUE.")
        attributes[name.strip()] = value
    found = dravo.simulate(given.source, attributes, given.group)
    if given.json:
        show_json(found)
        return
    if not found["active"]:
        print("An inactive user has no access.")
    elif not found["items"]:
        print("The user would have no access: no group, rule or policy assigns a role.")
    else:
        columns = {
            "Application": lambda e: e["application"]["label"],
            "Role": lambda e: e["role"]["label"],
            "Reason": lambda e: "; ".join(e["reasons"]),
            "Account": lambda e: e["account"] or "not provisioned",
        }
        table(columns, found["items"])
