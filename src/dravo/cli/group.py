"""`dravo group`: groups of sources, local groups, and their members."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from dravo.cli.access.assignment import show_preview, what
from dravo.cli.output import (
    UsageError,
    command,
    counted,
    facts,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    table,
)
from dravo.client import Dravo

# Who can decide about the members of groups, and how it is said.
MEMBERS_FROM_WORDS = {
    "all": "every connection type",
    "inbound_scim": "inbound SCIM",
    "import": "import",
    "sign_in": "sign-in",
    "dravo": "Dravo",
}
MEMBERS_FROM = tuple(MEMBERS_FROM_WORDS)
MEMBERS_FROM_HELP = (
    "who decides about the members of groups: all connection types (default), one of them, or dravo, where "
    "operators do"
)

_OF_SOURCE = "source of the group, if its members are managed in Dravo"


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "group", "groups of sources, and local groups")
    _declare_list(verbs)
    _declare_show(verbs)
    _declare_members(verbs)
    _declare_create(verbs)
    _declare_change(verbs)
    _declare_add_members(verbs)
    _declare_remove_members(verbs)
    _declare_set_authority(verbs)
    _declare_delete(verbs)


def _declare_list(verbs: Any) -> None:
    parser = command(
        verbs,
        "list",
        _list,
        "list groups by name",
        ["dravo group list seed", "dravo group list --source staff --unmapped"],
    )
    parser.add_argument("words", nargs="?", help="a part of the name, or an ID")
    parser.add_argument(
        "--source", metavar="KEY", help="only groups of this source; 'local' for local groups"
    )
    parser.add_argument("--unmapped", action="store_true", help="only groups that no assignment names")
    list_options(parser)


def _declare_show(verbs: Any) -> None:
    parser = command(
        verbs,
        "show",
        _show,
        "show one group with its roles and nested groups",
        ["dravo group show Herbarium --source staff"],
    )
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument(
        "--source", metavar="KEY", help="source of the group, if several groups have the same name"
    )


def _declare_members(verbs: Any) -> None:
    parser = command(
        verbs,
        "members",
        _members,
        "list the users in a group",
        ["dravo group members Herbarium --source staff"],
    )
    list_options(parser)
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument(
        "--source", metavar="KEY", help="source of the group, if several groups have the same name"
    )


def _declare_create(verbs: Any) -> None:
    parser = command(
        verbs, "create", _create, "create a local group", ["dravo group create 'Spring planting'"]
    )
    parser.add_argument("name", help="name of the group")
    parser.add_argument("--description", metavar="TEXT", default="", help="what the group is for")


def _declare_change(verbs: Any) -> None:
    parser = command(
        verbs,
        "change",
        _edit,
        "change the name or the description of a local group",
        ["dravo group change 'Spring planting' --name 'Spring and summer' --description 'Who plants'"],
    )
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument("--name", help="new name of the group")
    parser.add_argument("--description", metavar="TEXT", help="what the group is for; empty for nothing")


def _declare_add_members(verbs: Any) -> None:
    parser = command(
        verbs,
        "add-members",
        _add_members,
        "add users and groups to a local group",
        [
            "dravo group add-members 'Spring planting' philippa.marlow rosa.fenn@fernhollow.example "
            "--preview",
            "dravo group add-members 'Spring planting' - < names.txt",
        ],
    )
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument("--source", metavar="KEY", help=_OF_SOURCE)
    parser.add_argument(
        "users",
        nargs="*",
        help="IDs, user names, emails or external IDs; - reads them from standard input, one per line",
    )
    parser.add_argument(
        "--group",
        dest="groups",
        action="append",
        default=[],
        metavar="ID",
        help="ID of a group; repeat for several",
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="NAME", help="name of the group; required if the change is serious"
    )


def _declare_remove_members(verbs: Any) -> None:
    parser = command(verbs, "remove-members", _remove_members, "remove users and groups from a local group")
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument("--source", metavar="KEY", help=_OF_SOURCE)
    parser.add_argument(
        "users",
        nargs="*",
        help="IDs, user names, emails or external IDs; - reads them from standard input, one per line",
    )
    parser.add_argument(
        "--group",
        dest="groups",
        action="append",
        default=[],
        metavar="ID",
        help="ID of a group; repeat for several",
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="NAME", help="name of the group; required if the change is serious"
    )


def _declare_set_authority(verbs: Any) -> None:
    parser = command(
        verbs,
        "set-authority",
        _set_authority,
        "change who decides about the members of a group of a source",
        [
            "dravo group set-authority Herbarium --source staff --members-from dravo --preview",
            "dravo group set-authority Herbarium --source staff --members-from source",
        ],
    )
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument(
        "--source", metavar="KEY", help="source of the group, if several groups have the same name"
    )
    parser.add_argument(
        "--members-from",
        choices=(*MEMBERS_FROM, "source"),
        required=True,
        help=f"{MEMBERS_FROM_HELP}; source: as the source says",
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="NAME", help="name of the group; required if the change is serious"
    )


def _declare_delete(verbs: Any) -> None:
    parser = command(verbs, "delete", _delete, "delete a local group")
    parser.add_argument("group", help="ID or complete name")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="NAME", help="name of the group; required if the change is serious"
    )


def _find(dravo: Dravo, name: str, source: str | None) -> str:
    """Return the id of the one group of a name or id."""
    found = [
        each
        for each in dravo.groups.list(words=name, source=source)
        if name in (each["id"], each["external_id"]) or each["name"].casefold() == name.casefold()
    ]
    if len(found) > 1:
        choices = ", ".join(
            f"{each['id']} (of {each['source']['key'] if each['source'] else 'nobody'})" for each in found
        )
        raise UsageError(f"{len(found)} groups have the name '{name}'. Use one of these IDs: {choices}.")
    return found[0]["id"] if found else name


def _local(given: argparse.Namespace, dravo: Dravo) -> str:
    """Return the ID of a local group; of several groups with one name, the local one."""
    locals_ = [each["key"] for each in dravo.sources.list() if each["connection_type"] == "local"]
    found = _find(dravo, given.group, locals_[0]) if locals_ else given.group
    if found == given.group and not any(each["id"] == found for each in dravo.groups.list(words=found)):
        raise UsageError(
            f"There is no local group '{given.group}'. Change groups of a source at the source, or "
            "create one with 'dravo group create'."
        )
    return found


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Group": lambda g: g["name"],
        "Source": lambda g: g["source"]["key"] if g["source"] else None,
        "Members": lambda g: g["members"],
        "Roles": lambda g: g["assignments"],
        "ID in the source": lambda g: g["external_id"],
        "ID": lambda g: g["id"],
    }
    found = dravo.groups.list(
        words=given.words, source=given.source, mapped=False if given.unmapped else None
    )
    show_list(given, found, columns, "No group matches.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    group = dravo.groups.get(_find(dravo, given.group, given.source))
    if given.json:
        show_json(group)
        return
    facts(
        {
            "Name": group["name"],
            **({"Description": group["description"]} if group["description"] else {}),
            "Of": group["source"]["label"] if group["source"] else None,
            "ID in the source": group["external_id"],
            "Lists": f"{counted(group['members'], 'user', 'users')}, "
            f"{counted(len(group['inner']), 'group', 'groups')}",
            "Members from": MEMBERS_FROM_WORDS[group["members_from"]]
            + (" (the source differs)" if group["own_members_from"] else ""),
            "Users with nested groups": f"{counted(group['users_with_nested_groups'], 'user', 'users')}",
            "Changed": f"{moment(group['modified_at'])} UTC",
        }
    )
    for title, groups in (("Nested groups", group["inner"]), ("Member of", group["around"])):
        if groups:
            print(f"\n{title}")
            table(
                {
                    "Group": lambda g: g["name"],
                    "Source": lambda g: g["source"]["key"] if g["source"] else None,
                    "ID": lambda g: g["id"],
                },
                groups,
            )
    gives = list(dravo.assignments.list(group=group["id"]))
    print("\nAssigned roles" if gives else "\nNo assigned roles.")
    if gives:
        table(
            {
                "Application": lambda a: a["application"]["label"],
                "Role": what,
                "By": lambda a: a["created_by"],
            },
            gives,
        )


def _members(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda p: p["display_name"],
        "User name": lambda p: p["user_name"],
        "Status": lambda p: p["status"],
        "ID": lambda p: p["id"],
    }
    show_list(given, dravo.groups.members(_find(dravo, given.group, given.source)), columns, "No members.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    group = dravo.groups.add(given.name, given.description)
    if given.json:
        show_json(group)
        return
    print(
        f"Created the local group '{group['name']}': {group['id']}.\nAdd users with: dravo group "
        f"add-members '{group['name']}' USER ..."
    )


def _edit(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = {name: value for name in ("name", "description") if (value := getattr(given, name)) is not None}
    if not wish:
        raise UsageError("No change given. Use --name or --description.")
    group = dravo.groups.change(_local(given, dravo), **wish)
    if given.json:
        show_json(group)
        return
    print(f"Saved the group '{group['name']}'.")


def _add_members(given: argparse.Namespace, dravo: Dravo) -> None:
    _change(given, dravo, {"add": _read_members(given), "add_groups": given.groups})


def _remove_members(given: argparse.Namespace, dravo: Dravo) -> None:
    _change(given, dravo, {"remove": _read_members(given), "remove_groups": given.groups})


def _read_members(given: argparse.Namespace) -> list[str]:
    users = [line.strip() for line in sys.stdin] if given.users == ["-"] else given.users
    named = [each for each in users if each]
    if not named and not given.groups:
        raise UsageError("No member given. Add users, '-' to read them from standard input, or --group.")
    return named


def _change(given: argparse.Namespace, dravo: Dravo, members: dict[str, list[str]]) -> None:
    group_id = _find(dravo, given.group, given.source) if given.source else _local(given, dravo)
    if given.preview:
        show_preview(given, dravo.groups.preview_members(group_id, **members))
        return
    group = dravo.groups.change_members(group_id, **members, confirm=given.confirm)
    if given.json:
        show_json(group)
        return
    print(f"'{group['name']}' lists {counted(group['members'], 'user', 'users')} now.")


def _set_authority(given: argparse.Namespace, dravo: Dravo) -> None:
    group_id = _find(dravo, given.group, given.source)
    if given.preview:
        show_preview(given, dravo.groups.preview_authority(group_id, given.members_from))
        return
    group = dravo.groups.change_authority(group_id, given.members_from, confirm=given.confirm)
    if given.json:
        show_json(group)
        return
    print(f"Members of '{group['name']}' come from {MEMBERS_FROM_WORDS[group['members_from']]} now.")


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    group_id = _local(given, dravo)
    if given.preview:
        show_preview(given, dravo.groups.preview_removal(group_id))
        return
    dravo.groups.remove(group_id, given.confirm)
    print("Deleted.")
