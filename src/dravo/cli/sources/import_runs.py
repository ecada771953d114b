"""`dravo source`: runs of an import, and its conflicts."""

from __future__ import annotations

import argparse
import sys
import time
from typing import Any

from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from dravo.cli.access.assignment import show_preview
from dravo.cli.errors import FAILED
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    list_options,
    moment,
    show_json,
    show_list,
)
from dravo.client import Dravo
from dravo.client.types import ImportRun


def add_verbs_about_runs(verbs: Any) -> None:
    """Add the commands for runs and conflicts to those of sources."""
    runs = command(verbs, "runs", _runs, "list the import runs of a source")
    runs.add_argument("key", help="key of the source")
    list_options(runs)
    lines = command(verbs, "run-entries", _run_entries, "list the entries of an import run")
    lines.add_argument("key", help="key of the source")
    lines.add_argument("run_id", nargs="?", metavar="run", help="ID of the run (default: the last run)")
    lines.add_argument(
        "--kind", help="only entries with this result: new, changed, left, refused, conflict or missing"
    )
    lines.add_argument("--words", help="a part of the name")
    list_options(lines)
    stop = command(verbs, "stop-run", _stop_run, "stop the running import")
    stop.add_argument("key", help="key of the source")
    refresh = command(
        verbs, "refresh", _refresh, "refresh one user now", ["dravo source refresh estates una.kerrigan"]
    )
    refresh.add_argument("key", help="key of the source")
    refresh.add_argument("user", help="ID, user name, email or external ID")
    conflicts = command(verbs, "conflicts", _conflicts, "list the conflicts of a source")
    conflicts.add_argument("key", help="key of the source")
    conflicts.add_argument("--decided", action="store_true", help="list decided conflicts instead")
    list_options(conflicts)
    move = command(
        verbs,
        "link-record",
        _link_record,
        "link a source record to another user",
        [
            "dravo source link-record estates una.kerrigan --to ibrahim.sow --preview",
            "dravo source link-record estates una.kerrigan --to-new-user",
        ],
    )
    move.add_argument("key", help="key of the source")
    move.add_argument("user", help="current user of the record")
    whose = move.add_mutually_exclusive_group(required=True)
    whose.add_argument("--to", metavar="SCIM_USER", help="user to link the record to")
    whose.add_argument("--to-new-user", action="store_true", help="create a new user for the record")
    move.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    move.add_argument("--confirm", metavar="NAME", help="user name; required if the user loses access")
    decide = command(
        verbs,
        "decide-conflict",
        _decide_conflict,
        "resolve a conflict",
        ["dravo source decide-conflict estates ID link --user una.kerrigan"],
    )
    decide.add_argument("key", help="key of the source")
    decide.add_argument("id", help="ID of the conflict, as in 'dravo source conflicts'")
    decide.add_argument(
        "decision", choices=("link", "create", "accept", "ignore"), help="link, create, accept or ignore"
    )
    decide.add_argument("--user", help="user to link, with the decision link")
    several = command(
        verbs,
        "decide-conflicts",
        _decide_conflicts,
        "resolve several conflicts in the same way",
        [
            "dravo source decide-conflicts staff link --all",
            "dravo source decide-conflicts staff ignore ID ID",
        ],
    )
    several.add_argument("key", help="key of the source")
    several.add_argument(
        "decision",
        choices=("link", "create", "accept", "ignore"),
        help="link (to the only possible user), create, accept or ignore",
    )
    several.add_argument("ids", nargs="*", help="IDs of the conflicts, as in 'dravo source conflicts'")
    several.add_argument("--all", action="store_true", help="all open conflicts that allow the decision")


def follow(dravo: Dravo, key: str, run: ImportRun) -> ImportRun:
    """Show the progress of a run until it ends; return the run."""
    shape = (
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.completed:,} read, {task.fields[rate]:,} a second"),
        TimeRemainingColumn(),
    )
    with Progress(*shape, transient=True) as shown:
        task = shown.add_task("Reading", total=None, rate=0)
        while run["ended_at"] is None:
            time.sleep(0.3)
            run = dravo.sources.run(key, run["id"])
            shown.update(
                task,
                completed=run["progress"],
                total=max(run["expected"], run["progress"]) or None,
                rate=run["per_second"],
            )
    return run


def _counts(counts: Any) -> str:
    return ", ".join(f"{each['name'].replace('_', ' ')} {each['number']:,}" for each in counts)


def show_run(run: Any) -> None:
    """Print a run with its counts and effects."""
    facts(
        {
            "Run": run["id"],
            "Status": f"{run['status']}{', preview' if run['preview'] else ''}",
            "Started by": run["requested_by"],
            "Began (UTC)": moment(run["started_at"], seconds=True),
            "Ended": moment(run["ended_at"], seconds=True),
            "Scope": "all users" if run["whole"] else "changed users only",
            **{each["name"].replace("_", " ").capitalize(): f"{each['number']:,}" for each in run["counts"]},
            "Message": run["message"],
            "How to fix": run["hint"],
        }
    )
    for each in run["access"]:
        print(
            f"{each['application']}, {each['role']}: {each['gained']:,} users would gain access, "
            f"{each['lost']:,} would lose access"
        )


