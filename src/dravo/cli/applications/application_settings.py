"""Settings of an application: show them, and `dravo application set`."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    moment,
    said,
    show_json,
    table,
)
from dravo.client import Dravo

_SWITCHES = {
    "enabled": "provision accounts (yes or no)",
    "create-accounts": "create missing accounts (yes or no)",
    "update-accounts": "update accounts that differ (yes or no)",
    "adopt-groups": "adopt unlinked groups with the same name (yes or no)",
    "approve-tasks": "have each task wait for an operator's approval (yes or no)",
}


_EVENTS = {
    "on-losing-access": "what happens to the account of a user who loses access",
    "on-inactive": "what happens to the account of a user who becomes inactive",
    "on-leaving": "what happens to the account of a user who leaves",
}


_LEAVING = ("deactivate", "delete", "do_nothing")


def add_setting(verbs: Any) -> None:
    """Add the command to those of applications."""
    """Add the command that changes settings."""
    change = command(
        verbs,
        "set",
        _set,
        "change the provisioning settings of an application",
        ["dravo application set plant-records --enabled yes --on-leaving delete"],
    )
    change.add_argument("key", help="key of the application")
    change.add_argument("--label", help="label")
    change.add_argument("--owner", help="name of the operator who owns the application")
    change.add_argument("--address", help="start URL for users; empty: none")
    change.add_argument("--note", help="note of operators; empty: none")
    change.add_argument(
        "--hidden", choices=("yes", "no"), help="hide the application from the users' own list (yes or no)"
    )
    change.add_argument(
        "--requestable", choices=("yes", "no"), help="let users request access to the application (yes or no)"
    )
    change.add_argument(
        "--tracked-only",
        choices=("yes", "no"),
        help="yes: operators manage the accounts by hand; no: Dravo provisions them (yes or no)",
    )
    for name, explained in _SWITCHES.items():
        change.add_argument(f"--{name}", choices=("yes", "no"), help=explained)
    change.add_argument(
        "--adopt-by",
        action="append",
        metavar="ATTRIBUTE",
        help="adopt unlinked accounts with the same userName, emails, or another attribute; repeat for "
        "several; replaces the former ones",
    )
    change.add_argument(
        "--no-adopt-by", action="store_const", const=[], dest="adopt_by", help="adopt no accounts"
    )
    change.add_argument(
        "--unlinked-accounts",
        choices=("wait", "adopt", "create_users", "ignore"),
        help="what a reconciliation does with accounts without a user",
    )
    change.add_argument(
        "--origin-attribute",
        metavar="ATTRIBUTE",
        help="attribute that says that Dravo provisioned the account, such as userType; empty: none",
    )
    for name, explained in _EVENTS.items():
        change.add_argument(f"--{name}", choices=_LEAVING, help=explained)
    change.add_argument(
        "--max-concurrency", type=int, metavar="N", help="maximum number of concurrent requests, 1 to 32"
    )
    change.add_argument(
        "--rate-limit", type=int, metavar="N", help="maximum number of requests per second; 0: no limit"
    )
    change.add_argument(
        "--reconcile-schedule",
        metavar="CRON",
        help="reconciliation schedule (cron, UTC), such as '0 3 * * *'; '' for none",
    )
    change.add_argument(
        "--role-encoding",
        metavar="WAY",
        help="how roles are sent: roles, entitlements, groups, nothing, or an attribute name",
    )
    change.add_argument(
        "--which",
        choices=("all", "highest"),
        help="with --role-encoding: send all roles of a user, or the highest (default all)",
    )
    change.add_argument(
        "--value",
        choices=("key", "label"),
        help="with --role-encoding: send the value of a role, or its label (default key)",
    )
    change.add_argument(
        "--shape",
        choices=("as_declared", "objects", "strings"),
        help="with --role-encoding: send objects or strings (default as the application declares it)",
    )
    change.add_argument(
        "--plan-encoding",
        metavar="WAY",
        help="how the license plan is sent: roles, entitlements, nothing, or an attribute name",
    )
    change.add_argument(
        "--groups",
        metavar="WHICH",
        help="provisioned groups: none, with_roles, pattern (with --pattern and --source), or IDs "
        "separated by commas",
    )
    change.add_argument("--pattern", help="pattern of the names of provisioned groups, such as ^plants-")
    change.add_argument("--source", metavar="KEY", help="source of the groups of the pattern")
    change.add_argument(
        "--attribute",
        action="append",
        metavar="NAME=EXPRESSION",
        help="map an attribute with an expression; repeat for several. "
        "NAME= sends no value. Expressions that are not listed are deleted",
    )
    change.add_argument("--no-expressions", action="store_true", help="delete all expressions")
    change.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    values: dict[str, Any] = {
        "label": given.label,
        "owner": given.owner,
        "address": given.address,
        "note": given.note,
        "max_concurrency": given.max_concurrency,
        "adopt_by": given.adopt_by,
        "origin_attribute": given.origin_attribute,
        "unlinked_accounts": given.unlinked_accounts,
    }
    for name in ("hidden", "requestable", "tracked_only"):
        if getattr(given, name):
            values[name] = getattr(given, name) == "yes"
    for name in _SWITCHES:
        chosen = getattr(given, name.replace("-", "_"))
        values[name.replace("-", "_")] = None if chosen is None else chosen == "yes"
    for name in _EVENTS:
        values[name.replace("-", "_")] = getattr(given, name.replace("-", "_"))
    values |= _read_provisioning_settings(given)
    if all(value is None for value in values.values()):
        raise UsageError("No setting given. See 'dravo application set --help' for all settings.")
    if given.preview and given.tracked_only:
        tracked = values["tracked_only"]
        show_effects(given, dravo.applications.preview_tracked_only(given.key, tracked_only=tracked))
    elif given.preview:
        settings = {
            name: value
            for name, value in values.items()
            if name not in ("label", "owner", "address", "hidden", "requestable", "note", "tracked_only")
        }
        _show_preview(given, dravo.applications.preview_settings(given.key, **settings))
    else:
        show_application(given, dravo.applications.change(given.key, **values))


def _read_provisioning_settings(given: argparse.Namespace) -> dict[str, Any]:
    values: dict[str, Any] = {"rate_limit": given.rate_limit, "reconcile_schedule": given.reconcile_schedule}
    detail = {name: value for name in ("which", "value", "shape") if (value := getattr(given, name))}
    if detail and not given.role_encoding:
        raise UsageError("--which, --value and --shape work only with --role-encoding.")
    if given.role_encoding:
        values["role_encoding"] = {**_encoding(given.role_encoding), **detail}
    if given.plan_encoding:
        values["plan_encoding"] = _encoding(given.plan_encoding)
    if (given.pattern or given.source) and given.groups != "pattern":
        raise UsageError("--pattern and --source work only with --groups pattern.")
    if given.groups == "pattern":
        by_pattern = {"pattern": given.pattern, "source": given.source}
        values["provisioned_groups"] = {"which": "pattern", **by_pattern}
    elif given.groups:
        named = given.groups in ("none", "with_roles")
        chosen = {
            "which": "selected",
            "groups": [{"group": each.strip()} for each in given.groups.split(",")],
        }
        values["provisioned_groups"] = {"which": given.groups} if named else chosen
    if given.no_expressions:
        values["attributes"] = []
    if given.attribute:
        pairs = [each.partition("=") for each in given.attribute]
        if not all(sign for _, sign, _ in pairs):
            raise UsageError(
                "Write --attribute as NAME=EXPRESSION, such as --attribute 'title=userType then upper'."
            )
        values["attributes"] = [
            {"attribute": name.strip(), "expression": expression} for name, _, expression in pairs
        ]
    return values


def _encoding(way: str) -> dict[str, Any]:
    """Return a way to send roles or plans; other words are the name of an attribute."""
    plain = way in ("roles", "entitlements", "groups", "nothing")
    return {"way": way} if plain else {"way": "attribute", "attribute": way}


def _show_preview(given: argparse.Namespace, preview: Any) -> None:
    if given.json:
        show_json(preview)
        return
    print(f"{preview['changed']} of {preview['accounts']} accounts would change. Nothing has been changed.\n")
    if preview["users"]:
        columns = {
            "User": lambda p: p["user"]["display_name"],
            "Before": lambda p: p["before"],
            "After": lambda p: p["after"],
            "Difference": lambda p: "; ".join(
                f"{c['attribute']}: {said(c['before'])} -> {said(c['after'])}" for c in p["changes"]
            ),
        }
        table(columns, preview["users"])


def show_application(given: argparse.Namespace, application: Any) -> None:
    """Print an application with its roles, settings and connection."""
    if given.json:
        show_json(application)
        return
    connection = application["connection"]
    facts(
        {
            "Application": f"{application['label']} ({application['key']})",
            "Status": application["status"],
            "Provisioning": _provisioning(application["provisioning"]),
            "Owner": application["owner"],
            "Other instances": ", ".join(each["label"] for each in application["instances"]) or "none",
            "Icon": "yes" if application["icon"] else "none",
            "Start URL": application["address"],
            "Users can request access": "yes" if application["requestable"] else "no",
            "Note": application["note"],
            "Address": connection["base_url"],
            "Token": "saved, encrypted" if connection["has_secret"] else "none",
            "Token expires": moment(connection["secret_expires_at"]),
            "Checked": moment(connection["checked_at"]),
            **{
                _name(name): _word(value)
                for name, value in application["settings"].items()
                if not name.startswith("reconcile")
            },
            "Compared": application["settings"]["reconcile_schedule_words"] or "No schedule",
            "Next reconciliation": moment(application["settings"]["reconcile_next_at"]),
            "Not supported": " ".join((connection["capabilities"] or {}).get("notes", [])),
            "Trouble": application["trouble"],
            "Hint": application["hint"],
        }
    )
    print("\nRoles")
    table(
        {
            "Key": lambda r: r["key"],
            "Label": lambda r: r["label"],
            "Rank": lambda r: r["rank"],
            "Sent as": lambda r: r["sent_value"] or r["key"],
            "Users": lambda r: r["users"],
            "Permits": lambda r: r["description"],
        },
        application["roles"],
    )


def _provisioning(given: Any) -> str:
    if given["pilot_group"]:
        return f"{given['status']} group {given['pilot_group']['name']}"
    start = f", enabled from {moment(given['enabled_from'])}" if given["enabled_from"] else ""
    return f"{given['status']}{start}"


_NAMES = {
    "max_concurrency": "Concurrent requests",
    "rate_limit": "Requests per second",
    "role_encoding": "Roles are sent as",
    "provisioned_groups": "Provisioned groups",
}


def _name(setting: str) -> str:
    return _NAMES.get(setting, setting.replace("_", " ").capitalize())


def _word(value: Any) -> Any:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "; ".join(f"{each['attribute']} = {each['expression'] or '(left out)'}" for each in value)
    if isinstance(value, dict):
        return ", ".join(str(inner) for inner in value.values() if isinstance(inner, str)) or None
    return value
