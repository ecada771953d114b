"""`dravo assignment`: assignments of roles, and exclusions."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.output import (
    MOST_ROWS,
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


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "assignment", "assignments of roles, and exclusions")
    _declare_list(verbs)
    _declare_create(verbs)
    _declare_matches(verbs)
    _declare_waiting(verbs)
    _declare_confirm(verbs)
    _declare_confirm_groups(verbs)
    _declare_change(verbs)
    _declare_delete(verbs)


def _declare_list(verbs: Any) -> None:
    parser = command(
        verbs,
        "list",
        _list,
        "list assignments with the number of users",
        ["dravo assignment list --application plant-records"],
    )
    parser.add_argument("--application", metavar="KEY", help="key of the application")
    list_options(parser)


def _declare_create(verbs: Any) -> None:
    parser = command(
        verbs,
        "create",
        _create,
        "assign a role to a user, a group, a rule, a group name pattern or everyone; or exclude them",
        [
            "dravo assignment create plant-records recorder --source staff --group Herbarium",
            "dravo assignment create plant-records viewer --user philippa.marlow --until 2031-04-02",
            "dravo assignment create plant-records viewer --source staff --rule 'department eq \"Seed "
            "Bank\"' --preview",
            "dravo assignment create ticket-desk --source staff --pattern '^ticketdesk-(.+)$'",
            "dravo assignment create plant-records --exclude --source staff --group Herbarium",
        ],
    )
    parser.add_argument("application", help="key of the application")
    parser.add_argument(
        "role",
        nargs="?",
        help="key of the role; omit it with --exclude and --pattern, or for access without a role",
    )
    parser.add_argument(
        "--user",
        action="append",
        metavar="USER",
        help="ID, user name, email or external ID; repeat for several users",
    )
    parser.add_argument("--group", help="ID, external ID or complete name")
    parser.add_argument(
        "--source",
        metavar="KEY",
        help="source of the group or pattern; for a rule, the only source whose attributes count",
    )
    parser.add_argument(
        "--future-users",
        action="store_true",
        help="with a rule and --source: users who match later need no confirmation for the highest "
        "role; requires --confirm",
    )
    parser.add_argument("--plan", metavar="KEY", help="license plan; users need a seat (default: none)")
    parser.add_argument("--everyone", action="store_true", help="assign to everyone")
    parser.add_argument("--rule", metavar="FILTER", help="assign to users who match a SCIM filter")
    parser.add_argument(
        "--pattern", help="assign to groups whose names match; the part in parentheses names the role"
    )
    parser.add_argument(
        "--expression",
        help="assign the roles whose key, label or value is a value of this expression over user attributes",
    )
    parser.add_argument(
        "--confirmed",
        action="append",
        default=[],
        metavar="GROUP",
        help="ID of a group that can assign the highest role through the pattern; repeat for several",
    )
    parser.add_argument("--exclude", dest="excludes", action="store_true", help="exclude instead of assign")
    parser.add_argument("--new-users-only", action="store_true", help="only users who are new from now on")
    parser.add_argument(
        "--from",
        dest="from_",
        metavar="DAY",
        help="start date, or a time such as 2031-04-02T09:15:00Z (default: now)",
    )
    parser.add_argument("--until", metavar="DAY", help="last day (included), or a time (default: no end)")
    parser.add_argument("--note", help="note, kept in the history")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _declare_matches(verbs: Any) -> None:
    parser = command(
        verbs,
        "matches",
        _matches,
        "list users who match a rule",
        ["dravo assignment matches 'title sw \"Senior\"'"],
    )
    parser.add_argument("rule", metavar="FILTER", help="the rule, a SCIM filter over user attributes")


def _declare_waiting(verbs: Any) -> None:
    parser = command(verbs, "waiting", _waiting, "list users who match a rule and wait for confirmation")
    parser.add_argument("id", help="ID of the assignment, as in 'dravo assignment list'")
    list_options(parser)


def _declare_confirm(verbs: Any) -> None:
    parser = command(
        verbs,
        "confirm",
        _confirm,
        "confirm users who match a rule for the highest role",
        ["dravo assignment confirm ID --user ID --preview"],
    )
    parser.add_argument("id", help="ID of the assignment, as in 'dravo assignment list'")
    parser.add_argument(
        "--user",
        dest="users",
        action="append",
        metavar="ID",
        help="ID of a user; repeat for several (default: all waiting users)",
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _declare_confirm_groups(verbs: Any) -> None:
    parser = command(
        verbs,
        "confirm-groups",
        _confirm_groups,
        "confirm the groups of a pattern that may assign the highest role; replaces the former ones",
        ["dravo assignment confirm-groups ID --confirmed GROUP"],
    )
    parser.add_argument("id", help="ID of the assignment, as in 'dravo assignment list'")
    parser.add_argument(
        "--confirmed",
        action="append",
        default=[],
        metavar="GROUP",
        help="ID of a group, as in 'dravo mapping check-pattern'; repeat for several (default: none)",
    )


def _confirm_groups(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.assignments.confirm(given.id, given.confirmed)
    if given.json:
        show_json(made)
    else:
        print(f"{len(made['confirmed'])} confirmed groups: {assignee(made)}.")


def _declare_change(verbs: Any) -> None:
    parser = command(
        verbs,
        "change",
        _change,
        "change the role, dates, note or license plan of an assignment",
        [
            "dravo assignment change ID --role curator --preview",
            "dravo assignment change ID --until 2031-12-31",
        ],
    )
    parser.add_argument("id", help="ID of the assignment, as in 'dravo assignment list'")
    parser.add_argument("--role", metavar="KEY", help="key of another role, of a user or a group")
    parser.add_argument(
        "--from", dest="from_", metavar="DAY", help="first day, such as 2031-01-01; empty for no limit"
    )
    parser.add_argument("--until", metavar="DAY", help="last day, included; empty for no limit")
    parser.add_argument("--note", help="why the assignment exists; empty for none")
    parser.add_argument("--plan", metavar="KEY", help="key of the license plan; empty for none")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    if all(getattr(given, name) is None for name in ("role", "from_", "until", "note", "plan")):
        raise UsageError("No value given. Use --role, --from, --until, --note or --plan.")
    now = dravo.assignments.get(given.id)
    # What is not named stays: the API replaces dates and note.
    values = {
        "from_": (now["from_day"] or now["from"]) if given.from_ is None else given.from_ or None,
        "until": (now["until_day"] or now["until"]) if given.until is None else given.until or None,
        "note": now["note"] if given.note is None else given.note or None,
        "plan": given.plan,
        "role": given.role,
    }
    if given.preview:
        show_preview(given, dravo.assignments.preview_change(given.id, **values))
        return
    changed = dravo.assignments.change(given.id, confirm=given.confirm, **values)
    if given.json:
        show_json(changed)
        return
    print(f"Changed: {assignee(changed)}, {what(changed)}.")


def _declare_delete(verbs: Any) -> None:
    parser = command(verbs, "delete", _delete, "delete an assignment")
    parser.add_argument("id", help="ID of the assignment, as in 'dravo assignment list'")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Application": lambda a: a["application"]["label"],
        "For": assignee,
        "Source": lambda a: a["source"]["key"] if a["source"] else None,
        "Role": what,
        "Plan": lambda a: a["plan"]["label"] if a["plan"] else None,
        "Users": lambda a: a["matching_users"],
        "From (UTC)": lambda a: moment(a["from"]),
        "Until": lambda a: moment(a["until"]),
        "By": lambda a: a["created_by"],
        "ID": lambda a: a["id"],
    }
    show_list(given, dravo.assignments.list(application=given.application), columns, "No assignments.")


def assignee(assignment: Any) -> str:
    """Return the users of an assignment in words."""
    if assignment["user"]:
        return str(assignment["user"]["display_name"])
    if assignment["group"]:
        return f"{assignment['group']['name']}{' (deleted)' if assignment['group']['gone'] else ''}"
    if assignment["pattern"]:
        return f"groups that match {assignment['pattern']}"
    if assignment["expression"]:
        return f"users by {assignment['expression']}"
    return f"users who match {assignment['rule']}" if assignment["rule"] else "everyone"


def what(assignment: Any) -> str:
    """Return what an assignment gives, in words."""
    if assignment["excludes"]:
        return "excluded"
    if assignment["role"]:
        return str(assignment["role"]["label"])
    if assignment["expression"]:
        return "from the expression"
    return "from the group name" if assignment["pattern"] else "access without a role"


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    named = [given.user, given.group, given.everyone, given.rule, given.pattern, given.expression]
    if sum(bool(each) for each in named) != 1:
        raise UsageError(
            "Add one of --user, --group with --source, --everyone, --rule, --expression, or --pattern with "
            "--source."
        )
    if given.user and len(given.user) > 1:
        _create_for_users(given, dravo)
        return
    given.user = given.user[0] if given.user else None
    wish = {
        name: getattr(given, name) or None
        for name in (
            "user",
            "group",
            "source",
            "rule",
            "pattern",
            "expression",
            "plan",
            "from_",
            "until",
            "note",
        )
    }
    wish |= {
        name: True
        for name in ("everyone", "excludes", "new_users_only", "future_users")
        if getattr(given, name)
    }
    if given.confirmed:
        wish["confirmed"] = given.confirmed
    if given.confirm:
        wish["confirm"] = given.confirm
    if given.preview:
        show_preview(given, dravo.assignments.preview(given.application, given.role, **wish))
        return
    made = dravo.assignments.add(given.application, given.role, **wish)
    if given.json:
        show_json(made)
        return
    reach = f"; it matches {made['matching_users']} users" if made["matching_users"] is not None else ""
    print(f"'{assignee(made)}' in {made['application']['label']}: {what(made)}{reach}. ({made['id']})")


def _create_for_users(given: argparse.Namespace, dravo: Dravo) -> None:
    """Create the same assignment for several users.

    Raises:
        UsageError: for an option of another target.
    """
    for name in ("source", "confirmed", "new_users_only", "future_users"):
        if getattr(given, name):
            raise UsageError(f"--{name.replace('_', '-')} cannot be combined with --user.")
    wish: dict[str, Any] = {name: getattr(given, name) or None for name in ("plan", "from_", "until", "note")}
    wish |= {"excludes": True} if given.excludes else {}
    application, role, users = given.application, given.role, given.user
    if given.preview:
        show_preview(given, dravo.assignments.preview_users(application, role, users, **wish))
        return
    made = dravo.assignments.add_users(application, role, users, **wish, confirm=given.confirm)
    if given.json:
        show_json(made)
        return
    for each in made:
        print(f"'{assignee(each)}' in {each['application']['label']}: {what(each)}. ({each['id']})")


def _waiting(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "User": lambda u: u["display_name"],
        "User name": lambda u: u["user_name"],
        "ID": lambda u: u["id"],
    }
    show_list(given, dravo.assignments.waiting(given.id), columns, "No user waits for confirmation.")


def _confirm(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.assignments.preview_confirming(given.id, given.users))
        return
    changed = dravo.assignments.confirm_users(given.id, given.users, given.confirm)
    if given.json:
        show_json(changed)
    else:
        print(
            f"{changed['confirmed_users']} users are confirmed for {what(changed)} in "
            f"{changed['application']['label']}."
        )


def _matches(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.assignments.matching_users(given.rule)
    if given.json:
        show_json(found)
        return
    print(f"{found['matching_users']} users match {found['rule']}.")
    if found["users"]:
        table({"User": lambda p: p["display_name"], "User name": lambda p: p["user_name"]}, found["users"])
    if found["matching_users"] > len(found["users"]):
        print(f"and {found['matching_users'] - len(found['users'])} more")


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.assignments.preview_removal(given.id))
        return
    dravo.assignments.remove(given.id, given.confirm)
    print("Deleted.")


def show_effects(given: argparse.Namespace, effects: Any) -> None:
    """Print the effects of a change of settings, then the access that would change."""
    if given.json:
        show_json(effects)
        return
    for sentence in effects["effects"]:
        print(sentence)
    access = effects["access"]
    if access and access["users"]:
        show_preview(given, access)
    else:
        print("Nothing has been changed yet.")


def show_preview(given: argparse.Namespace, preview: Any) -> None:
    """Print the effects of a change."""
    if given.json:
        show_json(preview)
        return
    counts = {what: f"{preview[what]:,}" for what in ("gained", "lost", "changed", "unchanged", "accounts")}
    users = (
        f"{counts['gained']} gain access, {counts['lost']} lose access, {counts['changed']} change "
        f"roles, {counts['unchanged']} unchanged"
    )
    print(f"{users}; {counts['accounts']} accounts change. Nothing has been changed yet.")
    for each in preview["seats"]:
        of = f"{each['plan']['label']} ({each['application']['label']})"
        free = "no limit" if each["free"] is None else f"{each['free']:,} free"
        print(
            f"{each['asked']:,} need a seat in {of}: {free}"
            + (f", so {each['wait']:,} are put on the waiting list." if each["wait"] else ".")
        )
    if preview["confirm"]:
        print(f"{preview['confirm']} Add --confirm '{preview['type_to_confirm']}' to apply it.")
    if preview["users"]:
        where = {} if preview["application"] else {"Application": lambda p: p["application"]["label"]}
        highest = {"Highest role": lambda p: "yes" if p["highest"] else "no"} if preview["top_gained"] else {}
        table(
            {
                "User": lambda p: p["user"]["display_name"],
                **where,
                "Before": lambda p: ", ".join(p["before"]),
                "After": lambda p: ", ".join(p["after"]),
                **highest,
            },
            preview["users"][:MOST_ROWS],
        )
        more = preview["gained"] + preview["lost"] + preview["changed"] - MOST_ROWS
        if more > 0:
            print(f"And {more:,} more. --json lists up to 5,000.")
