"""Connections of applications: `dravo application connect`, `test-connection` and `available-roles`."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.applications.application_settings import show_application
from dravo.cli.errors import FAILED
from dravo.cli.output import command, moment, read_secret, read_text, show_json, show_steps, table
from dravo.client import Dravo


def add_connection(verbs: Any) -> None:
    """Add the commands to those of applications."""
    _declare_connect(verbs)
    _declare_test_connection(verbs)
    _declare_available_roles(verbs)
    checklist = command(
        verbs,
        "checklist",
        _checklist,
        "show what both sides need, what is missing, and what traffic has verified",
        ["dravo application checklist plant-records", "dravo application checklist plant-records --text"],
    )
    checklist.add_argument("key", help="key of the application")
    checklist.add_argument(
        "--text",
        action="store_true",
        help="print the checklist to send to the administrator of the application",
    )


def _declare_connect(verbs: Any) -> None:
    parser = command(
        verbs,
        "connect",
        _connect,
        "save the SCIM base URL and the token; asks for the token, or reads it from standard input",
        ["dravo application connect plant-records https://records.fernhollow.example/scim/v2 < token-file"],
    )
    parser.add_argument("key", help="key of the application")
    parser.add_argument("address", help="SCIM base URL of the application")
    parser.add_argument(
        "--keep-token",
        action="store_true",
        help="keep the saved token; works only if the host stays the same",
    )
    parser.add_argument(
        "--without-token",
        action="store_true",
        help="save the address before the token is known; provisioning starts once it is entered",
    )
    parser.add_argument(
        "--user",
        metavar="NAME",
        help="authenticate with this user name and a password; asks for the password",
    )
    parser.add_argument(
        "--client-id",
        metavar="ID",
        help="authenticate with OAuth 2.0 client credentials; asks for the client secret",
    )
    parser.add_argument("--preview", action="store_true", help="check the connection, and save nothing")
    parser.add_argument("--token-url", metavar="URL", help="token URL, with --client-id")
    parser.add_argument("--scope", help="scope, with --client-id (default: none)")
    parser.add_argument(
        "--ca", metavar="FILE", help="PEM file of the application's own CA (default: public ones)"
    )
    parser.add_argument(
        "--expires-at",
        metavar="INSTANT",
        help="expiry of the secret, such as 2031-12-31T00:00:00Z (default: unknown)",
    )


def _declare_test_connection(verbs: Any) -> None:
    parser = command(verbs, "test-connection", _test_connection, "check the connection step by step")
    parser.add_argument("key", help="key of the application")
    parser.add_argument(
        "--with-test-user", action="store_true", help="also create, update and delete a test account"
    )


def _declare_available_roles(verbs: Any) -> None:
    parser = command(
        verbs,
        "available-roles",
        _available_roles,
        "list the roles, entitlements and groups that the application has, as read by the last connection "
        "check or reconciliation",
    )
    parser.add_argument("key", help="key of the application")


def _connect(given: argparse.Namespace, dravo: Dravo) -> int:
    token = None
    if not given.keep_token and not given.without_token:
        token = read_secret("Token of the application: ").strip()
    auth: dict[str, Any] | None = {"kind": "basic", "user": given.user} if given.user else None
    if given.client_id:
        auth = {
            "kind": "client_credentials",
            "token_url": given.token_url,
            "client_id": given.client_id,
            "scope": given.scope,
        }
    if given.ca:
        auth = {**(auth or {"kind": "bearer"}), "ca": read_text(given.ca)}
    if given.preview:
        return _show_check(
            given, dravo.applications.preview_connection(given.key, given.address, token, auth=auth)
        )
    show_application(
        given,
        dravo.applications.connect(given.key, given.address, token, auth=auth, expires_at=given.expires_at),
    )
    return 0


def _test_connection(given: argparse.Namespace, dravo: Dravo) -> int:
    return _show_check(given, dravo.applications.check(given.key, with_test_user=given.with_test_user))


def _available_roles(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.applications.available_roles(given.key)
    if given.json:
        show_json(found)
        return
    if not found["seen_at"]:
        print(f"The application was not read yet. Run 'dravo application test-connection {given.key}'.")
        return
    columns = {
        "Attribute": lambda r: r["attribute"],
        "Value": lambda r: r["value"],
        "Label": lambda r: r["label"],
        "Accounts": lambda r: r["accounts"],
        "Role": lambda r: r["role"],
    }
    if found["items"]:
        table(columns, found["items"])
    else:
        print("The accounts that were read have no roles and entitlements, and there are no groups.")
    sample = "" if found["complete"] else ", a sample of its accounts"
    print(f"Read {moment(found['seen_at'])} UTC{sample}.")
    if found["missing"]:
        print(f"The application lists no value of: {', '.join(found['missing'])}.")


def _show_check(given: argparse.Namespace, result: Any) -> int:
    if given.json:
        show_json(result)
    else:
        show_steps(result["steps"])
    return 0 if result["ok"] else FAILED


def _checklist(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.applications.checklist(given.key)
    if given.json:
        show_json(found)
        return
    if given.text:
        print(found["text"], end="")
        return
    if found["give"]:
        print("For the administrator of the application:\n")
        table({"Name": lambda v: v["name"], "Value": lambda v: v["value"]}, found["give"])
        print("\nWhat you need from there:\n")
        for each in found["get"]:
            print(f"- {each}")
    if found["missing"]:
        print("\nTo do here:\n")
        for step in found["missing"]:
            print(f"- {step['message']} {step['hint']}")
    for trouble in found["trouble"]:
        print(f"\n{moment(trouble['at'])} UTC: {trouble['message']}")
    print("\nVerified by traffic:\n")
    columns = {
        "Step": lambda t: t["label"],
        "First (UTC)": lambda t: moment(t["first_at"]) if t["first_at"] else "not yet",
    }
    table(columns, found["ticks"])
