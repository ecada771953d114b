"""`dravo delivery`, `dravo activity` and `dravo audit`: what goes to applications, what happened, what operators changed."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.assignment import show_preview
from dravo.cli.errors import FAILED
from dravo.cli.output import command, facts, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "delivery", "the work of bringing accounts to what is due")
    listing = command(
        verbs, "list", _list, "list deliveries, newest first", ["dravo delivery list --state failed", "dravo delivery list --application ticket-desk"]
    )
    listing.add_argument("words", nargs="?", help="a part of the person's name")
    listing.add_argument("--application", metavar="KEY")
    listing.add_argument("--state", choices=("open", "waiting", "failed", "held", "done", "dropped"))
    list_options(listing)
    for name, run, text in (("show", _show, "show one delivery with its attempts"), ("again", _again, "try a delivery again now")):
        command(verbs, name, run, text).add_argument("id")

    kinds = command(verbs, "kinds", _kinds, "what open deliveries failed by, with how many of each kind")
    kinds.add_argument("--application", metavar="KEY")
    every = command(
        verbs, "again-all", _again_all, "try all of an application again that failed or are held",
        ["dravo delivery again-all ticket-desk --kind 'refused 400'"],
    )  # fmt: skip
    every.add_argument("application", metavar="KEY")
    every.add_argument("--kind", help="only those of this kind, as 'dravo delivery kinds' names it")
    found = command(verbs, "found", _found, "say what was found where it could not be known whether an account was made")
    found.add_argument("id")
    found.add_argument("--there", metavar="REMOTE_ID", help="it is there, with this id; without it: it is not there, make it")

    timeline = command(
        nouns, "activity", _activity, "what happened, newest first: requests, runs, deliveries, reconciliations and changes",
        ["dravo activity --trouble", "dravo activity --kind request --source staff", "dravo activity --until 2031-04-02"],
    )  # fmt: skip
    timeline.add_argument("--kind", choices=("request", "run", "delivery", "reconciliation", "change"))
    for name in ("source", "application"):
        timeline.add_argument(f"--{name}", metavar="KEY", help=f"only what this {name} had to do with")
    timeline.add_argument("--person", metavar="PERSON", help="only what this person had to do with")
    timeline.add_argument("--trouble", action="store_true", help="only what did not go well")
    timeline.add_argument("--until", metavar="DAY", help="only what happened up to the end of this day, or before an instant")
    list_options(timeline)

    audits = noun(nouns, "audit", "the log of what operators changed")
    listing = command(audits, "list", _audit, "list changes, newest first")
    list_options(listing)
    undo = command(audits, "undo", _undo, "take a change of an assignment or policy back", ["dravo audit undo 41 --preview", "dravo audit undo 41"])
    undo.add_argument("entry", type=int, help="its number, as in 'dravo audit list'")
    undo.add_argument("--preview", action="store_true", help="only show what it would do")
    undo.add_argument("--confirm", metavar="LABEL", help="the application's name, where that is grave")
    command(audits, "verify", _verify, "check that no entry was changed or taken out")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Person": lambda d: d["person"]["display_name"],
        "Application": lambda d: d["application"]["label"],
        "To become": lambda d: d["aim"],
        "State": lambda d: d["state"] + (f" ({d['waits_for']})" if d["waits_for"] else ""),
        "Tries": lambda d: d["attempts"],
        "Since (UTC)": lambda d: moment(d["created_at"]),
        "What was said": lambda d: d["message"],
        "Id": lambda d: d["id"],
    }
    found = dravo.deliveries.list(state=given.state, application=given.application, words=given.words)
    show_list(given, found, columns, "No delivery fits.")


def _kinds(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.deliveries.kinds(given.application)
    if given.json:
        show_json(found)
        return
    if not found:
        print("Nothing has failed, and nothing is held.")
        return
    columns = {
        "Application": lambda k: k["application"]["label"],
        "Kind": lambda k: k["kind"],
        "State": lambda k: k["state"],
        "Number": lambda k: k["number"],
        "One of them said": lambda k: f"{k['message']} {k['mend']}".strip(),
    }
    table(columns, found)


def _again_all(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.deliveries.again_all(given.application, given.kind)} deliveries are tried again.")


def _found(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.deliveries.found(given.id, "there" if given.there else "not there", given.there))


def _print(given: argparse.Namespace, delivery: Any) -> None:
    if given.json:
        show_json(delivery)
        return
    facts(
        {
            "Person": delivery["person"]["display_name"],
            "Application": delivery["application"]["label"],
            "To become": delivery["aim"],
            "State": delivery["state"],
            "Waits for": delivery["waits_for"],
            "What was said": delivery["message"],
            "Mend": delivery["mend"],
            "Next attempt": moment(delivery["next_attempt_at"]),
        }
    )
    for attempt in delivery["tries"]:
        print(f"\n{attempt['started_at'][:19]}Z  {attempt['outcome']}")
        for exchange in attempt["exchanges"]:
            together = f", {exchange['together']} changes together" if exchange["together"] else ""
            answer = f"{exchange['status'] or 'no answer'} in {exchange['milliseconds']} ms{together} {exchange['said'] or ''}"
            print(f"  {exchange['method']} {exchange['path']} -> {answer}".rstrip())


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.deliveries.get(given.id))


def _again(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.deliveries.again(given.id))


def _activity(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "At (UTC)": lambda e: moment(e["at"], seconds=True),
        "Kind": lambda e: e["kind"],
        "Went": lambda e: e["outcome"],
        "What": lambda e: e["what"],
        "By": lambda e: e["by"],
        "Detail": lambda e: e["detail"],
    }
    person = dravo.people.get(given.person)["id"] if given.person else None
    found = dravo.activity(
        kind=given.kind, source=given.source, application=given.application, person=person, trouble=given.trouble or None, until=given.until
    )
    show_list(given, found, columns, "Nothing of that kind has happened.")


def _audit(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Entry": lambda e: e["id"],
        "At (UTC)": lambda e: moment(e["at"]),
        "Operator": lambda e: e["operator"],
        "Did": lambda e: e["action"],
        "Details": lambda e: "; ".join(f"{name}: {value}" for name, value in e["details"].items()),
    }
    show_list(given, dravo.audit(), columns, "Nothing was changed yet.")


def _undo(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.preview_undo(given.entry))
        return
    dravo.undo(given.entry, given.confirm)
    print("Taken back.")


def _verify(given: argparse.Namespace, dravo: Dravo) -> int:
    verdict = dravo.audit_verdict()
    if given.json:
        show_json(verdict)
    elif verdict["holds"]:
        print("The chain holds: no entry was changed or taken out.")
    else:
        table({"Broken at entry": lambda v: v["broken_at"]}, [verdict])
    return 0 if verdict["holds"] else FAILED
