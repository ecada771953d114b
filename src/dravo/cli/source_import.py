"""`dravo source`: import settings, runs, priority and conflicts of sources."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path
from typing import Any

from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from dravo.cli.assignment import show_preview
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    list_options,
    moment,
    read_bytes,
    read_json,
    read_text,
    show_json,
    show_list,
    table,
)
from dravo.client import Dravo

_TYPES = {"switch": "yes or no", "lines": "PEM text, or @FILE", "text": "text"}
_MARKS = {"ok": "x", "warning": "!", "failed": "-", "skipped": " "}


def add_verbs(verbs: Any) -> None:
    """Add the commands to those about sources."""
    _declare_set_import(verbs)
    _declare_connectors(verbs)
    _declare_import(verbs)
    _declare_policy(verbs)
    _declare_preview_policy(verbs)
    _declare_check_import(verbs)
    _declare_upload(verbs)
    _declare_run(verbs)
    _add_verbs_about_runs(verbs)


def _declare_set_import(verbs: Any) -> None:
    parser = command(
        verbs,
        "set-import",
        _set_import,
        "change the import settings of a source",
        [
            "dravo source set-import estates ldap --set address=ldaps://directory.fernhollow.example "
            "--set users_base=dc=fernhollow,dc=example",
            "dravo source set-import estates --schedule '30 * * * *' --enabled",
        ],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("kind", nargs="?", help="connector: ldap, scim or csv (required for a new import)")
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a setting as NAME=VALUE; @FILE as value reads a file; repeat for several",
    )
    parser.add_argument(
        "--secret-file", metavar="FILE", help="file with the password, token or key; - for standard input"
    )
    parser.add_argument(
        "--schedule", metavar="CRON", help="schedule (cron, UTC), such as '0 * * * *'; '' for none"
    )
    parser.add_argument("--policy", metavar="FILE", help="source policy as JSON; - for standard input")
    status = parser.add_mutually_exclusive_group()
    status.add_argument(
        "--enabled", action="store_true", default=None, help="enable the import: runs apply what they find"
    )
    status.add_argument(
        "--disabled", dest="enabled", action="store_false", help="disable the import: runs are previews"
    )
    status.add_argument(
        "--enabled-from",
        metavar="INSTANT",
        help="enable the import from this time, such as 2031-04-02T06:00:00Z; '' for none",
    )


def _declare_connectors(verbs: Any) -> None:
    parser = command(
        verbs,
        "connectors",
        _connectors,
        "list the connectors and their settings",
        ["dravo source connectors ldap"],
    )
    parser.add_argument("connector", nargs="?", help="only this connector: ldap, scim or csv")


def _declare_import(verbs: Any) -> None:
    parser = command(
        verbs, "import", _import, "show the import settings of a source", ["dravo source import estates"]
    )
    parser.add_argument("key", help="key of the source")


def _declare_policy(verbs: Any) -> None:
    parser = command(verbs, "policy", _policy, "print the source policy, as JSON")
    parser.add_argument("key", help="key of the source")


def _declare_preview_policy(verbs: Any) -> None:
    parser = command(verbs, "preview-policy", _preview_policy, "preview another source policy with all users")
    parser.add_argument("key", help="key of the source")
    parser.add_argument("file", help="source policy as JSON; - for standard input")


def _declare_check_import(verbs: Any) -> None:
    parser = command(verbs, "check-import", _check_import, "check the connection of a source step by step")
    parser.add_argument("key", help="key of the source")


def _declare_upload(verbs: Any) -> None:
    parser = command(
        verbs,
        "upload",
        _upload,
        "upload CSV files",
        ["dravo source upload volunteers users.csv memberships.csv"],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("files", nargs="+", help="files named users.csv, groups.csv or memberships.csv")


def _declare_run(verbs: Any) -> None:
    parser = command(
        verbs,
        "run",
        _run,
        "run an import now, or preview it",
        [
            "dravo source run estates --preview",
            "dravo source run estates --allow-removals --confirm 'Estates directory'",
        ],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument("--whole", action="store_true", help="read all users instead of changed users only")
    parser.add_argument(
        "--allow-removals",
        action="store_true",
        help="process all missing users as leavers, ignoring the removal limit",
    )
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the source; required with --allow-removals"
    )
    parser.add_argument("--no-wait", action="store_true", help="return without waiting for the end")


def _add_verbs_about_runs(verbs: Any) -> None:
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


def _set_import(given: argparse.Namespace, dravo: Dravo) -> None:
    settings: dict[str, Any] = {}
    for each in given.set:
        name, equals, value = each.partition("=")
        if not equals:
            sys.exit(f"'{each}' is not a setting. Write it as NAME=VALUE.")
        value = read_text(value[1:]) if value.startswith("@") else value
        settings[name] = {"true": True, "false": False}.get(value.lower(), value)
    values: dict[str, Any] = {
        "settings": settings or None,
        "kind": given.kind,
        "schedule": given.schedule,
        "enabled": given.enabled,
        "enabled_from": given.enabled_from,
    }
    if given.secret_file:
        values["secret"] = read_text(given.secret_file).strip()
    if given.policy:
        values["policy"] = read_json(given.policy)
    dravo.sources.change_import(
        given.key, **{name: value for name, value in values.items() if value is not None}
    )
    _import(given, dravo)


def _connectors(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.connectors()
    keys = [each["key"] for each in found]
    if given.connector is not None and given.connector not in keys:
        raise UsageError(f"There is no connector '{given.connector}'. Use one of: {', '.join(keys)}.")
    chosen = [each for each in found if given.connector in (None, each["key"])]
    if given.json:
        show_json(chosen)
        return
    rows = [(each["key"], field) for each in chosen for field in each["settings"]]
    table(
        {
            "Connector": lambda row: row[0],
            "Setting": lambda row: row[1]["name"],
            "Type": lambda row: ", ".join(row[1]["choices"]) or _TYPES[row[1]["kind"]],
            "Default": lambda row: "required" if row[1]["required"] else _setting(row[1]["default"]),
            "Meaning": lambda row: (
                f"{row[1]['label']}: {row[1]['hint']}" if row[1]["hint"] else row[1]["label"]
            ),
        },
        rows,
    )
    print("Set them with: dravo source set-import KEY CONNECTOR --set NAME=VALUE")


def _import(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.import_settings(given.key)
    if given.json:
        show_json(found)
        return
    shown = {field["label"]: _setting(found["settings"].get(field["name"])) for field in found["fields"]}
    facts(
        {
            "Connector": found["label"],
            **{name: value for name, value in shown.items() if value not in ("", "no")},
            "Secret": "kept" if found["has_secret"] else "none",
            "Enabled": "yes"
            if found["enabled"]
            else f"from {moment(found['enabled_from'])}"
            if found["enabled_from"]
            else "no: runs are previews",
            "Pilot group": found["policy"]["pilot"] or None,
            "Schedule": found["schedule_words"],
            "Next (UTC)": ", ".join(moment(each) for each in found["next_at"]) or None,
            "Last full run": moment(found["full_at"]),
            "Conflicts": found["conflicts"] or None,
            "Files": ", ".join(
                f"{each['name']} ({each['size']:,} bytes, {moment(each['changed_at'])})"
                for each in found["files"]
            )
            or None,
        }
    )


def _setting(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    text = str(value)
    return f"{text.splitlines()[0]} ..." if "\n" in text else text


def _policy(given: argparse.Namespace, dravo: Dravo) -> None:
    print(json.dumps(dravo.sources.import_settings(given.key)["policy"], indent=2, ensure_ascii=False))


def _preview_policy(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.preview_policy(given.key, read_json(given.file))
    if given.json:
        show_json(found)
        return
    print(
        f"Of {found['looked_at']:,} users {found['accepted']:,} stay unchanged, {found['changed']:,} change, "
        f"{found['leaves']:,} leave, {found['refused']:,} are refused."
    )
    out = [each["name"] for each in found["groups"] if not each["accepted"]]
    if out:
        print(f"Of {len(found['groups']):,} groups of this source, these are ignored: {', '.join(out)}.")
    if found["made_groups"]:
        told = ", ".join(f"{each['name']} ({each['users']:,})" for each in found["made_groups"])
        print(f"Groups from user attributes: {told}.")
    rows = [{**each, "told": _told(each)} for each in found["items"]]
    if rows:
        table(
            {"Name": lambda r: r["name"], "Outcome": lambda r: r["outcome"], "Change": lambda r: r["told"]},
            rows,
        )


def _told(line: Any) -> str:
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


def _check_import(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.check(given.key)
    if given.json:
        show_json(found)
    else:
        for step in found["steps"]:
            print(f"[{_MARKS.get(step['outcome'], ' ')}] {step['name']:<22} {step['message']}")
            if step["hint"]:
                print(f"    {'':<22} {step['hint']}")
        if found["sample"]:
            print("\nResult of the source policy for the first records:\n")
            columns = {
                "Name in the source": lambda s: s["name"],
                "User name": lambda s: (s["user"] or {}).get("userName"),
                **(
                    {"Groups from attributes": lambda s: ", ".join(s["groups"])}
                    if any(s["groups"] for s in found["sample"])
                    else {}
                ),
                "Accepted": lambda s: "yes" if s["accepted"] else s["message"],
            }
            table(columns, found["sample"][:10])
    if not found["ok"]:
        sys.exit(1)


def _upload(given: argparse.Namespace, dravo: Dravo) -> None:
    for name in given.files:
        file = Path(name)
        dravo.sources.upload(given.key, file.name, read_bytes(file))
        print(f"Uploaded {file.name}.")


def _run(given: argparse.Namespace, dravo: Dravo) -> None:
    run = dravo.sources.start_run(
        given.key,
        preview=given.preview,
        whole=given.whole,
        allow_removals=given.allow_removals,
        confirm=given.confirm,
    )
    if not given.no_wait:
        run = _follow(dravo, given.key, run)
    if given.json:
        show_json(run)
        return
    _show_run(run)
    if given.preview and run["status"] == "done":
        print(f"\nNothing was changed. See all entries: dravo source run-entries {given.key}")
    if run["status"] in ("failed", "held"):
        sys.exit(1)


def _follow(dravo: Dravo, key: str, run: Any) -> Any:
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


def _show_run(run: Any) -> None:
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
    columns = {"Change": lambda x: x["kind"], "Name": lambda x: x["name"], "Before and after": _told}
    show_list(
        given,
        dravo.sources.run_entries(given.key, run_id, kind=given.kind, words=given.words),
        columns,
        "The run changed nothing.",
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
