"""`dravo mail`: by which server mail goes, and a test."""

from __future__ import annotations

import argparse
import getpass
from typing import Any

from dravo.cli.output import UsageError, command, moment, noun, show_json
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mail", "by which server mail goes")
    command(verbs, "show", _show, "show the mail server, and how mail went last")
    change = command(
        verbs, "set", _set, "set the mail server; what is left out stays",
        ["dravo mail set --host mail.fernhollow.example --port 587 --security starttls --sender dravo@fernhollow.example"],
    )  # fmt: skip
    test = command(verbs, "test", _test, "send one letter now", ["dravo mail test edmund.sallow@fernhollow.example"])
    change.add_argument("--host", help="its name; an empty one: no mail is sent")
    change.add_argument("--port", type=int, metavar="N")
    change.add_argument("--security", choices=("none", "starttls", "tls"))
    change.add_argument("--user", help="where it asks for one")
    change.add_argument("--ask-password", action="store_true", help="ask for its password")
    change.add_argument("--sender", metavar="ADDRESS", help="the address that stands as the sender")
    test.add_argument("to", metavar="ADDRESS")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _shown(given, dravo.mail.get())


def _shown(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    if not found["host"]:
        print("No mail server is set: nothing is mailed.")
        return
    who = f", as {found['user']}{' with a password' if found['has_password'] else ' without a password'}" if found["user"] else ""
    print(f"Mail goes by {found['host']}, port {found['port']}, {found['security']}{who}, from {found['sender']}.")
    print(f"Sent last (UTC): {moment(found['sent_at']) if found['sent_at'] else 'never'}; waiting: {found['waiting']}")
    if found["trouble"]:
        print(f"Trouble, {moment(found['trouble_at'])} UTC: {found['trouble']}")


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = {name: getattr(given, name) for name in ("host", "port", "security", "user", "sender") if getattr(given, name) is not None}
    if given.ask_password:
        wish["password"] = getpass.getpass("Password of the mail server: ")
    if not wish:
        raise UsageError("Nothing to change; see 'dravo mail set --help' for what there is.")
    _shown(given, dravo.mail.change(**wish))


def _test(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.mail.test(given.to)
    if given.json:
        show_json(found)
    else:
        print(f"The server took a letter to {found['sent_to']}. See whether it arrives.")
