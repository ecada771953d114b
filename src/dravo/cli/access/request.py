"""`dravo request`: access requests of users, listed, approved and refused."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_preview
from dravo.cli.output import command, facts, list_options, moment, noun, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "request", "access requests of users")
    _declare_list(verbs)
    command(verbs, "show", _show, "show one access request").add_argument("id", help="ID of the request")
    _declare_approve(verbs)
    _declare_refuse(verbs)


def _declare_list(verbs: Any) -> None:
    parser = command(
        verbs, "list", _list, "list access requests, newest first", ["dravo request list --status open"]
    )
    parser.add_argument(
        "--status",
        choices=("open", "approved", "refused", "withdrawn"),
        help="only requests with this status (default: all)",
    )
    parser.add_argument("--application", metavar="KEY", help="key of the application")
    parser.add_argument("--words", help="only users with these words in the name")
    list_options(parser)


def _declare_approve(verbs: Any) -> None:
    parser = command(
        verbs,
        "approve",
        _approve,
        "approve an access request; the user gets the role",
        ["dravo request approve ID --until 2031-04-02 --answer 'For the spring inventory.'"],
    )
    parser.add_argument("id", help="ID of the request, as in 'dravo request list'")
    parser.add_argument("--role", metavar="KEY", help="key of the role (default: the requested role)")
    parser.add_argument("--until", metavar="DAY", help="last day, such as 2031-04-02 (default: no end)")
    parser.add_argument("--answer", default="", metavar="TEXT", help="answer for the user")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _declare_refuse(verbs: Any) -> None:
    parser = command(verbs, "refuse", _refuse, "refuse an access request")
    parser.add_argument("id", help="ID of the request, as in 'dravo request list'")
    parser.add_argument("--answer", required=True, metavar="TEXT", help="reason; the user sees it")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User": lambda r: r["user"]["display_name"],
        "Application": lambda r: r["application"]["label"],
        "Role": lambda r: r["role"]["label"] if r["role"] else None,
        "Reason": lambda r: r["reason"],
        "Status": lambda r: r["status"],
        "Requested (UTC)": lambda r: moment(r["requested_at"]),
        "Decided by": lambda r: r["decided_by"],
        "ID": lambda r: r["id"],
    }
    found = dravo.requests.list(status=given.status, application=given.application, words=given.words)
    show_list(given, found, columns, "No access requests.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.requests.get(given.id))


def _print(given: argparse.Namespace, request: Any) -> None:
    if given.json:
        show_json(request)
        return
    facts(
        {
            "User": f"{request['user']['display_name']} ({request['user']['user_name']})",
            "Application": request["application"]["label"],
            "Role": request["role"]["label"] if request["role"] else None,
            "Reason": request["reason"],
            "Status": request["status"],
            "Requested": moment(request["requested_at"]),
            "Decided": moment(request["decided_at"]),
            "Decided by": request["decided_by"],
            "Answer": request["answer"],
            "Assignment": request["assignment"],
        }
    )


def _approve(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.requests.preview_approval(given.id, role=given.role, until=given.until))
        return
    approved = dravo.requests.approve(
        given.id, confirm=given.confirm, role=given.role, until=given.until, answer=given.answer
    )
    _print(given, approved)


def _refuse(given: argparse.Namespace, dravo: Dravo) -> None:
    _print(given, dravo.requests.refuse(given.id, given.answer))
