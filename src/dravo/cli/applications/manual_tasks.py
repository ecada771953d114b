"""`dravo task list-manual` and its companions: accounts of tracked-only applications, managed by hand."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from dravo.cli.output import (
    UsageError,
    command,
    counted,
    list_options,
    moment,
    read_bytes,
    said,
    show_json,
    show_list,
    table,
    write_pieces,
)
from dravo.client import Dravo

ACTIONS = ("create", "change", "deactivate", "delete")
COLUMNS = ("user_name", "email", "roles", "active")


def add_manual_tasks(verbs: Any) -> None:
    """Add the commands to those of tasks."""
    listing = command(
        verbs,
        "list-manual",
        _list,
        "list accounts of a tracked-only application to create, change or remove by hand",
        [
            "dravo task list-manual payslips --action create",
            "dravo task list-manual payslips --export todo.csv",
        ],
    )
    listing.add_argument("application", metavar="KEY", help="the application")
    listing.add_argument("words", nargs="?", help="a part of the user's name")
    listing.add_argument("--action", choices=ACTIONS, help="only open tasks with this action")
    listing.add_argument("--done", action="store_true", help="list completed tasks instead of open ones")
    listing.add_argument("--export", metavar="FILE", help="write all open tasks to a CSV file; - prints them")
    list_options(listing)
    done = command(
        verbs,
        "mark-done",
        _mark_done,
        "mark manual tasks as done, after you changed the accounts in the application",
        ["dravo task mark-done payslips --id ID", "dravo task mark-done payslips --all --action create"],
    )
    done.add_argument("application", metavar="KEY", help="the application")
    done.add_argument("--id", action="append", default=[], help="ID of a task; repeat for several")
    done.add_argument("--all", action="store_true", help="mark all open tasks, or all with the --action")
    done.add_argument("--action", choices=ACTIONS, help="with --all: only tasks with this action")
    reopened = command(
        verbs,
        "mark-open",
        _mark_open,
        "reopen manual tasks that were marked as done by mistake",
        ["dravo task mark-open payslips --id ID"],
    )
    reopened.add_argument("application", metavar="KEY", help="the application")
    reopened.add_argument(
        "--id", action="append", required=True, help="ID of a completed task; repeat for several"
    )
    compared = command(
        verbs,
        "compare-list",
        _compare,
        "compare the desired accounts with a CSV export of the application's accounts",
        [
            "dravo task compare-list payslips accounts.csv",
            "dravo task compare-list payslips accounts.csv --column user_name=Login --mark-done",
        ],
    )
    compared.add_argument("application", metavar="KEY", help="the application")
    compared.add_argument("file", type=Path, help="CSV file with column names in the first line")
    compared.add_argument(
        "--column",
        action="append",
        default=[],
        metavar="NAME=HEADING",
        help=f"heading of a column that Dravo does not find: {', '.join(COLUMNS)}; repeat for several",
    )
    compared.add_argument(
        "--mark-done",
        action="store_true",
        help="mark open tasks as done whose account is in the list as it should be",
    )


TASK = {
    "Action": lambda m: m["action"] or "nothing",
    "User": lambda m: m["user"]["display_name"],
    "User name": lambda m: m["user"]["user_name"],
    "Email": lambda m: m["email"],
    "Account": lambda m: ", ".join(m["roles"]) or m["desired_state"],
    "Plan": lambda m: m["plan"],
    "Change": lambda m: "; ".join(f"{each['attribute']}: {said(each['after'])}" for each in m["changes"]),
}


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.export:
        if given.done or given.words:
            raise UsageError("--export writes open tasks. Omit --done and the words.")
        write_pieces(given.export, dravo.manual_tasks.export(given.application, given.action))
        return
    found = dravo.manual_tasks.list(
        given.application,
        status="done" if given.done else "open",
        action=given.action,
        words=given.words,
    )
    when = (
        {"Done (UTC)": lambda m: moment(m["done_at"]), "By": lambda m: m["message"]}
        if given.done
        else {"Since (UTC)": lambda m: moment(m["since"])}
    )
    columns = {**TASK, **when, "ID": lambda m: m["id"]}
    show_list(
        given, found, columns, "No account has been marked." if given.done else "Nothing to do by hand."
    )


def _mark_done(given: argparse.Namespace, dravo: Dravo) -> None:
    if bool(given.id) == given.all:
        raise UsageError("Name tasks with --id, or use --all.")
    if given.action and not given.all:
        raise UsageError("--action works only with --all.")
    wanted = list(dravo.manual_tasks.list(given.application, action=given.action))
    if given.id:
        wanted = [each for each in wanted if each["id"] in given.id]
        unknown = sorted({*given.id} - {each["id"] for each in wanted})
        if unknown:
            raise UsageError(f"'{unknown[0]}' is not an open task. See 'dravo task list-manual'.")
    number = sum(
        dravo.manual_tasks.mark_done(given.application, wanted[start : start + 1_000])
        for start in range(0, len(wanted), 1_000)
    )
    _show_number(given, number, "marked as done")


def _mark_open(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_number(given, dravo.manual_tasks.mark_open(given.application, given.id), "reopened")


def _show_number(given: argparse.Namespace, number: int, what: str) -> None:
    if given.json:
        show_json({"number": number})
    else:
        print(f"{counted(number, 'task', 'tasks')} {what}.")


def _compare(given: argparse.Namespace, dravo: Dravo) -> None:
    pairs = [each.partition("=") for each in given.column]
    wrong = next((name for name, sign, _ in pairs if name not in COLUMNS or not sign), None)
    if wrong is not None:
        raise UsageError(f"Write --column as NAME=HEADING, with one of the names {', '.join(COLUMNS)}.")
    found = dravo.manual_tasks.compare(
        given.application,
        read_bytes(given.file),
        columns={name: heading for name, _, heading in pairs},
        mark_done=given.mark_done,
    )
    if given.json:
        show_json(found)
        return
    used = ", ".join(f"{name} from '{heading}'" for name, heading in found["columns"].items())
    print(f"{counted(found['read'], 'account', 'accounts')} read: {used}.")
    counts = found["counts"]
    print(
        f"{counts['same']:,} as they should be, {counts['missing']:,} missing, "
        f"{counts['unexpected']:,} without a user, {counts['roles']:,} with other roles, "
        f"{counts['status']:,} with another status."
    )
    for line in found["bad_lines"]:
        print(f"Line {line['line']} was left out. {line['message']} {line['hint']}")
    if found["items"]:
        table(
            {
                "Difference": lambda d: d["kind"],
                "Account": lambda d: d["name"],
                "Desired": lambda d: d["desired"],
                "In the list": lambda d: d["listed"],
                "Line": lambda d: d["line"],
            },
            found["items"],
        )
    if given.mark_done:
        print(f"{counted(found['marked'], 'task', 'tasks')} marked as done.")
    elif found["can_be_marked"]:
        done = counted(found["can_be_marked"], "open task is", "open tasks are")
        print(f"{done} done in the list. Mark with --mark-done.")
