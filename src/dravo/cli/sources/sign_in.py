"""`dravo sign-in`: sign-in settings of sources, their checklist and status, test sign-ins and traces."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.errors import FAILED
from dravo.cli.output import (
    command,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    table,
)
from dravo.cli.sources import sign_in_keys
from dravo.cli.sources.sign_in_settings import declare_set, show_settings
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "sign-in", "sign-in through sources")
    _declare_show(verbs)
    _declare_checklist(verbs)
    declare_set(verbs)
    sign_in_keys.declare(verbs)
    _declare_policy(verbs)
    _declare_status(verbs)
    _declare_test(verbs)
    _declare_tests(verbs)
    _declare_traces(verbs)
    _declare_trace(verbs)
    _declare_options(verbs)
    _declare_end_sessions(verbs)
    _declare_groups(verbs)
    _declare_add_group(verbs)
    removed = command(verbs, "delete", _delete, "delete the sign-in of a source; its users and access stay")
    removed.add_argument("source", help="key of the source")


def _declare_show(verbs: Any) -> None:
    parser = command(verbs, "show", _show, "show the sign-in settings of a source, and what is missing")
    parser.add_argument("source", help="key of the source")


def _declare_checklist(verbs: Any) -> None:
    parser = command(
        verbs,
        "checklist",
        _checklist,
        "print the setup checklist for the administrator of the provider",
        ["dravo sign-in checklist contractors > checklist.txt"],
    )
    parser.add_argument("source", help="key of the source")


def _declare_policy(verbs: Any) -> None:
    parser = command(
        verbs,
        "policy",
        _policy,
        "print the source policy for sign-in, as JSON",
        [
            "dravo sign-in policy contractors > policy.json",
            "dravo sign-in set contractors --policy policy.json",
        ],
    )
    parser.add_argument("source", help="key of the source")


def _declare_status(verbs: Any) -> None:
    parser = command(
        verbs,
        "status",
        _status,
        "change the sign-in status",
        ["dravo sign-in status contractors pilot", "dravo sign-in status contractors enabled"],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("status", choices=("disabled", "pilot", "enabled"), help="disabled, pilot or enabled")
    parser.add_argument(
        "--enabled-from",
        metavar="INSTANT",
        help="enable for everyone from this time, such as 2031-04-02T07:00:00Z",
    )
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the source; required if these settings are not tested"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _declare_test(verbs: Any) -> None:
    parser = command(
        verbs,
        "test",
        _test,
        "create a test sign-in for one user; prints the link once",
        ["dravo sign-in test contractors idris.vance --minutes 15"],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("user", help="user name or email of the user")
    parser.add_argument(
        "--apply", action="store_true", help="create or update the user (default: change nothing)"
    )
    parser.add_argument(
        "--minutes",
        type=int,
        default=30,
        metavar="N",
        help="validity of the link in minutes, 1 to 1440 (default 30)",
    )


def _declare_tests(verbs: Any) -> None:
    parser = command(verbs, "tests", _tests, "list test sign-ins with their status, newest first")
    list_options(parser)
    parser.add_argument("source", help="key of the source")


def _declare_traces(verbs: Any) -> None:
    parser = command(
        verbs,
        "traces",
        _traces,
        "list sign-ins with their outcome, newest first",
        ["dravo sign-in traces contractors --outcome refused"],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("words", nargs="?", help="a part of the user's name or of the error")
    parser.add_argument(
        "--outcome",
        choices=("signed_in", "observed", "refused"),
        help="only sign-ins with this outcome: signed_in, observed or refused",
    )
    list_options(parser)


def _declare_trace(verbs: Any) -> None:
    parser = command(
        verbs,
        "trace",
        _trace,
        "show one sign-in step by step",
        ["dravo sign-in trace contractors ID", "dravo sign-in trace contractors ID --current-settings"],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("trace", help="ID of the sign-in")
    parser.add_argument(
        "--current-settings", action="store_true", help="evaluate the sign-in with the current settings"
    )


def _declare_options(verbs: Any) -> None:
    parser = command(
        verbs,
        "options",
        _options,
        "show through which sources a user can sign in, and why not",
        ["dravo sign-in options idris.vance"],
    )
    parser.add_argument("user", help="ID, user name or email")


def _declare_end_sessions(verbs: Any) -> None:
    parser = command(
        verbs,
        "end-sessions",
        _end_sessions,
        "end all sessions of a user",
        ["dravo sign-in end-sessions idris.vance"],
    )
    parser.add_argument("user", help="ID, user name or email")


def _declare_groups(verbs: Any) -> None:
    parser = command(verbs, "groups", _groups, "list groups from claims that do not exist yet")
    parser.add_argument("words", nargs="?", default="", help="a part of the name")


def _declare_add_group(verbs: Any) -> None:
    parser = command(
        verbs,
        "add-group",
        _add_group,
        "create a group with its name in the claims, to map it before the first sign-in",
        ["dravo sign-in add-group contractors Scaffolders"],
    )
    parser.add_argument("source", help="key of the source")
    parser.add_argument("group", help="name of the group, exactly as in the claims")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    show_settings(given, dravo.sign_ins.get(given.source))


def _checklist(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.get(given.source)
    if given.json:
        show_json(found["give"])
    else:
        print(found["text"], end="")


def _policy(given: argparse.Namespace, dravo: Dravo) -> None:
    show_json(dravo.sign_ins.get(given.source)["policy"])


def _groups(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.claimed_groups(given.words)["items"]
    if given.json:
        show_json(found)
    elif not found:
        print("All groups from claims exist.")
    else:
        table({"Group": lambda g: g["name"], "Source": lambda g: g["source"]["label"]}, found)


def _add_group(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sign_ins.create_group(given.source, given.group)
    if given.json:
        show_json(made)
    else:
        print(f"Created the group '{made['name']}' without members. You can map it now.")


def _status(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.sign_ins.preview_status(given.source, given.status))
        return
    show_settings(
        given,
        dravo.sign_ins.set_status(
            given.source, given.status, enabled_from=given.enabled_from, confirm=given.confirm
        ),
    )


def _test(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sign_ins.create_sign_in_test(
        given.source, given.user, mode="apply" if given.apply else "observe", minutes=given.minutes
    )
    if given.json:
        show_json(made)
        return
    print(
        f"Test sign-in for {made['user']}, mode {'apply' if given.apply else 'observe'}, valid until "
        f"{moment(made['until_at'])} UTC:"
    )
    print(made["link"])
    print(f"See the result: dravo sign-in traces {given.source}")


def _tests(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Created (UTC)": lambda t: moment(t["created_at"]),
        "For": lambda t: t["user"],
        "Mode": lambda t: t["mode"],
        "Valid until (UTC)": lambda t: moment(t["until_at"]),
        "Result": lambda t: t["so_far"],
        "Trace": lambda t: t["trace"],
    }
    show_list(given, dravo.sign_ins.sign_in_tests(given.source), columns, "No test sign-ins.")


_TRACE = {
    "Time (UTC)": lambda t: moment(t["at"]),
    "User": lambda t: t["name"],
    "Outcome": lambda t: t["outcome"],
    "Reason": lambda t: t["message"],
    "ID": lambda t: t["id"],
}


def _traces(given: argparse.Namespace, dravo: Dravo) -> None:
    show_list(
        given,
        dravo.sign_ins.traces(given.source, outcome=given.outcome, words=given.words),
        _TRACE,
        "No sign-ins.",
    )


def _trace(given: argparse.Namespace, dravo: Dravo) -> int | None:
    found: Any = (
        dravo.sign_ins.plan_trace(given.source, given.trace)
        if given.current_settings
        else dravo.sign_ins.trace(given.source, given.trace)
    )
    if given.json:
        show_json(found)
        return None
    for step in found["steps"]:
        print(f"{step['outcome']:<13}{step['name']:<18}{step['message']}")
        if step["hint"]:
            print(f"{'':<31}{step['hint']}")
    for each in found["groups"]:
        gives = (
            ", ".join(f"{one['application']}: {one['role']}" for one in each["gives"]) or "assigns no role"
        )
        print(f"group        {each['claimed']:<18}{each['outcome']}; {gives}")
    for each in found["access"]:
        print(
            f"{each['what']:<13}{each['application']['label']}: {each['role']} ({'; '.join(each['reasons'])})"
        )
    print(f"{found['outcome']}: {found['message']}")
    return FAILED if found["outcome"] == "refused" else None


def _options(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sign_ins.options(given.user)
    if given.json:
        show_json(found)
        return
    if not found["ways"]:
        print("No source has sign-in.")
    for each in found["ways"]:
        bound = f"linked since {moment(each['bound_at'])} UTC" if each["bound_at"] else "not linked yet"
        print(
            f"{each['source']['label']:<26}{'allowed' if each['opens'] else 'refused':<10}"
            f"{each['protocol']}, {bound}"
        )
        for line in (
            each["reason"],
            f"Message to the user: {each['message_to_user']} {each['support_contact']}".rstrip()
            if each["message_to_user"]
            else "",
            each["hint"],
        ):
            if line:
                print(f"{'':<36}{line}")
        if each["enabled_from"]:
            print(f"{'':<36}Enabled for everyone from {moment(each['enabled_from'])} UTC.")
    seen = ", ".join(f"{each['label']} ({', '.join(each['roles'])})" for each in found["applications"])
    print(f"Applications after sign-in: {seen or 'none'}.")


def _end_sessions(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sign_ins.end_sessions(given.user)
    print("All sessions are ended.")


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sign_ins.remove(given.source)
    print("Deleted.")
