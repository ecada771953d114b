"""`dravo activity` and `dravo audit`: the timeline, and changes by operators."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_preview
from dravo.cli.errors import FAILED
from dravo.cli.output import command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    timeline = command(
        nouns,
        "activity",
        _activity,
        "list what happened, newest first: requests, runs, tasks, reconciliations and changes",
        [
            "dravo activity --failures",
            "dravo activity --kind request --source staff",
            "dravo activity --until 2031-04-02",
        ],
    )
    timeline.add_argument(
        "--kind",
        choices=("request", "run", "task", "reconciliation", "change"),
        help="only activity of this kind",
    )
    for name in ("source", "application"):
        timeline.add_argument(f"--{name}", metavar="KEY", help=f"only activity of this {name}")
    timeline.add_argument("--user", metavar="USER", help="only activity of this user")
    timeline.add_argument("--failures", action="store_true", help="only failures")
    timeline.add_argument(
        "--until", metavar="DAY", help="only activity up to the end of this day, or before a time"
    )
    list_options(timeline)

    audits = noun(nouns, "audit", "audit log: the changes by operators")
    listing = command(audits, "list", _list_audit, "list changes, newest first")
    list_options(listing)
    undo = command(
        audits,
        "undo",
        _undo,
        "undo a change of an assignment or access policy",
        ["dravo audit undo 41 --preview", "dravo audit undo 41"],
    )
    undo.add_argument("entry", type=int, help="number of the entry, as in 'dravo audit list'")
    undo.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    undo.add_argument(
        "--confirm", metavar="LABEL", help="the application's name; required where the change is serious"
    )
    command(audits, "verify", _verify, "verify that no entry was changed or removed")


def _activity(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Time (UTC)": lambda e: moment(e["at"], seconds=True),
        "Kind": lambda e: e["kind"],
        "Outcome": lambda e: e["outcome"],
        "Change": lambda e: e["what"],
        "By": lambda e: e["by"],
        "Detail": lambda e: e["detail"],
    }
    user = dravo.users.get(given.user)["id"] if given.user else None
    found = dravo.activity(
        kind=given.kind,
        source=given.source,
        application=given.application,
        user=user,
        trouble=given.failures or None,
        until=given.until,
    )
    show_list(given, found, columns, "No activity matches.")


def _list_audit(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Entry": lambda e: e["id"],
        "Time (UTC)": lambda e: moment(e["at"]),
        "Operator": lambda e: e["operator"],
        "Change": lambda e: e["action"],
        "Details": lambda e: "; ".join(f"{name}: {value}" for name, value in e["details"].items()),
    }
    show_list(given, dravo.audit(), columns, "No changes yet.")


def _undo(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.preview_undo(given.entry))
        return
    dravo.undo(given.entry, given.confirm)
    print("Undone.")


def _verify(given: argparse.Namespace, dravo: Dravo) -> int:
    verification = dravo.audit_verification()
    if given.json:
        show_json(verification)
    elif verification["holds"]:
        print("The audit log is intact: no entry was changed or removed.")
    else:
        table({"Broken at entry": lambda v: v["broken_at"]}, [verification])
    return 0 if verification["holds"] else FAILED
