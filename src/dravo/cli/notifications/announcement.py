"""`dravo announcement`: emails to the users of a source or an application."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import command, counted, list_options, moment, noun, read_text, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "announcement", "emails to the users of a source or an application")
    list_options(command(verbs, "list", _list, "list announcements, newest first"))
    create = command(
        verbs,
        "create",
        _create,
        "send an email to the active users of a source or an application",
        [
            "dravo announcement create application plant-records --subject 'A new sign-in' --text text.txt "
            "--preview"
        ],
    )
    create.add_argument(
        "about", choices=("source", "application"), help="whose users: of a source or an application"
    )
    create.add_argument("key", metavar="KEY", help="key of the source or the application")
    create.add_argument("--subject", required=True, metavar="TEXT", help="subject of the email")
    create.add_argument(
        "--text", required=True, metavar="FILE", help="file with the text; - for standard input"
    )
    create.add_argument(
        "--send-at", metavar="INSTANT", help="time, such as 2031-12-01T07:00:00Z (default now)"
    )
    create.add_argument("--expect", type=int, metavar="N", help="number of recipients in the preview")
    create.add_argument("--preview", action="store_true", help="show recipients and email; send nothing")
    withdraw = command(verbs, "withdraw", _withdraw, "withdraw an announcement that is not sent yet")
    withdraw.add_argument("id", metavar="ID", help="ID of the announcement")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda a: a["id"],
        "About": lambda a: a["about_label"],
        "Subject": lambda a: a["subject"],
        "Status": lambda a: a["status"],
        "Sent at (UTC)": lambda a: moment(a["send_at"]),
        "Emails": lambda a: a["written"],
        "By": lambda a: a["created_by"],
    }
    show_list(given, dravo.notifications.announcements(), columns, "No announcements.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = (given.about, given.key, given.subject, read_text(given.text))
    if given.preview:
        found = dravo.notifications.preview_announcement(*wish)
        if given.json:
            show_json(found)
            return
        print(f"{counted(found['recipients'], 'user gets', 'users get')} this email:")
        for each in found["first"]:
            print(f"  {each['display_name']} <{each['email']}>")
        if found["recipients"] > len(found["first"]):
            print(f"  and {found['recipients'] - len(found['first']):,} more")
        if found["without"]:
            print(f"{counted(found['without'], 'user has', 'users have')} no email address and get none.")
        print(f"\nSubject: {found['subject']}\n\n{found['text']}")
        return
    more = {name: getattr(given, name) for name in ("send_at", "expect") if getattr(given, name) is not None}
    made = dravo.notifications.announce(*wish, **more)
    if given.json:
        show_json(made)
    else:
        when = f"is scheduled for {moment(made['send_at'])} UTC" if given.send_at else "is being sent"
        print(f"Announcement '{made['subject']}' ({made['id']}) {when}.")


def _withdraw(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.notifications.withdraw_announcement(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"Withdrawn. {counted(made['written'], 'email was', 'emails were')} written before.")
