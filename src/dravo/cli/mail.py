"""`dravo mail`: the email server, and a test email."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import UsageError, command, moment, noun, read_secret, show_json
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mail", "email server")
    command(verbs, "show", _show, "show the email server and its status")
    change = command(
        verbs,
        "set",
        _set,
        "change the email server; omitted options keep their value",
        [
            "dravo mail set --host mail.fernhollow.example --port 587 --security starttls --sender "
            "dravo@fernhollow.example"
        ],
    )
    test = command(
        verbs, "test", _test, "send a test email", ["dravo mail test edmund.sallow@fernhollow.example"]
    )
    change.add_argument("--host", help="host name; empty: Dravo sends no email")
    change.add_argument("--port", type=int, metavar="N", help="port of the email server (default 587)")
    change.add_argument(
        "--security", choices=("none", "starttls", "tls"), help="encryption: tls, starttls or none"
    )
    change.add_argument("--user", help="user name (optional)")
    change.add_argument("--ask-password", action="store_true", help="ask for the password")
    change.add_argument("--sender", metavar="ADDRESS", help="sender address")
    test.add_argument("to", metavar="ADDRESS", help="email address of the recipient")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_settings(given, dravo.mail.get())


def _show_settings(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    if not found["host"]:
        print("No email server is configured. Dravo sends no email.")
        return
    who = (
        f", as {found['user']}{' with a password' if found['has_password'] else ' without a password'}"
        if found["user"]
        else ""
    )
    print(
        f"Email server {found['host']}, port {found['port']}, {found['security']}{who}, sender "
        f"{found['sender']}."
    )
    print(
        f"Last sent (UTC): {moment(found['sent_at']) if found['sent_at'] else 'never'}; waiting: "
        f"{found['waiting']}"
    )
    if found["trouble"]:
        print(f"Last error, {moment(found['trouble_at'])} UTC: {found['trouble']}")


def _set(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = {
        name: getattr(given, name)
        for name in ("host", "port", "security", "user", "sender")
        if getattr(given, name) is not None
    }
    if given.ask_password:
        wish["password"] = read_secret("Password of the email server: ")
    if not wish:
        raise UsageError("No setting given. See 'dravo mail set --help' for all settings.")
    _show_settings(given, dravo.mail.change(**wish))


def _test(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.mail.test(given.to)
    if given.json:
        show_json(found)
    else:
        print(f"The server accepted the email to {found['sent_to']}. Check that it arrives.")