def _runs(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Started (UTC)": lambda r: moment(r["started_at"] or r["requested_at"], seconds=True),
        "Status": lambda r: f"{r['status']}{' (preview)' if r['preview'] else ''}",
        "Scope": lambda r: "all users" if r["whole"] else "changed users",
        "Result": lambda r: _counts(r["counts"]),
        "Started by": lambda r: r["requested_by"],
        "Message": lambda r: r["message"],
        "ID": lambda r: r["id"],
    }
    show_list(
        given, dravo.sources.runs(given.key), columns, "No runs. Preview one: dravo source run KEY --preview"
    )


def _run_entries(given: argparse.Namespace, dravo: Dravo) -> None:
    run_id = given.run_id
    if run_id is None:
        newest = next(iter(dravo.sources.runs(given.key)), None)
        if newest is None:
            sys.exit("No runs.")
        run_id = newest["id"]
    columns = {
        "Change": lambda x: x["kind"],
        "Name": lambda x: x["name"],
        "Before and after": describe_change,
    }
    show_list(
        given,
        dravo.sources.run_entries(given.key, run_id, kind=given.kind, words=given.words),
        columns,
        "No matching entries." if given.kind or given.words else "The run changed nothing.",
    )


def _stop_run(given: argparse.Namespace, dravo: Dravo) -> None:
    newest = next(iter(dravo.sources.runs(given.key)), None)
    if newest is None or newest["ended_at"] is not None:
        sys.exit("No import is running.")
    dravo.sources.stop_run(given.key, newest["id"])
    print("The run stops after the current batch. Changes made so far remain.")


def _refresh(given: argparse.Namespace, dravo: Dravo) -> None:
    run = dravo.sources.refresh(given.key, dravo.users.get(given.user)["id"])
    if given.json:
        show_json(run)
    else:
        print(_counts(run["counts"]) + ".")


def _conflicts(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda c: c["name"],
        "Change": lambda c: c["message"],
        "Possible users": lambda c: ", ".join(
            f"{each['display_name']} ({each['user_name']}, {each['status']})" for each in c["candidates"]
        ),
        "Choices": lambda c: c["decision"] or ", ".join(c["choices"]),
        "ID": lambda c: c["id"],
    }
    found = dravo.sources.conflicts(given.key, status="decided" if given.decided else "open")
    show_list(given, found, columns, "No conflicts.")


def _decide_conflict(given: argparse.Namespace, dravo: Dravo) -> None:
    decided = dravo.sources.decide(given.key, given.id, given.decision, given.user)
    if given.json:
        show_json(decided)
    else:
        print(f"Decided: {decided['name']}, {decided['decision']}.")


def _decide_conflicts(given: argparse.Namespace, dravo: Dravo) -> int | None:
    ids = given.ids
    if given.all:
        ids = [each["id"] for each in dravo.sources.conflicts(given.key) if given.decision in each["choices"]]
    if not ids and not given.all:
        raise UsageError("No conflict given. Add the IDs of the conflicts, or --all.")
    decided, failed = 0, []
    for start in range(0, len(ids), 500):
        result = dravo.sources.decide_many(given.key, ids[start : start + 500], given.decision)
        decided += result["decided"]
        failed += result["failed"]
    if given.json:
        show_json({"decided": decided, "failed": failed})
    else:
        print(f"Decided: {decided}.")
        for each in failed:
            print(f"Not decided: {each['name']}. {each['message']}")
    return FAILED if failed else None


def _link_record(given: argparse.Namespace, dravo: Dravo) -> None:
    user = dravo.users.get(given.user)
    records = [
        each["id"]
        for each in user["records"]
        if each["source"]["key"] == given.key and not each["deleted_at"]
    ]
    if not records:
        sys.exit(f"'{given.key}' has no record of {user['display_name']}.")
    if given.preview:
        show_preview(given, dravo.users.preview_move(records[0], given.to))
        return
    moved = dravo.users.move_record(records[0], given.to, confirm=given.confirm)
    if given.json:
        show_json(moved)
    else:
        print(f"Linked the record to {moved['display_name']} ({moved['user_name']}).")


def describe_change(line: Any) -> str:
    """Return what changes for a user of a run or a preview."""
    changed = [
        f"{each['attribute'].rpartition(':')[2]}: {_value(each['before'])} -> {_value(each['after'])}"
        for each in line["changes"]
    ]
    return "; ".join([*changed, *([line["message"]] if line["message"] else [])])


def _value(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_value(each) for each in value)
    if isinstance(value, dict):
        return _value(value["value"]) if "value" in value else " ".join(str(each) for each in value.values())
    return "nothing" if value is None else str(value)
