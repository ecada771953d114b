"""`dravo invitation`: local users by invitation."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from dravo.cli.output import (
    command,
    counted,
    list_options,
    moment,
    noun,
    read_bytes,
    show_json,
    show_list,
    show_passwords,
    table,
)
from dravo.client import Dravo
from dravo.client import types as t


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "invitation", "local users by invitation")
    listing = command(
        verbs,
        "list",
        _list,
        "list invitations, newest first",
        ["dravo invitation list --status open"],
    )
    listing.add_argument("words", nargs="?", help="a part of name, user name or email")
    listing.add_argument(
        "--status", choices=("open", "expired", "accepted", "withdrawn"), help="only this status"
    )
    list_options(listing)
    create = command(
        verbs,
        "create",
        _create,
        "invite users by email, or create them with one-time passwords",
        [
            "dravo invitation create ida.vosper@fernhollow.example --group 'Seed Bank' --preview",
            "dravo invitation create --csv guests.csv --until 2031-06-30",
            "dravo invitation create --csv kiosk.csv --with-passwords",
        ],
    )
    create.add_argument(
        "users",
        nargs="*",
        metavar="EMAIL",
        help="email addresses, with names if wanted: 'Ida Vosper <ida@fernhollow.example>'",
    )
    create.add_argument(
        "--csv",
        metavar="FILE",
        type=Path,
        help="CSV file with the columns email, given_name, family_name, groups, application, role, until "
        "and other attributes; - for standard input",
    )
    create.add_argument(
        "--group",
        action="append",
        default=[],
        metavar="NAME",
        help="local group for users without groups of their own; can be repeated",
    )
    create.add_argument("--application", default="", metavar="KEY", help="application of the role")
    create.add_argument(
        "--role", default="", metavar="KEY", help="role for users without a role of their own"
    )
    create.add_argument("--until", default="", metavar="DAY", help="last day on which the users are active")
    create.add_argument(
        "--with-passwords", action="store_true", help="create one-time passwords; send no emails"
    )
    create.add_argument("--expect", type=int, metavar="N", help="number of users in the preview")
    create.add_argument("--confirm", metavar="TEXT", help="the text to type for a highest role")
    create.add_argument("--preview", action="store_true", help="show users and rejected lines; invite nobody")
    resend = command(verbs, "resend", _resend, "send an invitation again, with a new link")
    withdraw = command(verbs, "withdraw", _withdraw, "withdraw an invitation and delete its pending user")
    for each in (resend, withdraw):
        each.add_argument("id", metavar="ID", help="ID of the invitation")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda i: i["id"],
        "User": lambda i: i["user"]["display_name"],
        "Email": lambda i: i["email"],
        "Status": lambda i: i["status"],
        "Sent (UTC)": lambda i: moment(i["sent_at"]),
        "Expires (UTC)": lambda i: moment(i["until_at"]),
        "Accepted with": lambda i: i["accepted_with"],
        "By": lambda i: i["invited_by"],
    }
    found = dravo.invitations.list(words=given.words, status=given.status)
    show_list(given, found, columns, "No invitations.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    users = [{"email": each} for each in given.users]
    content = read_bytes(given.csv) if given.csv else b""
    options = {
        "groups": given.group,
        "application": given.application,
        "role": given.role,
        "until": given.until,
        "with_passwords": given.with_passwords,
    }
    if given.preview:
        _show_preview(given, dravo.invitations.preview(users, csv=content, **options))
        return
    options |= {"expect": given.expect, "confirm": given.confirm}
    made = dravo.invitations.create(users, csv=content, **options)
    if given.json:
        show_json(made)
        return
    if given.with_passwords:
        show_passwords((each["user_name"], each["password"] or "") for each in made["items"])
    else:
        print(f"Invited {counted(len(made['items']), 'user', 'users')}.")
    _show_rejected(made["rejected"])


def _show_preview(given: argparse.Namespace, found: t.InvitationPreview) -> None:
    if given.json:
        show_json(found)
        return
    number = len(found["items"])
    print(f"{counted(number, 'user', 'users')} would be {'created' if given.with_passwords else 'invited'}.")
    if number:
        columns = {
            "Line": lambda i: i["line"],
            "Email": lambda i: i["email"],
            "User name": lambda i: i["user_name"],
            "Groups": lambda i: ", ".join(i["groups"]),
            "Roles": lambda i: ", ".join(i["roles"]),
            "Until": lambda i: i["until"],
        }
        table(columns, found["items"])
    _show_rejected(found["rejected"])
    if found["confirm"]:
        print(f"{found['confirm']} Confirm with --confirm '{found['type_to_confirm']}'.")


def _show_rejected(lines: list[t.RejectedLine]) -> None:
    if not lines:
        return
    print(f"{counted(len(lines), 'line is', 'lines are')} rejected:")
    for each in lines:
        print(f"  line {each['line']}: {each['message']} {each['hint']}")


def _resend(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.invitations.resend(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"Sent again to {made['email']}. The link expires on {moment(made['until_at'])} UTC.")


def _withdraw(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.invitations.withdraw(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"Withdrawn. {made['user']['display_name']} is deleted.")
