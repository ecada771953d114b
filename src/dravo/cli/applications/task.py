"""`dravo task`: provisioning tasks, with their attempts and errors."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.applications.manual_tasks import add_manual_tasks
from dravo.cli.errors import FAILED
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    table,
)
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "task", "provisioning tasks")
    summary = command(
        verbs,
        "summary",
        _summary,
        "count what is pending, and wait until nothing is",
        ["dravo task summary", "dravo task summary --application plant-records --wait 120"],
    )
    summary.add_argument("--application", metavar="KEY", help="count one application (default: all)")
    summary.add_argument(
        "--wait",
        type=_seconds,
        default=0.0,
        metavar="SECONDS",
        help="wait until nothing is pending; exit code 1 if something still is (default 0)",
    )
    listing = command(
        verbs,
        "list",
        _list,
        "list tasks, newest first",
        ["dravo task list --status failed", "dravo task list --application ticket-desk"],
    )
    listing.add_argument("words", nargs="?", help="a part of the user's name")
    listing.add_argument("--application", metavar="KEY", help="only tasks of this application")
    listing.add_argument(
        "--status",
        choices=("open", "waiting", "approval", "manual", "failed", "held", "done", "discarded"),
        help="only tasks of this status",
    )
    list_options(listing)
    command(verbs, "show", _show, "show one task with its attempts").add_argument("id", help="ID of the task")
    command(verbs, "retry", _retry, "retry a task now").add_argument("id", help="ID of the task")
    every = command(
        verbs,
        "retry-all",
        _retry_all,
        "retry all failed or held tasks of an application",
        ["dravo task retry-all ticket-desk --kind refused_400"],
    )
    every.add_argument("application", metavar="KEY", help="the application")
    every.add_argument("--kind", help="only tasks with this error, as 'dravo task errors' names it")
    errors = command(verbs, "errors", _errors, "list errors of open tasks, with the number of tasks")
    errors.add_argument("--application", metavar="KEY", help="only this application")
    approve = command(
        verbs,
        "approve",
        _approve,
        "approve tasks of an application whose tasks wait for approval",
        ["dravo task list --status approval", "dravo task approve seed-vault --id ID"],
    )
    approve.add_argument("application", metavar="KEY", help="the application")
    approve.add_argument("--id", action="append", default=[], help="ID of a task; repeat for several")
    approve.add_argument("--all", action="store_true", help="approve all tasks that wait now")
    add_manual_tasks(verbs)
    resolve = command(
        verbs, "resolve", _resolve, "record an outcome that Dravo could not learn: whether the account exists"
    )
    resolve.add_argument("id", help="ID of the task")
    resolve.add_argument(
        "--there",
        metavar="REMOTE_ID",
        help="the account exists with this ID (default: it does not exist; Dravo creates it)",
    )


def _seconds(text: str) -> float:
    """Return a number of seconds.

    Raises:
        ArgumentTypeError: if it is none, or negative.
    """
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds < float("inf"):
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of seconds; write for example 60")
    return seconds


def _summary(given: argparse.Namespace, dravo: Dravo) -> int:
    summary = dravo.provisioning.summary(given.application, wait=given.wait)
    if given.json:
        show_json(summary)
    else:
        facts(
            {
                "Users being recalculated": summary["recomputing"],
                "Waiting": summary["waiting"],
                "Stopped": f"{summary['stopped']} (their application is disabled, not connected or paused)"
                if summary["stopped"]
                else 0,
                "Failed": summary["failed"],
                "Held": summary["held"],
                "Unresolved": summary["unresolved"],
                "By hand": summary["manual"],
            }
        )
        print("Nothing is pending." if summary["settled"] else "Provisioning is still pending.")
    return FAILED if given.wait and not summary["settled"] else 0


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User": lambda d: d["user"]["display_name"],
        "Application": lambda d: d["application"]["label"],
        "Desired state": lambda d: d["desired_state"],
        "Status": lambda d: d["status"] + (f" ({d['waits_for']})" if d["waits_for"] else ""),
        "Attempts": lambda d: d["attempts"],
        "Since (UTC)": lambda d: moment(d["created_at"]),
        "Message": lambda d: d["message"],
        "ID": lambda d: d["id"],
    }
    found = dravo.tasks.list(status=given.status, application=given.application, words=given.words)
    show_list(given, found, columns, "No task matches.")


def _errors(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.tasks.errors(given.application)
    if given.json:
        show_json(found)
        return
    if not found:
        print("No task has failed, and none is held.")
        return
    columns = {
        "Application": lambda k: k["application"]["label"],
        "Error": lambda k: k["kind"],
        "Status": lambda k: k["status"],
        "Number": lambda k: k["number"],
        "Example": lambda k: f"{k['message']} {k['hint']}".strip(),
    }
    table(columns, found)


def _retry_all(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"{dravo.tasks.retry_all(given.application, given.kind)} tasks are retried.")


def _resolve(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_task(given, dravo.tasks.resolve(given.id, "exists" if given.there else "missing", given.there))


def _show_task(given: argparse.Namespace, task: Any) -> None:
    if given.json:
        show_json(task)
        return
    facts(
        {
            "User": task["user"]["display_name"],
            "Application": task["application"]["label"],
            "Desired state": task["desired_state"],
            "Status": task["status"],
            "Waits for": task["waits_for"],
            "Message": task["message"],
            "How to fix": task["hint"],
            "Next attempt": moment(task["next_attempt_at"]),
        }
    )
    for attempt in task["tries"]:
        print(f"\n{attempt['started_at'][:19]}Z  {attempt['outcome']}")
        for exchange in attempt["exchanges"]:
            count = exchange["bulk_operations"]
            together = f", {count} changes in one request" if count else ""
            answer = (
                f"{exchange['status'] or 'no answer'} in {exchange['milliseconds']} ms{together} "
                f"{exchange['excerpt'] or ''}"
            )
            print(f"  {exchange['method']} {exchange['path']} -> {answer}".rstrip())


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_task(given, dravo.tasks.get(given.id))


def _approve(given: argparse.Namespace, dravo: Dravo) -> None:
    if bool(given.id) == given.all:
        raise UsageError("Name tasks with --id, or use --all.")
    waiting = list(dravo.tasks.list(status="approval", application=given.application))
    chosen = waiting if given.all else [each for each in waiting if each["id"] in given.id]
    unknown = sorted({*given.id} - {each["id"] for each in chosen})
    if unknown:
        raise UsageError(f"'{unknown[0]}' waits for no approval. See 'dravo task list --status approval'.")
    number = sum(
        dravo.tasks.approve(given.application, chosen[start : start + 1_000])
        for start in range(0, len(chosen), 1_000)
    )
    if given.json:
        show_json({"number": number})
    else:
        print(f"{number} {'task' if number == 1 else 'tasks'} approved.")


def _retry(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_task(given, dravo.tasks.retry(given.id))
