"""`dravo drift`: compare an application with what should be there, and what is done about the differences."""

from __future__ import annotations

import argparse
import time
from typing import Any

from dravo.cli.errors import FAILED
from dravo.cli.output import command, list_options, moment, noun, said, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "drift", "in what applications differ from what should be there")
    find = command(verbs, "reconcile", _find, "compare an application with what should be there, now", ["dravo drift reconcile plant-records"])
    find.add_argument("application")
    listing = command(verbs, "list", _list, "list the differences that the last comparison found", ["dravo drift list plant-records --kind role"])
    listing.add_argument("application")
    kinds = ("missing", "unexpected", "different", "role", "state", "group missing", "group name", "group members", "group unexpected")
    listing.add_argument("--kind", choices=kinds, help="only this kind of difference (default: all)")
    listing.add_argument("--state", choices=("open", "repairing", "ignored"))
    list_options(listing)
    repair = command(verbs, "repair", _repair, "bring accounts and groups that drifted to what is due", ["dravo drift repair plant-records --all"])
    repair.add_argument("application")
    repair.add_argument("ids", nargs="*")
    repair.add_argument("--all", action="store_true", help="every open difference of an account or group of ours")
    ignore = command(verbs, "ignore", _ignore, "leave differences as they are, and out of the list")
    ignore.add_argument("application")
    ignore.add_argument("ids", nargs="+")
    ignore.add_argument("--no-longer", action="store_true", help="take that back")
    link = command(verbs, "link", _link, "say whose account there an unexpected one is")
    link.add_argument("application")
    link.add_argument("id")
    link.add_argument("person")
    user = command(
        verbs, "create-user", _make_user, "make a person of an unexpected account", ["dravo drift create-user plant-records ID --role viewer"]
    )
    user.add_argument("application")
    user.add_argument("id")
    user.add_argument("--role", metavar="KEY", help="what they get; without it, the role that the account has there")
    user.add_argument("--confirm", metavar="NAME", help="the account's name, where they would get more than that role")
    runs = command(verbs, "runs", _runs, "list an application's comparisons")
    runs.add_argument("application")
    list_options(runs)


def _find(given: argparse.Namespace, dravo: Dravo) -> int:
    run = dravo.applications.reconcile(given.application)
    while run["ended_at"] is None:
        time.sleep(0.2)
        run = dravo.applications.run(run["id"])
    if given.json:
        show_json(run)
    elif run["state"] == "done":
        found = ", ".join(f"{number} {kind}" for kind, number in run["counts"].items() if number) or "no difference"
        groups = f" and {run['groups']} of our groups" if run["groups"] else ""
        print(f"{run['read']} accounts{groups} were read there: {found}.")
    else:
        print(f"It ended {run['state']}: {run['message']} {run['hint'] or ''}".strip())
    return 0 if run["state"] == "done" else FAILED


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Kind": lambda d: d["kind"],
        "Who or which": lambda d: d["name"],
        "What differs": _what,
        "State": lambda d: d["state"],
        "Since (UTC)": lambda d: moment(d["first_seen_at"]),
        "ID": lambda d: d["id"],
    }
    found = dravo.applications.drift(given.application, kind=given.kind, state=given.state)
    show_list(given, found, columns, "No difference is known; 'dravo drift reconcile' compares anew.")


def _what(line: Any) -> str:
    if line["kind"] == "missing":
        return "our account is not there"
    if line["kind"] == "group missing":
        return "our group is not there"
    if line["kind"] == "group unexpected":
        ours = line["changes"][0]["before"]
        return f"a group that Dravo did not create{f', with {ours}' if ours else ''}"
    if line["kind"] == "unexpected":
        return f"an account of nobody here: {line['there'].get('userName', line['remote_id'])}"
    if line["kind"] == "group members":
        change = line["changes"][0]
        return "; ".join(f"{where}: {change[when]}" for where, when in (("there", "before"), ("missing there", "after")) if change[when])
    return "; ".join(f"{each['attribute']}: {said(each['before'])} there, should be {said(each['after'])}" for each in line["changes"])


def _repair(given: argparse.Namespace, dravo: Dravo) -> None:
    ids = list(given.ids)
    if given.all:
        found = dravo.applications.drift(given.application, state="open")
        ids = [each["id"] for each in found if each["kind"] not in ("unexpected", "group unexpected")]
    if not ids:
        print("There is nothing to repair.")
        return
    number = sum(dravo.applications.repair_drift(given.application, ids[start : start + 1_000]) for start in range(0, len(ids), 1_000))
    print(f"{number} are being repaired; 'dravo task list --application {given.application}' shows how.")


def _ignore(given: argparse.Namespace, dravo: Dravo) -> None:
    number = dravo.applications.ignore_drift(given.application, given.ids, ignored=not given.no_longer)
    print(f"{number} {'no longer ignored' if given.no_longer else 'ignored'}.")


def _link(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.applications.link_drift(given.application, given.id, given.person)
    print("Linked; it is now brought to what is due for that person.")


def _make_user(given: argparse.Namespace, dravo: Dravo) -> None:
    person = dravo.people.get(dravo.applications.make_user(given.application, given.id, given.role, given.confirm))
    print(f"{person['display_name']} is a person here now: {person['id']}.")


def _runs(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Asked (UTC)": lambda r: moment(r["requested_at"]),
        "By": lambda r: r["requested_by"],
        "State": lambda r: r["state"],
        "Read": lambda r: r["read"],
        "Found": lambda r: ", ".join(f"{number} {kind}" for kind, number in r["counts"].items() if number) or "-",
        "What was said": lambda r: r["message"],
    }
    show_list(given, dravo.applications.runs(given.application), columns, "It was never compared.")
