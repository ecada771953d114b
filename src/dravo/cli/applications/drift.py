"""`dravo drift`: reconcile an application, list the differences, and repair, ignore or link them."""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterator
from typing import Any

from dravo.cli.errors import FAILED
from dravo.cli.output import (
    UsageError,
    command,
    list_options,
    moment,
    noun,
    said,
    show_json,
    show_list,
    table,
)
from dravo.client import Dravo

# The most differences that one call repairs.
MOST_IDS = 1_000


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "drift", "drift: differences between an application and its desired state")
    _declare_reconcile(verbs)
    _declare_list(verbs)
    _declare_repair(verbs)
    _declare_ignore(verbs)
    _declare_compare(verbs)
    _declare_adopt(verbs)
    _declare_link(verbs)
    _declare_create_user(verbs)
    _declare_runs(verbs)


def _declare_reconcile(verbs: Any) -> None:
    parser = command(
        verbs,
        "reconcile",
        _reconcile,
        "reconcile an application now",
        ["dravo drift reconcile plant-records"],
    )
    parser.add_argument("application", help="key of the application")


def _declare_list(verbs: Any) -> None:
    kinds = (
        "missing",
        "unexpected",
        "attributes",
        "role",
        "status",
        "group_missing",
        "group_name",
        "group_members",
        "group_unexpected",
    )
    parser = command(
        verbs,
        "list",
        _list,
        "list the differences found by the last reconciliation",
        ["dravo drift list plant-records --kind role"],
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument("--kind", choices=kinds, help="only this kind of difference (default: all)")
    parser.add_argument(
        "--status",
        choices=("open", "repairing", "ignored"),
        help="only differences with this status: open, repairing or ignored",
    )
    list_options(parser)


def _declare_repair(verbs: Any) -> None:
    parser = command(
        verbs, "repair", _repair, "repair accounts and groups", ["dravo drift repair plant-records --all"]
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument("ids", nargs="*", help="IDs of the differences, as in 'dravo drift list'")
    parser.add_argument(
        "--all", action="store_true", help="all open differences of accounts and groups that Dravo manages"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _declare_ignore(verbs: Any) -> None:
    parser = command(verbs, "ignore", _ignore, "ignore differences")
    parser.add_argument("application", help="key of the application")
    parser.add_argument("ids", nargs="+", help="IDs of the differences, as in 'dravo drift list'")
    parser.add_argument("--no-longer", action="store_true", help="stop ignoring differences")


def _declare_compare(verbs: Any) -> None:
    parser = command(
        verbs,
        "accounts",
        _accounts,
        "list the application's accounts beside the desired ones, as of the last reconciliation",
        ["dravo drift accounts plant-records --status unexpected"],
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument("words", nargs="?", help="a part of the name, or an ID in the application")
    parser.add_argument(
        "--status",
        choices=("same", "different", "missing", "pending", "unexpected", "ignored"),
        help="only accounts with this status",
    )
    list_options(parser)


def _declare_adopt(verbs: Any) -> None:
    parser = command(
        verbs,
        "adopt",
        _adopt,
        "link accounts without a user to the users who match, and leave the others",
        [
            "dravo drift adopt plant-records --all --preview",
            "dravo drift adopt plant-records ID --create-users",
        ],
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument("ids", nargs="*", help="IDs of the differences, as in 'dravo drift list'")
    parser.add_argument("--all", action="store_true", help="all open accounts without a user")
    parser.add_argument(
        "--create-users", action="store_true", help="create users for accounts that match no user"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _declare_link(verbs: Any) -> None:
    parser = command(verbs, "link", _link, "link an account without a user to a user")
    parser.add_argument("application", help="key of the application")
    parser.add_argument("id", help="ID of the difference, as in 'dravo drift list'")
    parser.add_argument("user", help="ID, user name, email or external ID")


def _declare_create_user(verbs: Any) -> None:
    parser = command(
        verbs,
        "create-user",
        _create_user,
        "create a local user for an account without a user",
        ["dravo drift create-user plant-records ID --role viewer"],
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument("id", help="ID of the difference, as in 'dravo drift list'")
    parser.add_argument("--role", metavar="KEY", help="key of the role (default: the role of the account)")
    parser.add_argument(
        "--confirm",
        metavar="NAME",
        help="name of the account; required if the user would get additional roles",
    )


def _declare_runs(verbs: Any) -> None:
    stopped = command(verbs, "stop", _stop, "stop a reconciliation at its next page")
    stopped.add_argument("run_id", metavar="ID", help="ID of the run, as in 'dravo drift runs KEY --json'")
    parser = command(verbs, "runs", _runs, "list the reconciliations of an application")
    parser.add_argument("application", help="key of the application")
    list_options(parser)


def _stop(given: argparse.Namespace, dravo: Dravo) -> None:
    run = dravo.applications.stop_run(given.run_id)
    if given.json:
        show_json(run)
    else:
        print(f"The reconciliation is {run['status']}.")


def _reconcile(given: argparse.Namespace, dravo: Dravo) -> int:
    run = dravo.applications.reconcile(given.application)
    while run["ended_at"] is None:
        time.sleep(0.2)
        run = dravo.applications.run(run["id"])
    if given.json:
        show_json(run)
    elif run["status"] == "done":
        found = (
            ", ".join(f"{number} {kind}" for kind, number in run["counts"].items() if number)
            or "no difference"
        )
        groups = f" and {run['groups']} provisioned groups" if run["groups"] else ""
        print(f"{run['read']} accounts{groups} read: {found}.")
    else:
        print(f"Reconciliation {run['status']}: {run['message']} {run['hint'] or ''}".strip())
    return 0 if run["status"] == "done" else FAILED


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Kind": lambda d: d["kind"],
        "User or group": lambda d: d["name"],
        "Difference": _what,
        "Status": lambda d: d["status"],
        "Since (UTC)": lambda d: moment(d["first_seen_at"]),
        "ID": lambda d: d["id"],
    }
    found = dravo.applications.drift(given.application, kind=given.kind, status=given.status)
    show_list(given, found, columns, "No drift. 'dravo drift reconcile' checks again.")


def _what(line: Any) -> str:
    if line["kind"] == "missing":
        return "account is missing"
    if line["kind"] == "group_missing":
        return "group is missing"
    if line["kind"] == "group_unexpected":
        ours = line["changes"][0]["before"]
        return f"a group that Dravo did not create{f', with {ours}' if ours else ''}"
    if line["kind"] == "unexpected":
        name = line["there"].get("userName", line["remote_id"])
        return f"account without a user: {name}. {line['message'] or ''}".strip(". ")
    if line["kind"] == "group_members":
        change = line["changes"][0]
        return "; ".join(
            f"{where}: {change[when]}"
            for where, when in (("there", "before"), ("missing members", "after"))
            if change[when]
        )
    return "; ".join(
        f"{each['attribute']}: {said(each['before'])}, desired {said(each['after'])}"
        for each in line["changes"]
    )


def _repair(given: argparse.Namespace, dravo: Dravo) -> None:
    ids = list(given.ids)
    if not ids and not given.all:
        raise UsageError("Name differences by ID, or use --all.")
    if given.all:
        found = dravo.applications.drift(given.application, status="open")
        ids = [each["id"] for each in found if each["kind"] not in ("unexpected", "group_unexpected")]
    if not ids:
        print("There is nothing to repair.")
        return
    if given.preview:
        previews = [dravo.applications.preview_repair(given.application, each) for each in _some(ids)]
        lines = [line for preview in previews for line in preview["items"]]
        if given.json:
            show_json(lines)
            return
        table({"User or group": lambda d: d["name"], "Repair": lambda d: d["effect"]}, lines)
        what = "difference" if len(lines) == 1 else "differences"
        print(f"{len(lines)} {what} would be repaired. Nothing has been changed yet.")
        return
    number = sum(dravo.applications.repair_drift(given.application, each) for each in _some(ids))
    what = "difference is" if number == 1 else "differences are"
    print(
        f"{number} {what} being repaired. Watch them with 'dravo task list --application "
        f"{given.application}'."
    )


def _some(ids: list[str]) -> Iterator[list[str]]:
    """Yield IDs in portions for one call each."""
    for start in range(0, len(ids), MOST_IDS):
        yield ids[start : start + MOST_IDS]


def _ignore(given: argparse.Namespace, dravo: Dravo) -> None:
    number = dravo.applications.ignore_drift(given.application, given.ids, ignored=not given.no_longer)
    print(f"{number} {'no longer ignored' if given.no_longer else 'ignored'}.")


def _accounts(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Status": lambda c: c["status"],
        "Account": lambda c: c["name"],
        "User": lambda c: c["user"]["user_name"] if c["user"] else None,
        "Desired": lambda c: c["desired"],
        "In the application": lambda c: c["listed"],
        "Differences": lambda c: ", ".join(c["differences"]),
        "Account ID": lambda c: c["remote_id"],
    }
    found = dravo.applications.compare_accounts(given.application, status=given.status, words=given.words)
    show_list(given, found, columns, "No account matches.")


def _adopt(given: argparse.Namespace, dravo: Dravo) -> None:
    if bool(given.ids) == given.all:
        raise UsageError("Name differences by ID, or use --all.")
    ids = list(given.ids) or [
        each["id"] for each in dravo.applications.drift(given.application, kind="unexpected", status="open")
    ]
    act = dravo.applications.preview_adopting if given.preview else dravo.applications.adopt_accounts
    done = [act(given.application, each, create_users=given.create_users) for each in _some(ids)]
    lines = [line for each in done for line in each["items"]]
    if given.json:
        show_json(lines)
        return
    if lines:
        columns = {
            "Account": lambda f: f["name"],
            "Action": lambda f: f["action"],
            "User": lambda f: f["user"]["display_name"] if f["user"] else None,
            "Role": lambda f: f["role"],
            "Reason": lambda f: f"{f['message']} {f['hint']}".strip(),
        }
        table(columns, lines)
    counts = [sum(each[name] for each in done) for name in ("linked", "created", "left")]
    print(
        f"{counts[0]} linked, {counts[1]} users created, {counts[2]} left to operators."
        + (" Nothing has been changed yet." if given.preview else "")
    )


def _link(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.applications.link_drift(given.application, given.id, given.user)
    print("Linked. Dravo updates the account.")


def _create_user(given: argparse.Namespace, dravo: Dravo) -> None:
    user = dravo.users.get(
        dravo.applications.create_user(given.application, given.id, given.role, given.confirm)
    )
    print(f"Created the local user {user['display_name']}: {user['id']}.")


def _runs(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Requested (UTC)": lambda r: moment(r["requested_at"]),
        "By": lambda r: r["requested_by"],
        "Status": lambda r: r["status"],
        "Read": lambda r: r["read"],
        "Differences": lambda r: (
            ", ".join(f"{number} {kind}" for kind, number in r["counts"].items() if number) or "-"
        ),
        "Message": lambda r: r["message"],
    }
    show_list(given, dravo.applications.runs(given.application), columns, "No reconciliations yet.")
