"""`dravo mail`: the email server, a test email, and the texts of emails."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import UsageError, command, moment, noun, read_secret, show_json, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "mail", "email server and texts of emails")
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
    _declare_texts(verbs)


def _declare_texts(verbs: Any) -> None:
    command(verbs, "texts", _texts, "list the texts of emails, and their placeholders")
    set_text = command(
        verbs,
        "set-text",
        _set_text,
        "change subject, greeting and footer of a kind of email",
        ["dravo mail set-text sign_in_code --subject '{organization}: {title}' --preview"],
    )
    set_text.add_argument("--subject", required=True, metavar="TEXT", help="the subject")
    set_text.add_argument("--greeting", default="", metavar="TEXT", help="text above the content")
    set_text.add_argument("--footer", default="", metavar="TEXT", help="text below the content")
    set_text.add_argument("--preview", action="store_true", help="print a sample email; change nothing")
    reset = command(verbs, "reset-text", _reset_text, "return to the text that ships with Dravo")
    for parser in (set_text, reset):
        parser.add_argument("kind", metavar="KIND", help="kind of email, as in 'dravo mail texts'")


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


def _texts(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_texts(given, dravo.notifications.texts())


def _show_texts(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    columns = {
        "Kind": lambda m: m["kind"],
        "Email": lambda m: m["label"],
        "Subject": lambda m: m["subject"],
        "Greeting": lambda m: m["greeting"],
        "Footer": lambda m: m["footer"],
        "Changed": lambda m: "yes" if m["changed"] else "no",
    }
    table(columns, found["items"])
    print("Placeholders:")
    for name, meaning in found["placeholders"].items():
        print(f"  {{{name}}}  {meaning}")


def _set_text(given: argparse.Namespace, dravo: Dravo) -> None:
    text = (given.kind, given.subject, given.greeting, given.footer)
    if given.preview:
        sample = dravo.notifications.preview_text(*text)
        if given.json:
            show_json(sample)
        else:
            print(f"Subject: {sample['subject']}\n\n{sample['text']}")
        return
    _show_texts(given, dravo.notifications.change_text(*text))


def _reset_text(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_texts(given, dravo.notifications.reset_text(given.kind))
