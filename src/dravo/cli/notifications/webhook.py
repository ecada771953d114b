"""`dravo webhook`: addresses to which events are posted."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import UsageError, command, list_options, moment, noun, show_json, show_list
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "webhook", "addresses to which events are posted")
    list_options(command(verbs, "list", _list, "list webhooks"))
    create = command(
        verbs,
        "create",
        _create,
        "create a webhook; prints its secret once",
        ["dravo webhook create --label 'Duty desk' --to https://desk.fernhollow.example/events"],
    )
    create.add_argument("--label", required=True, help="name of the webhook")
    create.add_argument(
        "--to", dest="receiver", metavar="URL", required=True, help="URL to which events are posted"
    )
    change = command(verbs, "change", _change, "change a webhook; omitted options keep their value")
    change.add_argument("id", metavar="ID", help="ID of the webhook")
    change.add_argument("--label", help="name of the webhook")
    change.add_argument("--to", dest="receiver", metavar="URL", help="URL to which events are posted")
    for name, run, text in (
        ("enable", _enable, "enable a webhook"),
        ("disable", _disable, "disable a webhook: it gets no messages"),
        ("rotate-secret", _rotate, "replace the secret; prints the new one once"),
        ("test", _test, "post a test message and print the answer"),
        ("delete", _delete, "delete a webhook that no rule names"),
    ):
        command(verbs, name, run, text).add_argument("id", metavar="ID", help="ID of the webhook")
    command(verbs, "schema", _schema, "print the JSON Schema of the messages")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda w: w["id"],
        "Label": lambda w: w["label"],
        "URL": lambda w: w["url"],
        "Status": lambda w: "enabled" if w["enabled"] else "disabled",
        "Last accepted (UTC)": lambda w: moment(w["sent_at"]),
        "Failing since (UTC)": lambda w: moment(w["failing_since"]),
        "Last error": lambda w: w["trouble"],
    }
    show_list(given, dravo.notifications.webhooks(), columns, "No webhooks.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_secret(given, dravo.notifications.create_webhook(given.label, given.receiver))


def _rotate(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_secret(given, dravo.notifications.rotate_webhook_secret(given.id))


def _show_secret(given: argparse.Namespace, made: Any) -> None:
    if given.json:
        show_json(made)
    else:
        print(f"Webhook '{made['label']}' ({made['id']}). Secret (shown only once):\n\n{made['secret']}\n")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = {"label": given.label, "url": given.receiver}
    wish = {name: value for name, value in wish.items() if value is not None}
    if not wish:
        raise UsageError("No change given. See 'dravo webhook change --help'.")
    _show(given, dravo.notifications.change_webhook(given.id, **wish))


def _enable(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.notifications.change_webhook(given.id, enabled=True))


def _disable(given: argparse.Namespace, dravo: Dravo) -> None:
    _show(given, dravo.notifications.change_webhook(given.id, enabled=False))


def _show(given: argparse.Namespace, changed: Any) -> None:
    if given.json:
        show_json(changed)
    else:
        print(f"Webhook '{changed['label']}' is {'enabled' if changed['enabled'] else 'disabled'}.")


def _test(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.notifications.test_webhook(given.id)
    if given.json:
        show_json(found)
    else:
        print(f"The webhook answered {found['status']}. {found['answer']}".strip())


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.notifications.delete_webhook(given.id)
    print("Deleted the webhook.")


def _schema(given: argparse.Namespace, dravo: Dravo) -> None:
    show_json(dravo.notifications.webhook_schema())
