"""`dravo source policy`: the source policy and the status of each connection type."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import (
    UsageError,
    command,
    facts,
    list_options,
    moment,
    read_json,
    show_json,
    show_list,
    table,
)
from dravo.cli.sources.import_runs import describe_change
from dravo.client import Dravo

TYPES = ("inbound_scim", "import", "sign_in")
_MATCH = {
    "ask": "an operator decides each conflict",
    "user_name": "the user name, within the domains",
    "email": "the email address, within the domains",
}
_REASONS = {
    "pending": "being looked at",
    "out_of_scope": "outside the scope",
    "not_a_member": "not a member of the groups of the scope",
    "not_in_pilot": "not in the pilot group",
    "disabled": "the source is disabled",
    "unknown_user": "no known user matches",
    "refused": "the attribute mapping has no user name",
    "handed_over": "handed over to another source",
    "erased": "a user who was erased",
    "change": "a change waits",
    "deactivation": "a deactivation waits",
    "deletion": "a deletion waits",
}


def add_verbs(verbs: Any) -> None:
    """Add the commands to those of sources."""
    shown = command(
        verbs,
        "policy",
        _policy,
        "show the policy of a source; --json prints the policy document",
        ["dravo source policy staff", "dravo source policy estates --json > policy.json"],
    )
    _key_and_type(shown)
    _declare_set_policy(verbs)
    _declare_set_status(verbs)
    out = command(
        verbs,
        "left-out",
        _left_out,
        "list records of inbound SCIM that do not count, with the reason",
        ["dravo source left-out staff --reason out_of_scope"],
    )
    out.add_argument("key", help="key of the source")
    out.add_argument("--reason", choices=tuple(_REASONS), help="only records with this reason (default: all)")
    list_options(out)
    match = command(
        verbs,
        "match-groups",
        _match_groups,
        "list the groups of a source that a pattern or a list of names matches now",
        [
            "dravo source match-groups staff --pattern '^Glasshouse'",
            "dravo source match-groups staff --name Botanists --name Herbarium",
        ],
    )
    match.add_argument("key", help="key of the source")
    choice = match.add_mutually_exclusive_group(required=True)
    choice.add_argument("--pattern", help="pattern of group names (RE2)")
    choice.add_argument("--name", action="append", help="name or ID of a group; repeat for several")
    _declare_links(verbs)


def _declare_links(verbs: Any) -> None:
    link = command(
        verbs,
        "link-ahead",
        _link_ahead,
        "link a subject to a user ahead of its first sign-in or import",
        ["dravo source link-ahead contractors s-77 zofia.wisniarska"],
    )
    link.add_argument("key", help="key of the source")
    link.add_argument("subject", help="subject at the provider, or ID in the source of an import")
    link.add_argument("user", help="user to link: ID, user name, email or external ID")
    link.add_argument(
        "--connection-type",
        choices=("sign_in", "import"),
        default="sign_in",
        help="connection type: sign_in or import (default sign_in)",
    )
    listing = command(verbs, "links", _links, "list links that wait for their first record")
    listing.add_argument("key", help="key of the source")
    list_options(listing)
    removal = command(verbs, "remove-link", _remove_link, "remove a link that waits for its first record")
    removal.add_argument("key", help="key of the source")
    removal.add_argument("link_id", help="ID of the link")


def _key_and_type(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("key", help="key of the source")
    parser.add_argument(
        "--connection-type",
        choices=TYPES,
        help="connection type: inbound_scim, import or sign_in (default: the only one of the source)",
    )


def _declare_set_policy(verbs: Any) -> None:
    parser = command(
        verbs,
        "set-policy",
        _set_policy,
        "change the policy of a source; omitted options keep their value",
        [
            "dravo source set-policy staff --scope 'department ne \"Estates\"' --preview",
            "dravo source set-policy staff --member-of 'Staff' --member-of 'Trainees'",
            "dravo source set-policy staff --attribute 'title=title then lower'",
        ],
    )
    _key_and_type(parser)
    parser.add_argument("--file", metavar="FILE", help="policy document as JSON; - for standard input")
    parser.add_argument("--match", choices=tuple(_MATCH), help="match rule: ask, user_name or email")
    parser.add_argument("--scope", metavar="FILTER", help="SCIM filter of the accepted users; '' accepts all")
    for option, what in (
        ("member-of", "group of which users must be members"),
        ("group", "group of the source that is accepted"),
    ):
        parser.add_argument(
            f"--{option}",
            action="append",
            metavar="GROUP",
            help=f"{what}, by name or ID; repeat for several; '' removes the condition",
        )
        parser.add_argument(f"--{option}-pattern", metavar="PATTERN", help=f"{what}, by pattern (RE2)")
    parser.add_argument(
        "--create-users", choices=("yes", "no"), help="whether users who are not known yet are created"
    )
    parser.add_argument("--pilot", metavar="GROUP", help="pilot group, by name or ID; '' removes it")
    parser.add_argument(
        "--attribute",
        action="append",
        default=[],
        metavar="NAME=EXPRESSION",
        help="expression for an attribute; repeat for several; NAME= removes it",
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _declare_set_status(verbs: Any) -> None:
    parser = command(
        verbs,
        "set-status",
        _set_status,
        "disable a source, enable it for its pilot group, or enable it for everyone",
        [
            "dravo source set-status staff pilot --preview",
            "dravo source set-status staff enabled",
            "dravo source set-status staff disabled --enabled-from 2026-12-01T06:00:00Z",
        ],
    )
    _key_and_type(parser)
    parser.add_argument("status", choices=("disabled", "pilot", "enabled"), help="new status")
    parser.add_argument("--enabled-from", metavar="TIME", help="time at which a disabled source is enabled")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the source; required for an untested sign-in"
    )


def _type(given: argparse.Namespace, dravo: Dravo) -> str:
    """Return the connection type that a command is about."""
    if given.connection_type is not None:
        return str(given.connection_type)
    used = [each["connection_type"] for each in dravo.sources.policies(given.key)]
    if len(used) != 1:
        known = ", ".join(used) or "none yet"
        raise UsageError(f"'{given.key}' has these connection types: {known}. Add --connection-type.")
    return used[0]


def _policy(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.policy(given.key, _type(given, dravo))
    if given.json:
        show_json(found["policy"])
        return
    _show(found)


def _show(found: Any) -> None:
    policy = found["policy"]
    facts(
        {
            "Connection type": found["connection_type"],
            "Status": found["status"]
            + (f", enabled from {moment(found['enabled_from'])}" if found["enabled_from"] else ""),
            "Match by": _MATCH[policy["match"]],
            "Domains": ", ".join(found["owned_domains"]) or "none",
            "Scope": policy["users"] or "all users",
            "Member of": _groups(policy["member_of"], "no condition"),
            "Accepted groups": _groups(policy["groups"], "all"),
            "Creates users": "yes" if policy["makes"] else "no",
            "Pilot group": policy["pilot"] or None,
            "Records that count": f"{found['accepted']:,}",
            "Left out": _numbers(found["left_out"]),
            "Waiting": _numbers(found["waiting"]),
            "Being looked at": f"{found['pending']:,}" if found["pending"] else None,
        }
    )
    if policy["attributes"]:
        print()
        table(
            {"Attribute": lambda row: row["attribute"], "Expression": lambda row: row["expression"]},
            policy["attributes"],
        )


def _groups(chosen: Any, everything: str) -> str:
    if chosen["which"] == "named":
        return ", ".join(chosen["names"])
    if chosen["which"] == "pattern":
        return f"pattern {chosen['pattern']}"
    return "none" if chosen["which"] == "none" else everything


def _numbers(numbers: dict[str, int]) -> str | None:
    return ", ".join(f"{number:,} ({_REASONS.get(name, name)})" for name, number in numbers.items()) or None


def _set_policy(given: argparse.Namespace, dravo: Dravo) -> None:
    connection_type = _type(given, dravo)
    wish = _wish(given, dravo, connection_type)
    if not wish:
        raise UsageError("There is nothing to change. Add at least one option, such as --scope.")
    if given.preview:
        found = dravo.sources.preview_policy(given.key, wish, connection_type)
        if given.json:
            show_json(found)
        else:
            _show_preview(found)
        return
    changed = dravo.sources.change_policy(given.key, wish, connection_type)
    if given.json:
        show_json(changed)
        return
    _show(changed)
    if connection_type == "inbound_scim":
        print("\nDravo applies the policy to all stored records in the background.")


def _wish(given: argparse.Namespace, dravo: Dravo, connection_type: str) -> dict[str, Any]:
    wish: dict[str, Any] = dict(read_json(given.file)) if given.file else {}
    for name, value in (("match", given.match), ("users", given.scope), ("pilot", given.pilot)):
        if value is not None:
            wish[name] = value
    for name, named, pattern in (
        ("member_of", given.member_of, given.member_of_pattern),
        ("groups", given.group, given.group_pattern),
    ):
        if pattern is not None:
            wish[name] = {"which": "pattern", "pattern": pattern} if pattern else {"which": "all"}
        elif named is not None:
            names = [each for each in named if each]
            wish[name] = {"which": "named", "names": names} if names else {"which": "all"}
    if given.create_users is not None:
        wish["makes"] = given.create_users == "yes"
    if given.attribute:
        kept = (
            wish.get("attributes") or dravo.sources.policy(given.key, connection_type)["policy"]["attributes"]
        )
        wish["attributes"] = _with_attributes(kept, given.attribute)
    return wish


def _with_attributes(kept: Any, wanted: list[str]) -> list[dict[str, str]]:
    rows = {each["attribute"]: each["expression"] for each in kept}
    for each in wanted:
        name, equals, expression = each.partition("=")
        if not equals:
            raise UsageError(f"'{each}' has no expression. Write NAME=EXPRESSION.")
        if expression.strip():
            rows[name.strip()] = expression.strip()
        else:
            rows.pop(name.strip(), None)
    return [{"attribute": name, "expression": expression} for name, expression in rows.items()]


def _show_preview(found: Any) -> None:
    numbers = {
        "stay unchanged": found["accepted"],
        "are created or linked": found["joins"],
        "change": found["changed"],
        "leave": found["leaves"],
        "are refused": found["refused"],
        "stay outside": found["outside"],
        "wait": found["waits"],
    }
    told = ", ".join(f"{number:,} {what}" for what, number in numbers.items() if number)
    print(f"Of {found['looked_at']:,} users {told or 'none is concerned'}.")
    if found["conflicts"]:
        print(
            f"Of {found['conflicts']:,} open conflicts, the rule would link {found['linked']:,}. "
            "Open conflicts stay until you decide them."
        )
    out = [each["name"] for each in found["groups"] if not each["accepted"]]
    if out:
        print(f"Of {len(found['groups']):,} groups of this source, these are ignored: {', '.join(out)}.")
    if found["made_groups"]:
        names = ", ".join(f"{each['name']} ({each['users']:,})" for each in found["made_groups"])
        print(f"Groups from user attributes: {names}.")
    rows = [{**each, "change": describe_change(each)} for each in found["items"]]
    if rows:
        table(
            {"Name": lambda r: r["name"], "Outcome": lambda r: r["outcome"], "Change": lambda r: r["change"]},
            rows,
        )


def _set_status(given: argparse.Namespace, dravo: Dravo) -> None:
    connection_type = _type(given, dravo)
    if given.preview:
        show_effects(given, dravo.sources.preview_status(given.key, given.status, connection_type))
        return
    changed = dravo.sources.set_status(
        given.key, given.status, connection_type, given.enabled_from, given.confirm
    )
    if given.json:
        show_json(changed)
        return
    _show(changed)


def _left_out(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User name": lambda r: r["user_name"],
        "Name": lambda r: r["name"],
        "Reason": lambda r: " and ".join(
            _REASONS.get(each, each) for each in (r["left_out"], r["waiting"]) if each
        ),
        "Changed (UTC)": lambda r: moment(r["modified_at"]),
    }
    show_list(given, dravo.sources.left_out(given.key, given.reason), columns, "No records are left out.")


def _match_groups(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.sources.matching_groups(given.key, names=given.name or (), pattern=given.pattern or "")
    if given.json:
        show_json(found)
        return
    print(f"{found['matching']:,} of {found['total']:,} groups match.")
    for each in found["groups"]:
        print(f"  {each['name']}")
    if found["matching"] > len(found["groups"]):
        print(f"  and {found['matching'] - len(found['groups']):,} more")
    for name in found["unknown"]:
        print(f"No group has the name or ID '{name}' yet.")


def _link_ahead(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.sources.link_ahead(given.key, given.subject, given.user, given.connection_type)
    if given.json:
        show_json(made)
        return
    user = made["user"]["display_name"] if made["user"] else "the user"
    print(f"The first record of '{made['subject']}' will be linked to {user}.")


def _links(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda r: r["id"],
        "Connection type": lambda r: r["connection_type"],
        "Subject": lambda r: r["subject"],
        "User": lambda r: r["user"]["display_name"] if r["user"] else "-",
        "Created (UTC)": lambda r: moment(r["created_at"]),
        "By": lambda r: r["created_by"],
    }
    show_list(given, dravo.sources.links(given.key), columns, "No links wait for their first record.")


def _remove_link(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.sources.remove_link(given.key, given.link_id)
    print("Removed the link.")
