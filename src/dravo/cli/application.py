"""`dravo application`: applications, their roles, settings and connections."""

from __future__ import annotations

import argparse
import getpass
import sys
from typing import Any

from dravo.cli.errors import FAILED
from dravo.cli.output import UsageError, command, facts, list_options, moment, noun, said, show_json, show_list, table
from dravo.client import Dravo

_SWITCHES = ("enabled", "create-accounts", "update-accounts", "adopt-by-user-name", "adopt-groups")
_EVENTS = ("on-losing-access", "on-inactive", "on-leaving")
_LEAVING = ("deactivate", "delete", "leave alone")


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "application", "applications, their roles, settings and connections")
    list_options(command(verbs, "list", _list, "list applications and how each is doing"))
    show = command(verbs, "show", _show, "show one application: roles, settings, connection")
    show.add_argument("key")
    add = command(verbs, "add", _add, "add an application", ["dravo application add plant-records --label 'Plant Records'"])
    add.add_argument("key", help="stands in addresses and never changes")
    add.add_argument("--label", required=True)
    add.add_argument("--owner")
    add.add_argument("--tracked-only", action="store_true", help="provisioned by hand: access is tracked, nothing is delivered")
    role = command(verbs, "create-role", _add_role, "add a role", ["dravo application create-role plant-records curator --label Curator --rank 30"])
    role.add_argument("key")
    role.add_argument("role")
    role.add_argument("--label", required=True)
    role.add_argument("--rank", type=int, default=1, help="a higher rank may do more (default 1)")
    gone = command(verbs, "delete-role", _remove_role, "remove a role that was never given")
    gone.add_argument("key")
    gone.add_argument("role")
    connecting = command(
        verbs, "connect", _connect, "say where the application's SCIM service is; the token is asked for, or read from standard input",
        ["dravo application connect plant-records https://records.fernhollow.example/scim/v2 < token-file"],
    )  # fmt: skip
    connecting.add_argument("key")
    connecting.add_argument("address")
    connecting.add_argument("--keep-token", action="store_true", help="keep the token that there is; the host must stay")
    check = command(verbs, "test-connection", _check, "try the connection step by step")
    check.add_argument("key")
    check.add_argument("--with-test-person", action="store_true", help="make somebody there, change them, and remove them again")
    connecting.add_argument("--user", metavar="NAME", help="sign in by this user name; what is asked for is the password")
    connecting.add_argument("--client-id", metavar="ID", help="sign in by OAuth 2.0 client credentials; what is asked for is the client's secret")
    connecting.add_argument("--token-url", metavar="URL", help="with --client-id: where tokens are given")
    connecting.add_argument("--scope", help="with --client-id: the scope to ask for")
    connecting.add_argument("--ends", metavar="INSTANT", help="when the secret ends, such as 2031-12-31T00:00:00Z")
    over = command(verbs, "groups", _groups, "list the groups that go over, each with its state")
    over.add_argument("key")
    list_options(over)
    trying = command(
        verbs, "evaluate", _try, "work an expression out for a person",
        ["dravo application evaluate 'userName then before \"@\" then lower' --person zofia"],
    )  # fmt: skip
    trying.add_argument("expression")
    trying.add_argument("--person", metavar="NAME", help="id, user name or e-mail")
    _add_setting(verbs)
    for name, run, text in (("pause", _pause, "stop delivering; what is due waits"), ("resume", _resume, "go on delivering")):
        command(verbs, name, run, text).add_argument("key")
    remove = command(verbs, "delete", _remove, "remove an application that nobody has access to")
    remove.add_argument("key")
    remove.add_argument("--confirm", required=True, metavar="LABEL", help="its label, to confirm")


