"""`dravo notification`: events, the rules that report them, and the messages that were sent."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import (
    UsageError,
    command,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    table,
)
from dravo.client import Dravo

OWNERS = "owners"
# A longer list of kinds is printed as a number; --json has them all.
MOST_KINDS = 4


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "notification", "events, notification rules and messages")
    _declare_events(verbs)
    _declare_rules(verbs)
    _declare_messages(verbs)


def _declare_events(verbs: Any) -> None:
    parser = command(
        verbs, "list", _list, "list events, newest first", ["dravo notification list --status open"]
    )
    parser.add_argument("--kind", metavar="KIND", help="only this kind, as in 'dravo notification kinds'")
    parser.add_argument(
        "--status", choices=("open", "solved", "happened"), help="only events with this status"
    )
    parser.add_argument("--application", metavar="KEY", help="only events about this application")
    parser.add_argument("--source", metavar="KEY", help="only events about this source")
    list_options(parser)
    command(verbs, "kinds", _kinds, "list the kinds of events")


def _declare_rules(verbs: Any) -> None:
    list_options(command(verbs, "rules", _rules, "list notification rules"))
    create = command(
        verbs,
        "create-rule",
        _create_rule,
        "create a notification rule",
        [
            "dravo notification create-rule --label 'Plant Records' --application plant-records --to owners",
            "dravo notification create-rule --label 'Daily summary' --to operators:auditor --frequency daily",
        ],
    )
    change = command(verbs, "change-rule", _change_rule, "replace a notification rule")
    change.add_argument("id", metavar="ID", help="ID of the rule")
    for parser in (create, change):
        parser.add_argument("--label", required=True, help="name of the rule")
        parser.add_argument(
            "--to",
            dest="recipients",
            action="append",
            required=True,
            metavar="RECIPIENT",
            help="owners, operators:ROLE, an email address, or webhook:ID; repeat for several",
        )
        parser.add_argument(
            "--kind",
            dest="kinds",
            action="append",
            metavar="KIND",
            help="kind of event; repeat (default all)",
        )
        parser.add_argument(
            "--application",
            dest="applications",
            action="append",
            metavar="KEY",
            help="only events about this application; repeat (default: all)",
        )
        parser.add_argument(
            "--source",
            dest="sources",
            action="append",
            metavar="KEY",
            help="only events about this source; repeat (default: all)",
        )
        parser.add_argument(
            "--frequency",
            choices=("immediately", "hourly", "daily"),
            default="immediately",
            help="when emails are sent (default immediately)",
        )
        parser.add_argument("--disabled", action="store_true", help="create or leave the rule disabled")
    delete = command(verbs, "delete-rule", _delete_rule, "delete a notification rule")
    delete.add_argument("id", metavar="ID", help="ID of the rule")


def _declare_messages(verbs: Any) -> None:
    parser = command(
        verbs,
        "messages",
        _messages,
        "list emails and webhook messages, newest first",
        ["dravo notification messages --status failed"],
    )
    parser.add_argument("--channel", choices=("email", "webhook"), help="only emails or webhook messages")
    parser.add_argument("--kind", metavar="KIND", help="only this kind, as in 'dravo mail texts'")
    parser.add_argument(
        "--status",
        choices=("collected", "waiting", "sent", "failed", "expired", "unknown"),
        help="only messages with this status",
    )
    parser.add_argument("--words", metavar="TEXT", help="part of the recipient or the subject")
    list_options(parser)
    again = command(
        verbs,
        "send-again",
        _send_again,
        "send a message again, as a new one; a collected one now, in its summary",
    )
    again.add_argument("id", metavar="ID", help="ID of the message")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.notifications.list(
        kind=given.kind, status=given.status, application=given.application, source=given.source
    )
    columns = {
        "Since (UTC)": lambda e: moment(e["began_at"]),
        "Status": lambda e: e["status"],
        "Kind": lambda e: e["kind"],
        "Event": lambda e: e["title"],
        "Solved (UTC)": lambda e: moment(e["ended_at"]) if e["status"] == "solved" else None,
        "Messages": lambda e: e["messages"],
    }
    show_list(given, found, columns, "No events.")


def _kinds(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.notifications.kinds()
    if given.json:
        show_json(found)
        return
    columns = {
        "Kind": lambda k: k["key"],
        "Label": lambda k: k["label"],
        "About": lambda k: k["about"],
        "Reported as solved": lambda k: "yes" if k["lasts"] else "no",
    }
    table(columns, found)


def _rules(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda r: r["id"],
        "Label": lambda r: r["label"],
        "Events": lambda r: _shortly(r["kinds"]),
        "Applications": lambda r: "all" if r["applications"] is None else ", ".join(r["applications"]),
        "Sources": lambda r: "all" if r["sources"] is None else ", ".join(r["sources"]),
        "To": lambda r: "; ".join(each["label"] for each in r["recipients"]),
        "Frequency": lambda r: r["frequency"],
        "Status": lambda r: "enabled" if r["enabled"] else "disabled",
    }
    show_list(given, dravo.notifications.rules(), columns, "No rules. Nobody is notified.")


def _shortly(kinds: list[str] | None) -> str:
    if kinds is None:
        return "all"
    return ", ".join(kinds) if len(kinds) <= MOST_KINDS else f"{len(kinds)} kinds"


def _rule_of(given: argparse.Namespace) -> dict[str, Any]:
    return {
        "kinds": given.kinds,
        "applications": given.applications,
        "sources": given.sources,
        "frequency": given.frequency,
        "enabled": not given.disabled,
    }


def _recipients(texts: list[str]) -> list[dict[str, str]]:
    return [_recipient(each) for each in texts]


def _recipient(text: str) -> dict[str, str]:
    if text == OWNERS:
        return {"kind": OWNERS, "value": ""}
    kind, separator, value = text.partition(":")
    if separator and kind in ("operators", "webhook"):
        return {"kind": kind, "value": value}
    if "@" not in text:
        raise UsageError(
            f"'{text}' is not a recipient. Use owners, operators:ROLE, an email address, or webhook:ID."
        )
    return {"kind": "address", "value": text}


def _create_rule(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.notifications.create_rule(given.label, _recipients(given.recipients), **_rule_of(given))
    if given.json:
        show_json(made)
    else:
        print(f"Created the rule '{made['label']}' ({made['id']}).")


def _change_rule(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.notifications.change_rule(
        given.id, given.label, _recipients(given.recipients), **_rule_of(given)
    )
    if given.json:
        show_json(made)
    else:
        print(f"Changed the rule '{made['label']}'.")


def _delete_rule(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.notifications.delete_rule(given.id)
    print("Deleted the rule.")


def _messages(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.notifications.messages(
        channel=given.channel, kind=given.kind, status=given.status, words=given.words
    )
    columns = {
        "ID": lambda m: m["id"],
        "Written (UTC)": lambda m: moment(m["created_at"]),
        "Channel": lambda m: m["channel"],
        "To": lambda m: m["recipient"],
        "Subject": lambda m: m["subject"],
        "Status": lambda m: m["status"],
        "Attempts failed": lambda m: m["tries"],
        "Last error": lambda m: m["trouble"],
    }
    show_list(given, found, columns, "No messages.")


def _send_again(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.notifications.send_again(given.id)
    if given.json:
        show_json(made)
    else:
        print(f"The {made['channel']} message to {made['recipient']} is sent again.")
