"""`dravo source`: sources, their tokens and exchange sheets; `dravo group`: what they brought."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from dravo.cli import source_import
from dravo.cli.output import command, facts, list_options, moment, noun, read_json, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "source", "places that know people, their push tokens and exchange sheets")
    list_options(command(verbs, "list", _list, "list sources"))
    add = command(verbs, "add", _add, "add a source that pushes", ["dravo source add staff --label 'Staff directory'"])
    add.add_argument("key", help="stands in addresses and never changes")
    add.add_argument("--label", required=True, help="a name for people")
    change = command(
        verbs, "change", _change, "change a source's label or the email domains that it owns",
        ["dravo source change staff --domain fernhollow.example"],
    )  # fmt: skip
    change.add_argument("key")
    change.add_argument("--label", help="the new label")
    change.add_argument(
        "--domain",
        dest="domains",
        action="append",
        metavar="DOMAIN",
        help="a domain that the source owns; repeat to give all; '' removes all",
    )
    sheet = command(verbs, "checklist", _sheet, "print the exchange sheet: what to give to the other side, and what traffic has shown")
    sheet.add_argument("key")
    sheet.add_argument("--to-send", action="store_true", help="only what goes to whoever runs the other side, as text to send")
    remove = command(verbs, "remove", _remove, "remove a source that has brought nobody")
    remove.add_argument("key")
    tokens = command(verbs, "tokens", _tokens, "list a source's push tokens")
    tokens.add_argument("key")
    list_options(tokens)
    new = command(
        verbs, "create-token", _new_token, "make a push token, shown this once", ["dravo source create-token staff --label 'Provider, 2031'"]
    )
    new.add_argument("key")
    new.add_argument("--label", required=True)
    new.add_argument("--expires", metavar="INSTANT", help="such as 2031-12-31T00:00:00Z")
    new.add_argument("--for", dest="kinds", choices=("users", "groups", "both"), default="both", help="what it opens (default both)")
    new.add_argument("--read-only", action="store_true", help="it may not write")
    requests = command(
        verbs, "requests", _requests, "what a source asked for, and what it led to",
        ["dravo source requests staff --outcome refused", "dravo source requests staff zofia"],
    )  # fmt: skip
    requests.add_argument("key")
    requests.add_argument("words", nargs="?", help="a part of the path, the outcome or the body")
    requests.add_argument("--outcome", choices=("refused", "changed", "read"))
    list_options(requests)
    request = command(verbs, "request", _request, "one request whole, its body too")
    request.add_argument("key")
    request.add_argument("id")
    schemas = command(verbs, "schemas", _schemas, "list the extension schemas of a source")
    schemas.add_argument("key")
    schema = command(verbs, "add-schema", _add_schema, "add an extension schema", ["dravo source add-schema staff garden.json --to groups"])
    schema.add_argument("key")
    schema.add_argument("file", help="the schema as JSON (RFC 7643, section 7); - for standard input")
    schema.add_argument("--to", choices=("users", "groups"), default="users")
    less = command(verbs, "remove-schema", _remove_schema, "remove an extension schema")
    less.add_argument("key")
    less.add_argument("urn")
    revoke = command(verbs, "revoke-token", _revoke, "revoke a push token")
    revoke.add_argument("key")
    revoke.add_argument("token_id")
    source_import.add_verbs(verbs)


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    domains = None if given.domains is None else [each for each in given.domains if each]
    changed = dravo.sources.change(given.key, given.label, domains)
    if given.json:
        show_json(changed)
        return
    for each in changed["shared_domains"]:
        others = ", ".join(other["label"] for other in each["sources"])
        print(
            f"Warning: {others} also owns {each['domain']}. Dravo trusts both for emails of this domain. Where both let users sign in, users choose.",
            file=sys.stderr,
        )
    facts({"Key": changed["key"], "Label": changed["label"], "Owned domains": ", ".join(changed["domains"]) or "none"})


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Key": lambda s: s["key"],
        "Label": lambda s: s["label"],
        "Connection type": lambda s: f"{s['connection_type']} ({s['read_as']})" if s["read_as"] else s["connection_type"],
        "Users": lambda s: s["people"],
        "Groups": lambda s: s["groups"],
        "Last activity (UTC)": lambda s: moment(s["last_activity_at"]),
    }
    show_list(given, dravo.sources.list(), columns, "There is no source yet: dravo source add KEY --label LABEL")


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sources.add(given.key, given.label)
    if given.json:
        show_json(made)
    else:
        print(f"Added '{made['label']}'. Next, if it calls us: dravo source create-token {made['key']} --label LABEL")
        print(f"If we are to read it: dravo source set-import {made['key']} ldap|scim|csv --set NAME=VALUE")
        print(f"If people are to sign in by it: dravo sign-in set {made['key']} --protocol saml|oidc|mail")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove(given.key)
    print(f"Removed '{given.key}'.")


def _sheet(given: argparse.Namespace, dravo: Dravo) -> None:
    sheet = dravo.sources.sheet(given.key)
    if given.json:
        show_json(sheet)
        return
    if given.to_send:
        print(sheet["text"], end="")
        return
    print(f"Exchange sheet of '{sheet['source']['label']}'\n\nGive to the other side:\n")
    facts({line["name"]: line["value"] for line in sheet["give"]})
    print(f"\nTokens in force: {sheet['usable_tokens']}\n\nSwitch on there:\n")
    for line in sheet["provider_steps"]:
        print(f"- {line}")
    print("\nSeen to work:\n")
    for tick in sheet["ticks"]:
        print(f"[{'x' if tick['first_at'] else ' '}] {tick['label']:<36} {moment(tick['first_at'])}")
    for trouble in sheet["trouble"]:
        print(f"\n{moment(trouble['at'])} UTC: {trouble['message']}")


def _tokens(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda k: k["id"],
        "Label": lambda k: k["label"],
        "Begins with": lambda k: f"dravo_push_{k['prefix']}_",
        "For": lambda k: f"{k['kinds']}, {k['access']}",
        "Made (UTC)": lambda k: moment(k["created_at"]),
        "Expires": lambda k: moment(k["expires_at"]),
        "Last used": lambda k: moment(k["last_used_at"]),
        "Revoked": lambda k: moment(k["revoked_at"]),
    }
    show_list(given, dravo.sources.tokens(given.key), columns, "It has no token yet.")


def _new_token(given: argparse.Namespace, dravo: Dravo) -> None:
    access = "read" if given.read_only else "write"
    made = dravo.sources.add_token(given.key, given.label, given.expires, kinds=given.kinds, access=access)
    if given.json:
        show_json(made)
    else:
        print(f"The token, shown this once:\n\n{made['token']}\n")


def _revoke(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.revoke_token(given.key, given.token_id)
    print("Revoked.")


def _requests(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "At (UTC)": lambda r: moment(r["at"], seconds=True),
        "Request": lambda r: f"{r['method']} {r['path']}{'?' + r['query'] if r['query'] else ''}",
        "Answer": lambda r: r["status"],
        "What it did": lambda r: " ".join([r["outcome"], *_led_to(r)]),
        "ID": lambda r: r["id"],
    }
    show_list(given, dravo.sources.requests(given.key, words=given.words, outcome=given.outcome), columns, "No such request is kept.")


def _led_to(request: Any) -> list[str]:
    lines = []
    for person in request["people"]:
        lines += [f"{person['name']} gained {role}." for role in person["gained"]]
        lines += [f"{person['name']} lost {role}." for role in person["lost"]]
    return [*lines, f"And {request['more']} more people."] if request["more"] else lines


def _request(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.request(given.key, given.id)
    if given.json:
        show_json(found)
        return
    facts({
        "At": found["at"], "Request": f"{found['method']} {found['path']}", "Query": found["query"], "Answer": found["status"],
        "Took": f"{found['milliseconds']} ms", "What it did": found["outcome"],
    })  # fmt: skip
    for line in _led_to(found):
        print(f"- {line}")
    for manner in found["quirks"]:
        print(f"Its own way of saying it: {manner}")
    if found["body"]:
        print(f"\n{found['body']}")


def _schemas(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.schemas(given.key)
    if given.json:
        show_json(found)
    elif found:
        names = {
            "URN": lambda s: s["urn"],
            "Of": lambda s: s["kind"],
            "Attributes": lambda s: ", ".join(a["name"] for a in s["document"]["attributes"]),
        }
        table(names, found)
    else:
        print("It has the standard schemas only.")


def _add_schema(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.add_schema(given.key, "User" if given.to == "users" else "Group", read_json(given.file))
    print(f"Added. '{given.key}' may send it from now on.")


def _remove_schema(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove_schema(given.key, given.urn)
    print("Removed.")
