"""`dravo assignment`: who gets which role, is let in, or is kept out."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import MOST_ROWS, UsageError, command, list_options, moment, noun, show_json, show_list, table
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "assignment", "who gets which role, is let in, or is kept out")
    listing = command(
        verbs, "list", _list, "list assignments, with how many people each reaches", ["dravo assignment list --application plant-records"]
    )
    listing.add_argument("--application", metavar="KEY")
    list_options(listing)
    add = command(
        verbs, "create", _add, "give a role, let in, or keep out: a person, a group, everybody, or whom a rule or a pattern reaches",
        [
            "dravo assignment create plant-records recorder --source staff --group Herbarium",
            "dravo assignment create plant-records viewer --person philippa.marlow --until 2031-04-02",
            "dravo assignment create plant-records viewer --source staff --rule 'department eq \"Seed Bank\"' --preview",
            "dravo assignment create ticket-desk --source staff --pattern '^ticketdesk-(.+)$'",
            "dravo assignment create plant-records --keep-out --source staff --group Trainees",
        ],
    )  # fmt: skip
    add.add_argument("application", help="its key")
    add.add_argument("role", nargs="?", help="its key; without one they are let in only, or kept out, or a pattern says it")
    add.add_argument("--person", help="id, user name, e-mail or external id")
    add.add_argument("--group", help="id, external id or whole name")
    add.add_argument("--source", metavar="KEY", help="the source of the group or the pattern's groups, or that must report a rule's attributes")
    add.add_argument(
        "--future-users", action="store_true", help="of a rule with --source: later users need no confirmation for the highest role; needs --confirm"
    )
    add.add_argument("--plan", metavar="KEY", help="the plan of which they need a seat, where the application has plans")
    add.add_argument("--everybody", action="store_true", help="for everybody")
    add.add_argument("--rule", metavar="FILTER", help="for those who meet a SCIM filter over the person")
    add.add_argument("--pattern", help="for groups whose names fit; the part in brackets is the role's key")
    add.add_argument("--highest", action="append", default=[], metavar="GROUP", help="a group, by id, that may give the highest role by the pattern")
    add.add_argument("--keep-out", dest="excludes", action="store_true", help="keep them out instead")
    add.add_argument("--new-users-only", action="store_true", help="only people who come from now on")
    add.add_argument("--from", dest="from_", metavar="DAY", help="a day, or an instant such as 2031-04-02T09:15:00Z")
    add.add_argument("--until", metavar="DAY", help="a day, which still counts whole, or an instant")
    add.add_argument("--note")
    add.add_argument("--preview", action="store_true", help="only show what it would do")
    reach = command(verbs, "matches", _reach, "whom a rule reaches now", ["dravo assignment matches 'title sw \"Senior\"'"])
    reach.add_argument("rule", metavar="FILTER")
    waiting = command(verbs, "waiting", _waiting, "list users who meet a rule and wait for a confirmation")
    waiting.add_argument("id", help="the assignment, as `dravo assignment list` shows it")
    list_options(waiting)
    confirm = command(
        verbs, "confirm", _confirm, "give users who meet a rule its role, the highest", ["dravo assignment confirm ID --user ID --preview"]
    )  # fmt: skip
    confirm.add_argument("id", help="the assignment, as `dravo assignment list` shows it")
    confirm.add_argument("--user", dest="users", action="append", metavar="ID", help="a user; repeat for several (default: all who wait)")
    confirm.add_argument("--preview", action="store_true", help="only show what it would do")
    remove = command(verbs, "delete", _remove, "take an assignment away")
    remove.add_argument("id")
    remove.add_argument("--preview", action="store_true", help="only show what it would do")
    for each in (add, confirm, remove):
        each.add_argument("--confirm", metavar="LABEL", help="the application's name, where the change is grave")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Application": lambda a: a["application"]["label"],
        "For": whom,
        "Of source": lambda a: a["source"]["key"] if a["source"] else None,
        "Role": what,
        "Plan": lambda a: a["plan"]["label"] if a["plan"] else None,
        "Reaches": lambda a: a["reach"],
        "From (UTC)": lambda a: moment(a["from"]),
        "Until": lambda a: moment(a["until"]),
        "By": lambda a: a["created_by"],
        "ID": lambda a: a["id"],
    }
    show_list(given, dravo.assignments.list(application=given.application), columns, "There is no assignment yet.")


def whom(assignment: Any) -> str:
    """Return for whom an assignment is, as people read it."""
    if assignment["person"]:
        return str(assignment["person"]["display_name"])
    if assignment["group"]:
        return f"{assignment['group']['name']}{' (gone)' if assignment['group']['gone'] else ''}"
    if assignment["pattern"]:
        return f"groups like {assignment['pattern']}"
    return f"whoever has {assignment['rule']}" if assignment["rule"] else "everybody"


def what(assignment: Any) -> str:
    """Return what an assignment gives, as people read it."""
    if assignment["excludes"]:
        return "kept out"
    if assignment["role"]:
        return str(assignment["role"]["label"])
    return "as the name says" if assignment["pattern"] else "let in"


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    named = [given.person, given.group, given.everybody, given.rule, given.pattern]
    if sum(bool(each) for each in named) != 1:
        raise UsageError("Give one of --person, --group with its --source, --everybody, --rule, or --pattern with its --source.")
    wish = {name: getattr(given, name) or None for name in ("person", "group", "source", "rule", "pattern", "plan", "from_", "until", "note")}
    wish |= {name: True for name in ("everybody", "excludes", "new_users_only", "future_users") if getattr(given, name)}
    if given.highest:
        wish["confirmed"] = given.highest
    if given.confirm:
        wish["confirm"] = given.confirm
    if given.preview:
        show_preview(given, dravo.assignments.preview(given.application, given.role, **wish))
        return
    made = dravo.assignments.add(given.application, given.role, **wish)
    if given.json:
        show_json(made)
        return
    reach = f"; that reaches {made['reach']} people now" if made["reach"] is not None else ""
    print(f"'{whom(made)}' in {made['application']['label']}: {what(made)}{reach}. ({made['id']})")


def _waiting(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {"User": lambda u: u["display_name"], "User name": lambda u: u["user_name"], "ID": lambda u: u["id"]}
    show_list(given, dravo.assignments.waiting(given.id), columns, "No user waits for a confirmation.")


def _confirm(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.assignments.preview_confirming(given.id, given.users))
        return
    changed = dravo.assignments.confirm_users(given.id, given.users, given.confirm)
    if given.json:
        show_json(changed)
    else:
        print(f"{changed['confirmed_users']} users are confirmed for {what(changed)} in {changed['application']['label']}.")


def _reach(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.assignments.try_rule(given.rule)
    if given.json:
        show_json(found)
        return
    print(f"{found['reach']} people meet {found['rule']}.")
    if found["people"]:
        table({"User": lambda p: p["display_name"], "User name": lambda p: p["user_name"]}, found["people"])
    if found["reach"] > len(found["people"]):
        print(f"and {found['reach'] - len(found['people'])} more")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.assignments.preview_removal(given.id))
        return
    dravo.assignments.remove(given.id, given.confirm)
    print("Taken away.")


def show_preview(given: argparse.Namespace, preview: Any) -> None:
    """Print what a change would do."""
    if given.json:
        show_json(preview)
        return
    counts = {what: f"{preview[what]:,}" for what in ("gained", "lost", "changed", "unchanged", "accounts")}
    people = f"{counts['gained']} gain, {counts['lost']} lose, {counts['changed']} change role, {counts['unchanged']} stay as they are"
    print(f"{people}; {counts['accounts']} accounts change. Nothing is done yet.")
    for each in preview["seats"]:
        of = f"{each['plan']['label']} ({each['application']['label']})"
        free = "as many as there are people" if each["free"] is None else f"{each['free']:,} free"
        print(f"{each['asked']:,} need a seat of {of}: {free}" + (f", so {each['wait']:,} wait for one." if each["wait"] else "."))
    if preview["confirm"]:
        print(f"{preview['confirm']} To do it, give --confirm '{preview['type_to_confirm']}'.")
    if preview["people"]:
        where = {} if preview["application"] else {"Application": lambda p: p["application"]["label"]}
        table(
            {
                "User": lambda p: p["person"]["display_name"],
                **where,
                "Before": lambda p: ", ".join(p["before"]),
                "After": lambda p: ", ".join(p["after"]),
            },
            preview["people"][:MOST_ROWS],
        )
        more = preview["gained"] + preview["lost"] + preview["changed"] - MOST_ROWS
        if more > 0:
            print(f"And {more:,} more; --json names up to 5,000.")
