"""`dravo source`: import settings, runs, priority and conflicts of sources."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from dravo.cli.output import (
    UsageError,
    command,
    facts,
    moment,
    read_bytes,
    read_json,
    read_text,
    show_json,
    show_steps,
    table,
)
from dravo.cli.sources.import_runs import add_verbs_about_runs, follow, show_run
from dravo.client import Dravo

_TYPES = {"switch": "yes or no", "lines": "PEM text, or @FILE", "text": "text"}


def add_verbs(verbs: Any) -> None:
    """Add the commands to those about sources."""
    _declare_set_import(verbs)
    _declare_connectors(verbs)
    _declare_import(verbs)
    _declare_check_import(verbs)
    _declare_upload(verbs)
    _declare_run(verbs)
    add_verbs_about_runs(verbs)
    removed = command(
        verbs, "delete-import", _delete_import, "delete the import of a source; its users and access stay"
    )
    removed.add_argument("key", help="key of the source")


def _delete_import(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove_import(given.key)
    print("Deleted.")


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
            "Warning": found["warning"] or None,
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


def _check_import(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.check(given.key)
    if given.json:
        show_json(found)
    else:
        show_steps(found["steps"])
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
        run = follow(dravo, given.key, run)
    if given.json:
        show_json(run)
        return
    show_run(run)
    if given.preview and run["status"] == "done":
        print(f"\nNothing was changed. See all entries: dravo source run-entries {given.key}")
    if run["status"] in ("failed", "held"):
        sys.exit(1)
