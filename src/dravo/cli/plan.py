"""`dravo plan`: the plans of an application that is paid by the head, and who has a seat."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "plan", "plans of applications, and who has a seat")
    listing = command(verbs, "list", _list, "list an application's plans, with how many seats are taken", ["dravo plan list ticket-desk"])
    add = command(verbs, "add", _add, "add a plan", ["dravo plan add ticket-desk supervisor 'Supervisor desk' --seats 12"])
    change = command(verbs, "change", _change, "change a plan; nobody loses a seat by it", ["dravo plan change ticket-desk supervisor --seats 14"])
    remove = command(verbs, "remove", _remove, "remove a plan that was never given")
    seats = command(
        verbs, "seats", _seats, "list who has a seat, or who waits for one",
        ["dravo plan seats ticket-desk", "dravo plan seats ticket-desk --plan supervisor --waiting"],
    )  # fmt: skip
    for each in (listing, add, change, remove, seats):
        each.add_argument("application", help="its key")
    for each in (add, change, remove):
        each.add_argument("plan", help="its key")
    add.add_argument("label")
    change.add_argument("--label")
    for each in (add, change):
        each.add_argument("--seats", type=int, metavar="N", help="how many people can have it; without it, or 0, as many as there are")
        each.add_argument("--rank", type=int, default=1 if each is add else None, metavar="N", help="of several plans the highest rank counts")
    seats.add_argument("--plan", metavar="KEY")
    seats.add_argument("--waiting", action="store_true", help="those who wait, in the order of the line")
    list_options(seats)


_PLAN = {
    "Plan": lambda p: p["label"],
    "Key": lambda p: p["key"],
    "Rank": lambda p: p["rank"],
    "Seats": lambda p: "no limit" if p["seats"] is None else p["seats"],
    "Taken": lambda p: p["taken"],
    "Free": lambda p: p["free"],
    "Waiting": lambda p: p["waiting"],
    "State": lambda p: p["state"],
}


def _show(given: argparse.Namespace, application: Any) -> None:
    if given.json:
        show_json(application["plans"])
    elif application["plans"]:
        table(_PLAN, application["plans"])
    else:
        print(f"{application['label']} has no plan: nobody needs a seat there.")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.applications.get(given.application))


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.applications.add_plan(given.application, given.plan, given.label, seats=given.seats or None, rank=given.rank))


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    changed = dravo.applications.change_plan(given.application, given.plan, label=given.label, seats=given.seats, rank=given.rank)
    _show(given, changed)


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.applications.remove_plan(given.application, given.plan))


def _seats(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Person": lambda s: s["person"]["display_name"],
        "Plan": lambda s: s["plan"]["label"],
        **({"In line": lambda s: s["place"], "Since (UTC)": lambda s: moment(s["asked_at"])} if given.waiting else {}),
        **({} if given.waiting else {"Since (UTC)": lambda s: moment(s["since"])}),
    }
    found = dravo.applications.seats(given.application, given.plan, waiting=given.waiting or None)
    show_list(given, found, columns, "Nobody waits." if given.waiting else "Nobody has a seat.")
