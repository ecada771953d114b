"""`dravo license-plan`: license plans of applications, and who has a seat."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "license-plan", "license plans of applications, and who has a seat")
    listing = command(
        verbs, "list", _list, "list license plans with their seats", ["dravo license-plan list ticket-desk"]
    )
    add = command(
        verbs,
        "create",
        _create,
        "create a license plan",
        ["dravo license-plan create ticket-desk supervisor 'Supervisor desk' --seats 12"],
    )
    change = command(
        verbs,
        "change",
        _change,
        "change a license plan; current users keep their seats",
        ["dravo license-plan change ticket-desk supervisor --seats 14"],
    )
    remove = command(verbs, "delete", _delete, "delete a license plan that was never assigned")
    seats = command(
        verbs,
        "seats",
        _seats,
        "list users with a seat, or waiting for one",
        [
            "dravo license-plan seats ticket-desk",
            "dravo license-plan seats ticket-desk --plan supervisor --waiting",
        ],
    )
    for each in (listing, add, change, remove, seats):
        each.add_argument("application", help="key")
    for each in (add, change, remove):
        each.add_argument("plan", help="key")
    add.add_argument("label", help="label of the license plan")
    change.add_argument("--label", help="new label")
    change.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    for each in (add, change):
        each.add_argument("--seats", type=int, metavar="N", help="number of seats (default: no limit)")
        each.add_argument(
            "--rank",
            type=int,
            default=1 if each is add else None,
            metavar="N",
            help="rank; a user with several plans gets the one with the highest rank",
        )
    for each in (add, change):
        each.add_argument(
            "--sent-value",
            default="" if each is add else None,
            metavar="TEXT",
            help="value sent to the application, such as a URN; empty for the key",
        )
        each.add_argument(
            "--description",
            default="" if each is add else None,
            metavar="TEXT",
            help="what the plan includes; empty for none",
        )
    seats.add_argument("--plan", metavar="KEY", help="only this license plan")
    seats.add_argument("--waiting", action="store_true", help="show the waiting list instead")
    list_options(seats)


_PLAN = {
    "Plan": lambda p: p["label"],
    "Key": lambda p: p["key"],
    "Rank": lambda p: p["rank"],
    "Sent as": lambda p: p["sent_value"] or p["key"],
    "Seats": lambda p: "no limit" if p["seats"] is None else p["seats"],
    "Taken": lambda p: p["taken"],
    "Free": lambda p: p["free"],
    "Waiting": lambda p: p["waiting"],
    "Status": lambda p: p["status"],
}


def _show(given: argparse.Namespace, application: Any) -> None:
    if given.json:
        show_json(application["plans"])
    elif application["plans"]:
        table(_PLAN, application["plans"])
    else:
        print(f"{application['label']} has no license plans.")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.applications.get(given.application))


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(
        given,
        dravo.applications.add_plan(
            given.application,
            given.plan,
            given.label,
            seats=given.seats or None,
            rank=given.rank,
            sent_value=given.sent_value,
            description=given.description,
        ),
    )


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    names = ("label", "seats", "rank", "sent_value", "description")
    values = {name: getattr(given, name) for name in names}
    if given.preview:
        show_effects(given, dravo.applications.preview_plan(given.application, given.plan, **values))
        return
    _show(given, dravo.applications.change_plan(given.application, given.plan, **values))


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.applications.remove_plan(given.application, given.plan))


def _seats(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User": lambda s: s["user"]["display_name"],
        "Plan": lambda s: s["plan"]["label"],
        **(
            {"Position": lambda s: s["place"], "Since (UTC)": lambda s: moment(s["requested_at"])}
            if given.waiting
            else {}
        ),
        **({} if given.waiting else {"Since (UTC)": lambda s: moment(s["since"])}),
    }
    found = dravo.applications.seats(given.application, given.plan, waiting=given.waiting or None)
    show_list(given, found, columns, "No waiting users." if given.waiting else "No seats taken.")