def _add_setting(verbs: Any) -> None:
    """Add the command that changes settings."""
    change = command(
        verbs, "set", _set, "change what Dravo may do in an application", ["dravo application set plant-records --enabled yes --on-leaving delete"]
    )
    change.add_argument("key")
    change.add_argument("--label")
    change.add_argument("--owner")
    change.add_argument("--address", help="where people open it; empty: none")
    change.add_argument("--hidden", choices=("yes", "no"), help="whether it is left out of people's own applications")
    for name in _SWITCHES:
        change.add_argument(f"--{name}", choices=("yes", "no"))
    for name in _EVENTS:
        change.add_argument(f"--{name}", choices=_LEAVING)
    change.add_argument("--max-concurrency", type=int, metavar="N", help="requests under way at a time")
    change.add_argument("--rate-limit", type=int, metavar="N", help="requests a second at the most; 0: as many as it takes")
    change.add_argument("--compare-at", metavar="CRON", help="when it is compared by itself, such as '0 3 * * *' (UTC); '' for never")
    change.add_argument("--role-encoding", metavar="WAY", help="roles, entitlements, groups, nothing, or an attribute's name")
    change.add_argument("--groups", metavar="WHICH", help="which groups go over: none, 'those that give roles', or ids with commas between")
    change.add_argument(
        "--attribute", action="append", metavar="NAME=EXPRESSION", help="make an attribute by an expression; may be given several times; "
        "NAME= leaves it out; those that are not named are taken out",
    )  # fmt: skip
    change.add_argument("--no-expressions", action="store_true", help="take all expressions out")
    change.add_argument("--preview", action="store_true", help="show what it would change, and change nothing")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Key": lambda p: p["key"],
        "Label": lambda p: p["label"],
        "State": lambda p: p["state"],
        "Users": lambda p: p["people"],
        "Accounts": lambda p: p["accounts"],
        "Waiting": lambda p: p["waiting"],
        "Failed": lambda p: p["failed"],
        "Drifted": lambda p: p["drifting"],
        "Answered (UTC)": lambda p: moment(p["answered_at"]),
    }
    show_list(given, dravo.applications.list(), columns, "There is no application yet: dravo application add KEY --label LABEL")


def _print(given: argparse.Namespace, application: Any) -> None:
    if given.json:
        show_json(application)
        return
    connection = application["connection"]
    facts(
        {
            "Application": f"{application['label']} ({application['key']})",
            "State": application["state"],
            "Owner": application["owner"],
            "Opened at": application["address"],
            "Address": connection["base_url"],
            "Token": "kept, encrypted" if connection["has_secret"] else "none",
            "Token ends": moment(connection["secret_expires_at"]),
            "Checked": moment(connection["checked_at"]),
            **{_name(name): _word(value) for name, value in application["settings"].items() if not name.startswith("reconcile")},
            "Compared": application["settings"]["reconcile_in_words"] or "only when asked for",
            "Compared next": moment(application["settings"]["reconcile_next_at"]),
            "It cannot": " ".join((connection["capabilities"] or {}).get("notes", [])),
            "Trouble": application["trouble"],
            "Hint": application["hint"],
        }
    )
    print("\nRoles")
    table(
        {"Key": lambda r: r["key"], "Label": lambda r: r["label"], "Rank": lambda r: r["rank"], "Users": lambda r: r["people"]},
        application["roles"],
    )


_NAMES = {
    "max_concurrency": "Requests at a time",
    "rate_limit": "Requests a second",
    "role_encoding": "Roles go over in",
    "provisioned_groups": "Groups that go over",
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


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.get(given.key))


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.add(given.key, given.label, owner=given.owner, tracked_only=given.tracked_only))


def _add_role(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.add_role(given.key, given.role, given.label, given.rank))


def _remove_role(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.remove_role(given.key, given.role))


def _connect(given: argparse.Namespace, dravo: Dravo) -> None:
    token = None
    if not given.keep_token:
        # Not an option: what stands on a command line is seen by everybody on the machine.
        token = (getpass.getpass("Token of the application: ") if sys.stdin.isatty() else sys.stdin.readline()).strip()
        if not token:
            raise UsageError("No token came on standard input; pipe it in, or use --keep-token.")
    auth: dict[str, Any] | None = {"kind": "basic", "user": given.user} if given.user else None
    if given.client_id:
        auth = {"kind": "client credentials", "token_url": given.token_url, "client_id": given.client_id, "scope": given.scope}
    _print(given, dravo.applications.connect(given.key, given.address, token, auth=auth, expires_at=given.ends))


