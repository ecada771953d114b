"""`dravo source`: sources, their tokens, requests and setup checklists."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from dravo.cli.access.assignment import show_preview
from dravo.cli.group import MEMBERS_FROM, MEMBERS_FROM_HELP, MEMBERS_FROM_WORDS
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    list_options,
    moment,
    noun,
    read_json,
    show_json,
    show_list,
    table,
)
from dravo.cli.sources import lifecycle, source_import, source_policy
from dravo.client import Dravo

# The next command, by connection type.
_NEXT = {
    "inbound_scim": "dravo source create-token {} --label LABEL",
    "import": "dravo source set-import {} ldap|scim|csv --set NAME=VALUE",
    "sign_in": "dravo sign-in set {} --protocol saml|oidc|email_code",
}


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "source", "sources, their SCIM tokens and setup checklists")
    list_options(command(verbs, "list", _list, "list sources"))
    shown = command(verbs, "show", _show, "show one source with its numbers")
    shown.add_argument("key", help="key of the source")
    _declare_add(verbs)
    _declare_change(verbs)
    _declare_set_priority(verbs)
    _declare_checklist(verbs)
    _declare_remove(verbs)
    _declare_tokens(verbs)
    _declare_create_token(verbs)
    _declare_requests(verbs)
    _declare_request(verbs)
    _declare_schemas(verbs)
    _declare_add_schema(verbs)
    _declare_remove_schema(verbs)
    _declare_revoke_token(verbs)
    source_import.add_verbs(verbs)
    source_policy.add_verbs(verbs)
    lifecycle.add_verbs(verbs)


def _declare_add(verbs: Any) -> None:
    parser = command(
        verbs,
        "add",
        _add,
        "add a source",
        [
            "dravo source add staff --label 'Staff directory'",
            "dravo source add estates --label Estates --connection-type import",
            "dravo source add estates --label Estates --template ldap-group-of-names",
        ],
    )
    parser.add_argument("key", help="key for URLs; it cannot be changed later")
    parser.add_argument("--label", required=True, help="label")
    parser.add_argument(
        "--connection-type",
        choices=tuple(_NEXT),
        default="inbound_scim",
        help="first connection type: inbound_scim, import or sign_in (default inbound_scim)",
    )
    parser.add_argument(
        "--template", help="key of a source template; it decides the connection type and presets settings"
    )
    command(verbs, "templates", _templates, "list the source templates: preset values for a new source")


def _declare_change(verbs: Any) -> None:
    parser = command(
        verbs,
        "change",
        _change,
        "change the label, the email domains or the note of a source",
        ["dravo source change staff --domain fernhollow.example"],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("--label", help="the new label")
    parser.add_argument(
        "--domain",
        dest="domains",
        action="append",
        metavar="DOMAIN",
        help="email domain of the source; repeat for all domains; '' removes all",
    )
    parser.add_argument("--note", help="note for other operators; '' removes it")


def _declare_set_priority(verbs: Any) -> None:
    parser = command(
        verbs,
        "set-priority",
        _set_priority,
        "change the priority of a source among several that report one user",
        [
            "dravo source set-priority staff --priority 10 --preview",
            "dravo source set-priority staff --deactivation-wins yes",
        ],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument(
        "--priority", type=int, metavar="N", help="priority, 0 to 1000; the lowest number wins"
    )
    parser.add_argument(
        "--deactivation-wins",
        choices=("yes", "no"),
        help="yes: an inactive record deactivates the user, whatever other sources report",
    )
    parser.add_argument(
        "--updates", choices=("yes", "no"), help="no: the source never changes users of other sources"
    )
    parser.add_argument("--members-from", choices=MEMBERS_FROM, help=MEMBERS_FROM_HELP)
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the source; required if the change is serious"
    )


def _declare_checklist(verbs: Any) -> None:
    parser = command(
        verbs,
        "checklist",
        _checklist,
        "print the setup checklist: values for the provider, and what is verified",
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument(
        "--to-send", action="store_true", help="print only the text for the administrator of the provider"
    )


def _declare_remove(verbs: Any) -> None:
    parser = command(verbs, "remove", _remove, "delete a source without users and groups")
    parser.add_argument("key", help="key of the source")


def _declare_tokens(verbs: Any) -> None:
    parser = command(verbs, "tokens", _tokens, "list the SCIM tokens of a source")
    parser.add_argument("key", help="key of the source")
    list_options(parser)


def _declare_create_token(verbs: Any) -> None:
    parser = command(
        verbs,
        "create-token",
        _create_token,
        "create a SCIM token; prints it once",
        ["dravo source create-token staff --label 'Provider, 2031'"],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("--label", required=True, help="label of the token")
    parser.add_argument(
        "--expires-at", metavar="INSTANT", help="expiry, such as 2031-12-31T00:00:00Z (default: never)"
    )
    parser.add_argument(
        "--kinds",
        choices=("users", "groups", "both"),
        default="both",
        help="resources that the token can access (default both)",
    )
    parser.add_argument(
        "--access",
        choices=("read", "write"),
        default="write",
        help="read, or write, which includes reading (default write)",
    )


def _declare_requests(verbs: Any) -> None:
    parser = command(
        verbs,
        "requests",
        _requests,
        "list the SCIM requests of a source and their results",
        ["dravo source requests staff --outcome refused", "dravo source requests staff zofia"],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("words", nargs="?", help="a part of the path, the outcome or the body")
    parser.add_argument(
        "--outcome",
        choices=("refused", "changed", "read"),
        help="only requests with this outcome: refused, changed or read",
    )
    list_options(parser)


def _declare_request(verbs: Any) -> None:
    parser = command(verbs, "request", _request, "show one request with its body")
    parser.add_argument("key", help="key of the source")
    parser.add_argument("id", help="ID of the request, as in 'dravo source requests'")


def _declare_schemas(verbs: Any) -> None:
    parser = command(verbs, "schemas", _schemas, "list the extension schemas of a source")
    parser.add_argument("key", help="key of the source")


def _declare_add_schema(verbs: Any) -> None:
    parser = command(
        verbs,
        "add-schema",
        _add_schema,
        "add an extension schema",
        ["dravo source add-schema staff garden.json --to groups"],
    )
    parser.add_argument("key", help="key of the source")
    parser.add_argument("file", help="the schema as JSON (RFC 7643, section 7); - for standard input")
    parser.add_argument(
        "--to",
        choices=("users", "groups"),
        default="users",
        help="resource type that gets the schema: users or groups",
    )


def _declare_remove_schema(verbs: Any) -> None:
    parser = command(verbs, "remove-schema", _remove_schema, "remove an extension schema")
    parser.add_argument("key", help="key of the source")
    parser.add_argument("urn", help="URN of the schema")


def _declare_revoke_token(verbs: Any) -> None:
    parser = command(verbs, "revoke-token", _revoke_token, "revoke a SCIM token")
    parser.add_argument("key", help="key of the source")
    parser.add_argument("token_id", help="ID of the token, as in 'dravo source tokens'")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    domains = None if given.domains is None else [each for each in given.domains if each]
    changed = dravo.sources.change(given.key, given.label, domains, given.note)
    if given.json:
        show_json(changed)
        return
    for each in changed["shared_domains"]:
        others = ", ".join(other["label"] for other in each["sources"])
        print(
            f"Warning: {others} also owns {each['domain']}. Dravo trusts both for emails of this "
            "domain. If both have sign-in, users choose one.",
            file=sys.stderr,
        )
    facts(
        {
            "Key": changed["key"],
            "Label": changed["label"],
            "Domains": ", ".join(changed["domains"]) or "none",
            "Note": changed["note"] or "none",
        }
    )


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Key": lambda s: s["key"],
        "Label": lambda s: s["label"],
        "Connection type": lambda s: (
            f"{s['connection_type']} ({s['read_as']})" if s["read_as"] else s["connection_type"]
        ),
        "Users": lambda s: s["users"],
        "Groups": lambda s: s["groups"],
        "Last activity (UTC)": lambda s: moment(s["last_activity_at"]),
    }
    show_list(given, dravo.sources.list(), columns, "No sources. Add one: dravo source add KEY --label LABEL")


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sources.add(given.key, given.label, given.connection_type, given.template)
    if given.json:
        show_json(made)
    else:
        print(f"Added '{made['label']}'. Next: {_next(dravo, given, made['key'])}")


def _next(dravo: Dravo, given: argparse.Namespace, key: str) -> str:
    """Return the command that follows when a source was added."""
    if not given.template:
        return _NEXT[given.connection_type].format(key)
    chosen = next(each for each in dravo.sources.templates()["items"] if each["key"] == given.template)
    if chosen["protocol"]:
        return f"dravo sign-in set {key}. Guide: docs/guides/{chosen['guide']}.md"
    following = _NEXT[chosen["connection_type"]].format(key)
    if chosen["connector"]:
        following = following.replace("ldap|scim|csv", chosen["connector"])
    return f"{following}. Guide: docs/guides/{chosen['guide']}.md"


def _templates(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Template": lambda t: t["key"],
        "Connection type": lambda t: t["connection_type"],
        "Label": lambda t: t["label"],
        "Description": lambda t: t["description"],
    }
    found = dravo.sources.templates()
    if given.json:
        show_json(found)
    else:
        table(columns, found["items"])


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove(given.key)
    print(f"Removed '{given.key}'.")


def _set_priority(given: argparse.Namespace, dravo: Dravo) -> None:
    values: dict[str, Any] = {} if given.priority is None else {"priority": given.priority}
    for name in ("deactivation_wins", "updates"):
        if (value := getattr(given, name)) is not None:
            values[name] = value == "yes"
    if given.members_from is not None:
        values["members_from"] = given.members_from
    if not values:
        raise UsageError("No value given. Use --priority, --deactivation-wins, --updates or --members-from.")
    if given.preview:
        show_preview(given, dravo.sources.preview_priority(given.key, **values))
        return
    changed = dravo.sources.change_priority(given.key, confirm=given.confirm, **values)
    if given.json:
        show_json(changed)
        return
    facts(
        {
            "Key": changed["key"],
            "Priority": str(changed["priority"]),
            "Deactivation wins": "yes" if changed["deactivation_wins"] else "no",
            "Updates users of other sources": "yes" if changed["updates"] else "no",
            "Group members from": MEMBERS_FROM_WORDS[changed["members_from"]],
        }
    )


def _checklist(given: argparse.Namespace, dravo: Dravo) -> None:
    checklist = dravo.sources.checklist(given.key)
    if given.json:
        show_json(checklist)
        return
    if given.to_send:
        print(checklist["text"], end="")
        return
    print(f"Setup checklist of '{checklist['source']['label']}'\n\nValues for the identity provider:\n")
    facts({line["name"]: line["value"] for line in checklist["give"]})
    for warning in checklist["warnings"]:
        print(f"Warning: {warning}")
    print(f"\nActive tokens: {checklist['usable_tokens']}\n\nSteps at the identity provider:\n")
    for line in checklist["provider_steps"]:
        print(f"- {line}")
    print("\nVerified by traffic:\n")
    for tick in checklist["ticks"]:
        print(f"[{'x' if tick['first_at'] else ' '}] {tick['label']:<36} {moment(tick['first_at'])}")
    for trouble in checklist["trouble"]:
        print(f"\n{moment(trouble['at'])} UTC: {trouble['message']}")


def _tokens(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda k: k["id"],
        "Label": lambda k: k["label"],
        "Prefix": lambda k: f"dravo_push_{k['prefix']}_",
        "For": lambda k: f"{k['kinds']}, {k['access']}",
        "Created (UTC)": lambda k: moment(k["created_at"]),
        "By": lambda k: k["created_by"],
        "Expires": lambda k: moment(k["expires_at"]),
        "Last used": lambda k: moment(k["last_used_at"]),
        "Revoked": lambda k: moment(k["revoked_at"]),
    }
    show_list(given, dravo.sources.tokens(given.key), columns, "No tokens.")


def _create_token(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sources.add_token(
        given.key, given.label, given.expires_at, kinds=given.kinds, access=given.access
    )
    if given.json:
        show_json(made)
    else:
        print(f"Token (shown only once):\n\n{made['token']}\n")


def _revoke_token(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.revoke_token(given.key, given.token_id)
    print("Revoked.")


def _requests(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Time (UTC)": lambda r: moment(r["at"], seconds=True),
        "Request": lambda r: f"{r['method']} {r['path']}{'?' + r['query'] if r['query'] else ''}",
        "Response": lambda r: r["status"],
        "Result": lambda r: " ".join([r["outcome"], *_led_to(r)]),
        "ID": lambda r: r["id"],
    }
    show_list(
        given,
        dravo.sources.requests(given.key, words=given.words, outcome=given.outcome),
        columns,
        "No matching requests.",
    )


def _led_to(request: Any) -> list[str]:
    lines = []
    for user in request["users"]:
        lines += [f"{user['name']} gained {role}." for role in user["gained"]]
        lines += [f"{user['name']} lost {role}." for role in user["lost"]]
    return [*lines, f"And {request['more']} more users."] if request["more"] else lines


def _request(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.request(given.key, given.id)
    if given.json:
        show_json(found)
        return
    facts(
        {
            "Time": found["at"],
            "Request": f"{found['method']} {found['path']}",
            "Query": found["query"],
            "Response": found["status"],
            "Duration": f"{found['milliseconds']} ms",
            "Result": found["outcome"],
        }
    )
    for line in _led_to(found):
        print(f"- {line}")
    for manner in found["quirks"]:
        print(f"Deviation from the standard: {manner}")
    if found["body"]:
        print(f"\n{found['body']}")


def _schemas(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.schemas(given.key)
    if given.json:
        show_json(found)
    elif found:
        names = {
            "URN": lambda s: s["urn"],
            "Resource type": lambda s: s["kind"],
            "Attributes": lambda s: ", ".join(a["name"] for a in s["document"]["attributes"]),
        }
        table(names, found)
    else:
        print("No schema extensions.")


def _add_schema(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.add_schema(given.key, "User" if given.to == "users" else "Group", read_json(given.file))
    print(f"Added. '{given.key}' can send its attributes from now on.")


def _remove_schema(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove_schema(given.key, given.urn)
    print("Removed.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    source = dravo.sources.get(given.key)
    if given.json:
        show_json(source)
        return
    facts(
        {
            "Source": f"{source['label']} ({source['key']})",
            "Connection type": source["connection_type"],
            "Users": source["users"],
            "Groups": source["groups"],
            "Domains": ", ".join(source["domains"]),
        }
    )
