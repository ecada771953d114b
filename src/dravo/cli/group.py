"""`dravo group`: groups, of sources and local ones, and who is in them."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from dravo.cli.assignment import show_preview, what
from dravo.cli.output import UsageError, command, facts, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "group", "groups of sources, and local groups")
    listing = command(verbs, "list", _list, "list groups by name", ["dravo group list seed", "dravo group list --source staff --gives-nothing"])
    listing.add_argument("words", nargs="?", help="a part of the name, or an id")
    listing.add_argument("--source", metavar="KEY", help="only this source's; 'local' for those of no source")
    listing.add_argument("--gives-nothing", action="store_true", help="only groups that no assignment names")
    list_options(listing)
    show = command(
        verbs, "show", _show, "show one group: what it gives, and the groups in and around it", ["dravo group show Herbarium --source staff"]
    )
    members = command(verbs, "members", _members, "list the people in a group", ["dravo group members Herbarium --source staff"])
    list_options(members)
    add = command(verbs, "create", _add, "make a local group", ["dravo group create 'Spring planting'"])
    add.add_argument("name")
    rename = command(verbs, "rename", _rename, "give a local group another name", ["dravo group rename 'Spring planting' 'Spring and summer'"])
    put = command(
        verbs, "add-members", _put, "put people and groups into a local group",
        [
            "dravo group add-members 'Spring planting' philippa.marlow rosa.fenn@fernhollow.example --preview",
            "dravo group add-members 'Spring planting' - < names.txt",
        ],
    )  # fmt: skip
    take = command(verbs, "remove-members", _take, "take people and groups out of a local group")
    remove = command(verbs, "delete", _remove, "take a local group away")
    for each in (show, members, rename, put, take, remove):
        each.add_argument("group", help="its id or whole name")
    for each in (show, members):
        each.add_argument("--source", metavar="KEY", help="whose group it is, where several have one of that name")
    rename.add_argument("name")
    for each in (put, take):
        each.add_argument("people", nargs="*", help="ids, user names, e-mails or external ids; - reads them from the input, one a line")
        each.add_argument("--group", dest="groups", action="append", default=[], metavar="ID", help="a group, by id")
    for each in (put, take, remove):
        each.add_argument("--preview", action="store_true", help="only show what it would do")
        each.add_argument("--confirm", metavar="NAME", help="the group's name, where the change is grave")


def _find(dravo: Dravo, name: str, source: str | None) -> str:
    """Return the id of the one group of a name or id."""
    found = [
        each for each in dravo.groups.list(words=name, source=source)
        if name in (each["id"], each["external_id"]) or each["name"].casefold() == name.casefold()
    ]  # fmt: skip
    if len(found) > 1:
        choices = ", ".join(f"{each['id']} (of {each['source']['key'] if each['source'] else 'nobody'})" for each in found)
        raise UsageError(f"'{name}' is the name of {len(found)} groups. Give the id of one of them: {choices}.")
    return found[0]["id"] if found else name


def _local(given: argparse.Namespace, dravo: Dravo) -> str:
    """Return the id of the local group that is meant: of several of one name the local one."""
    locals_ = [each["key"] for each in dravo.sources.list() if each["connection_type"] == "local"]
    found = _find(dravo, given.group, locals_[0]) if locals_ else given.group
    if found == given.group and not any(each["id"] == found for each in dravo.groups.list(words=found)):
        raise UsageError(f"There is no local group '{given.group}'. Sources' own groups are changed there; 'dravo group create' makes a local one.")
    return found


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Group": lambda g: g["name"],
        "Source": lambda g: g["source"]["key"] if g["source"] else None,
        "Members": lambda g: g["members"],
        "Gives": lambda g: g["assignments"],
        "ID there": lambda g: g["external_id"],
        "ID": lambda g: g["id"],
    }
    found = dravo.groups.list(words=given.words, source=given.source, mapped=False if given.gives_nothing else None)
    show_list(given, found, columns, "No group matches.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    group = dravo.groups.get(_find(dravo, given.group, given.source))
    if given.json:
        show_json(group)
        return
    facts(
        {
            "Name": group["name"],
            "Of": group["source"]["label"] if group["source"] else None,
            "ID there": group["external_id"],
            "Lists": f"{counted(group['members'], 'person', 'people')}, {counted(len(group['inner']), 'group', 'groups')}",
            "In it": f"{counted(group['within'], 'person', 'people')}, by any nesting",
            "Changed": f"{moment(group['modified_at'])} UTC",
        }
    )
    for title, groups in (("Groups in it", group["inner"]), ("Groups that it is in", group["around"])):
        if groups:
            print(f"\n{title}")
            table(
                {"Group": lambda g: g["name"], "Source": lambda g: g["source"]["key"] if g["source"] else None, "ID": lambda g: g["id"]}, groups
            )  # fmt: skip
    gives = list(dravo.assignments.list(group=group["id"]))
    print("\nWhat it gives" if gives else "\nIt gives nothing: no assignment names it.")
    if gives:
        table({"Application": lambda a: a["application"]["label"], "Role": what, "By": lambda a: a["created_by"]}, gives)


def counted(number: int, one: str, many: str) -> str:
    """Return a number with its noun."""
    return f"{number:,} {one if number == 1 else many}"


def _members(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {"Name": lambda p: p["display_name"], "User name": lambda p: p["user_name"], "State": lambda p: p["state"], "ID": lambda p: p["id"]}
    show_list(given, dravo.groups.members(_find(dravo, given.group, given.source)), columns, "It lists nobody itself.")


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    group = dravo.groups.add(given.name)
    if given.json:
        show_json(group)
        return
    print(
        f"There is a local group '{group['name']}' now: {group['id']}.\nPut people into it with: dravo group add-members '{group['name']}' PERSON ..."
    )


def _rename(given: argparse.Namespace, dravo: Dravo) -> None:
    print(f"It is called '{dravo.groups.rename(_local(given, dravo), given.name)['name']}' now.")


def _put(given: argparse.Namespace, dravo: Dravo) -> None:
    _change(given, dravo, {"add": _named(given), "add_groups": given.groups})


def _take(given: argparse.Namespace, dravo: Dravo) -> None:
    _change(given, dravo, {"remove": _named(given), "remove_groups": given.groups})


def _named(given: argparse.Namespace) -> list[str]:
    people = [line.strip() for line in sys.stdin] if given.people == ["-"] else given.people
    named = [each for each in people if each]
    if not named and not given.groups:
        raise UsageError("Nobody is named: give people, '-' to read them from the input, or --group.")
    return named


def _change(given: argparse.Namespace, dravo: Dravo, members: dict[str, list[str]]) -> None:
    group_id = _local(given, dravo)
    if given.preview:
        show_preview(given, dravo.groups.preview_members(group_id, **members))
        return
    group = dravo.groups.change_members(group_id, **members, confirm=given.confirm)
    if given.json:
        show_json(group)
        return
    print(f"'{group['name']}' lists {counted(group['members'], 'person', 'people')} now.")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    group_id = _local(given, dravo)
    if given.preview:
        show_preview(given, dravo.groups.preview_removal(group_id))
        return
    dravo.groups.remove(group_id, given.confirm)
    print("Taken away.")