def _check(given: argparse.Namespace, dravo: Dravo) -> int:
    result = dravo.applications.check(given.key, with_test_person=given.with_test_person)
    if given.json:
        show_json(result)
    else:
        for step in result["steps"]:
            print(f"{step['outcome']:<10} {step['name']:<12} {step['message']}")
            if step["hint"]:
                print(f"{'':<23} {step['hint']}")
    return 0 if result["ok"] else FAILED


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    values: dict[str, Any] = {"label": given.label, "owner": given.owner, "address": given.address, "max_concurrency": given.max_concurrency}
    if given.hidden:
        values["hidden"] = given.hidden == "yes"
    for name in _SWITCHES:
        chosen = getattr(given, name.replace("-", "_"))
        values[name.replace("-", "_")] = None if chosen is None else chosen == "yes"
    for name in _EVENTS:
        values[name.replace("-", "_")] = getattr(given, name.replace("-", "_"))
    values |= _what_goes_over(given)
    if all(value is None for value in values.values()):
        raise UsageError("Nothing to change; see 'dravo application set --help' for what there is.")
    if given.preview:
        settings = {name: value for name, value in values.items() if name not in ("label", "owner", "address", "hidden")}
        _show_preview(given, dravo.applications.preview_settings(given.key, **settings))
    else:
        _print(given, dravo.applications.change(given.key, **values))


def _what_goes_over(given: argparse.Namespace) -> dict[str, Any]:
    values: dict[str, Any] = {"rate_limit": given.rate_limit, "reconcile_at": given.compare_at}
    if given.role_encoding:
        plain = given.role_encoding in ("roles", "entitlements", "groups", "nothing")
        values["role_encoding"] = {"way": given.role_encoding} if plain else {"way": "attribute", "attribute": given.role_encoding}
    if given.groups:
        named = given.groups in ("none", "those that give roles")
        chosen = {"which": "chosen", "groups": [{"group": each.strip()} for each in given.groups.split(",")]}
        values["provisioned_groups"] = {"which": given.groups} if named else chosen
    if given.no_expressions:
        values["attributes"] = []
    if given.attribute:
        pairs = [each.partition("=") for each in given.attribute]
        if not all(sign for _, sign, _ in pairs):
            raise UsageError("--attribute takes NAME=EXPRESSION, such as --attribute 'title=userType then upper'.")
        values["attributes"] = [{"attribute": name.strip(), "expression": expression} for name, _, expression in pairs]
    return values


def _show_preview(given: argparse.Namespace, preview: Any) -> None:
    if given.json:
        show_json(preview)
        return
    print(f"{preview['changed']} of {preview['accounts']} accounts would change. Nothing is done.\n")
    if preview["people"]:
        columns = {
            "User": lambda p: p["person"]["display_name"],
            "Now": lambda p: p["before"],
            "Then": lambda p: p["after"],
            "What differs": lambda p: "; ".join(f"{c['attribute']}: {said(c['before'])} -> {said(c['after'])}" for c in p["changes"]),
        }
        table(columns, preview["people"])


def _groups(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Group there": lambda g: g["name"],
        "Made of": lambda g: g["kind"],
        "Due": lambda g: g["members"],
        "There": lambda g: g["members_there"],
        "State": lambda g: g["state"],
        "Agreed (UTC)": lambda g: moment(g["applied_at"]),
        "What was said": lambda g: g["message"],
    }
    show_list(given, dravo.applications.groups(given.key), columns, "No group goes over: dravo application set KEY --groups 'those that give roles'")


def _try(given: argparse.Namespace, dravo: Dravo) -> None:
    tried = dravo.try_expression(given.expression, given.person)
    if given.json:
        show_json(tried)
        return
    if tried["person"]:
        print(f"{tried['person']['display_name']} gets: {'nothing, it is missing' if tried['result'] is None else tried['result']}")
    print(f"In words: {tried['words']}")


def _pause(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.pause(given.key))


def _resume(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.applications.resume(given.key))


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.applications.remove(given.key, given.confirm)
    print(f"Removed '{given.confirm}'.")
