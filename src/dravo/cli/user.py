"""`dravo user`: users with their access, and local users."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.access import ACCESS
from dravo.cli.access.assignment import show_effects, show_preview
from dravo.cli.applications.account import ACCOUNT
from dravo.cli.output import (
    command,
    counted,
    facts,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    show_passwords,
    table,
)
from dravo.client import Dravo
from dravo.client import types as t

# The attributes of local users, each an option.
FIELDS = {
    "given_name": "given name",
    "middle_name": "middle name",
    "family_name": "family name",
    "honorific_prefix": "title before the name",
    "honorific_suffix": "suffix after the name",
    "display_name": "display name (default: given and family name)",
    "nick_name": "nickname",
    "email": "email address",
    "work_phone": "phone number at work",
    "mobile_phone": "mobile phone number",
    "title": "job title",
    "user_type": "kind of user, such as Employee",
    "employee_number": "employee number",
    "organization": "organization",
    "division": "division",
    "department": "department",
    "cost_center": "cost center",
    "manager": "manager: ID, user name, email or external ID",
    "street_address": "street address",
    "locality": "town",
    "region": "state or region",
    "postal_code": "postal code",
    "country": "country, such as PT",
    "preferred_language": "language, such as pt",
    "locale": "locale, such as pt-PT",
    "time_zone": "time zone, such as Europe/Lisbon",
    "profile_url": "URL of a page about the user",
}


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "user", "users, by ID, user name, email or external ID")
    listing = command(
        verbs,
        "list",
        _list,
        "list users by name",
        ["dravo user list", "dravo user list marlow", "dravo user list --status left"],
    )
    listing.add_argument("words", nargs="?", help="a part of name, user name or email")
    listing.add_argument(
        "--status", choices=("active", "inactive", "pending", "left"), help="only users of this status"
    )
    list_options(listing)
    show = command(
        verbs,
        "show",
        _show,
        "show one user: attributes, groups, access, accounts",
        ["dravo user show philippa.marlow"],
    )
    show.add_argument("user", help="ID, user name, email or external ID")

    sessions = command(verbs, "sessions", _sessions, "list the current sessions of a user")
    sessions.add_argument("user", help="ID, user name, email or external ID")
    add = command(
        verbs,
        "create",
        _create,
        "create a local user",
        ["dravo user create ida.vosper --given Ida --family Vosper --email ida.vosper@fernhollow.example"],
    )
    add.add_argument("user_name", help="such as ida.vosper")
    change = command(
        verbs,
        "change",
        _change,
        "change a local user",
        ["dravo user change ida.vosper --title Botanist --preview"],
    )
    change.add_argument("user", help="ID, user name, email or external ID")
    change.add_argument("--user-name", help="a new user name")
    for each in (add, change):
        for name, text in FIELDS.items():
            each.add_argument(f"--{name.replace('_', '-')}", metavar="TEXT", help=text)
    change.add_argument("--active", choices=("yes", "no"), help="no: the user is inactive")
    remove = command(verbs, "remove", _remove, "mark a local user as left and end their access")
    remove.add_argument("user", help="ID, user name, email or external ID")
    for each in (change, remove):
        each.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
        each.add_argument(
            "--confirm", metavar="NAME", help="the user's name; required where the change is serious"
        )
    _declare_marks(verbs)
    _declare_sign_in(verbs)


def _declare_sign_in(verbs: Any) -> None:
    sign_in = command(verbs, "sign-in", _sign_in, "show how a local user signs in")
    reset = command(
        verbs, "reset-second-factor", _reset_second_factor, "delete the second factor of a local user"
    )
    for each in (sign_in, reset):
        each.add_argument("user", help="ID, user name, email or external ID")
    passwords = command(
        verbs,
        "one-time-passwords",
        _one_time_passwords,
        "create one-time passwords of local users, shown once",
        ["dravo user one-time-passwords ida.vosper"],
    )
    delete = command(
        verbs,
        "delete",
        _delete,
        "delete local users and end their access",
        ["dravo user delete ida.vosper dario.lind --preview"],
    )
    for each in (passwords, delete):
        each.add_argument("users", nargs="+", metavar="USER", help="ID, user name, email or external ID")
    delete.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    delete.add_argument(
        "--confirm", metavar="NAME", help="name of the user, or '3 users' for three; for a serious change"
    )


def _sign_in(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_sign_in(given, dravo.users.local_sign_in(given.user))


def _reset_second_factor(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_sign_in(given, dravo.users.reset_second_factor(given.user))


def _show_sign_in(given: argparse.Namespace, found: t.LocalSignIn) -> None:
    if given.json:
        show_json(found)
        return
    invitation = found["invitation"]
    facts(
        {
            "Password": "none"
            if not found["has_password"]
            else f"one-time, until {moment(found['one_time_until'])} UTC"
            if found["one_time_until"]
            else f"since {moment(found['password_changed_at'])} UTC",
            "Second factor": "yes" if found["second_factor"] else "no",
            "Invitation": "none" if invitation is None else invitation["status"],
        }
    )


def _one_time_passwords(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.users.create_one_time_passwords(given.users)
    if given.json:
        show_json(made)
        return
    show_passwords((each["user"]["user_name"], each["password"]) for each in made)


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.users.preview_deletion(given.users))
        return
    deleted = dravo.users.delete(given.users, confirm=given.confirm)
    if given.json:
        show_json(deleted)
    else:
        print(f"Deleted {counted(deleted['users'], 'user', 'users')}.")


def _declare_marks(verbs: Any) -> None:
    mark = command(
        verbs,
        "mark",
        _mark,
        "mark users as inactive or left, whatever their sources report",
        [
            "dravo user mark philippa.marlow --status left --from 2031-04-02 --note 'Retired' --preview",
            "dravo user mark juno.marlow idris.vance --status inactive",
        ],
    )
    mark.add_argument("--status", required=True, choices=("inactive", "left"), help="inactive or left")
    mark.add_argument(
        "--from",
        dest="from_",
        metavar="DAY",
        help="first day, or a time such as 2031-04-02T09:15:00Z (default: now)",
    )
    mark.add_argument("--note", help="note for other operators")
    unmark = command(
        verbs,
        "unmark",
        _unmark,
        "remove the marks of users; their status follows the sources again",
        ["dravo user unmark philippa.marlow --preview"],
    )
    for each in (mark, unmark):
        each.add_argument("users", nargs="+", metavar="USER", help="ID, user name, email or external ID")
        each.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
        each.add_argument(
            "--confirm",
            metavar="NAME",
            help="name of the user, or '3 users' for three; required if the change is serious",
        )
    marked = command(verbs, "marked", _marked, "list marked users by name")
    marked.add_argument("words", nargs="?", help="a part of name, user name or email")
    list_options(marked)
    _declare_erase(verbs)


def _declare_erase(verbs: Any) -> None:
    erase = command(
        verbs,
        "erase",
        _erase,
        "erase a user who has left: what Dravo stores about the user is deleted",
        [
            "dravo user erase philippa.marlow --preview",
            "dravo user erase philippa.marlow --confirm 'Philippa Marlow'",
        ],
    )
    erase.add_argument("user", help="ID, user name, email or external ID")
    erase.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    erase.add_argument("--confirm", metavar="NAME", help="name of the user; required")
    list_options(command(verbs, "erased", _erased, "list erased users, newest first"))
    accept = command(
        verbs,
        "accept-erased",
        _accept_erased,
        "accept the records of an erased user again",
        ["dravo user accept-erased ID"],
    )
    accept.add_argument("id", help="ID of the erasure")


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda p: p["display_name"],
        "User name": lambda p: p["user_name"],
        "Email": lambda p: p["email"],
        "Status": lambda p: p["status"],
        "Since (UTC)": lambda p: moment(p["since"]),
    }
    show_list(given, dravo.users.list(words=given.words, status=given.status), columns, "No user matches.")


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    user = dravo.users.get(given.user)
    if given.json:
        show_json(user)
        return
    facts(
        {
            "Name": user["display_name"],
            "Status": f"{user['status']} since {moment(user['since'])} UTC",
            "ID": user["id"],
            **({"Manager": user["manager"]["display_name"]} if user["manager"] else {}),
        }
    )
    if mark := user["mark"]:
        print(_mark_words(mark))
    print("\nAttributes")
    table(
        {
            "Attribute": lambda a: a["name"],
            "Value": lambda a: a["value"],
            "Source": lambda a: a["source"]["label"] if a["source"] else None,
        },
        user["attributes"],
    )
    for record in user["records"]:
        status = "left" if record["deleted_at"] else "active" if record["active"] else "inactive"
        reason = _why_not(record)
        print(
            f"Source record of {record['source']['label']} ({record['connection_type']}), {status}{reason}, "
            f"changed {moment(record['modified_at'])} UTC"
        )
        table({"Attribute": lambda a: a["name"], "Value": lambda a: a["value"]}, record["attributes"])
    if user["groups"]:
        print("Groups")
        table(
            {
                "Group": lambda m: m["group"]["name"],
                "Source": lambda m: m["source"]["key"] if m["source"] else None,
                "Since (UTC)": lambda m: moment(m["since"]),
                "Until": lambda m: moment(m["until"]),
            },
            user["groups"],
        )
    if user["access"]:
        print("Access")
        table(ACCESS, user["access"])
    if user["accounts"]:
        print("Accounts")
        table({name: cell for name, cell in ACCOUNT.items() if name != "User"}, user["accounts"])


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    user = dravo.users.add(
        given.user_name, **{name: value for name in FIELDS if (value := getattr(given, name))}
    )
    if given.json:
        show_json(user)
        return
    print(f"Created {user['display_name']}: {user['id']}.")


def _change(given: argparse.Namespace, dravo: Dravo) -> None:
    fields: dict[str, Any] = {**dravo.users.local(given.user)}
    fields |= {name: value for name in FIELDS if (value := getattr(given, name)) is not None}
    user_name = given.user_name or fields["user_name"]
    del fields["user_name"]
    if given.active:
        fields["active"] = given.active == "yes"
    if given.preview:
        show_preview(given, dravo.users.preview(given.user, user_name, **fields))
        return
    user = dravo.users.change(given.user, user_name, **fields, confirm=given.confirm)
    if given.json:
        show_json(user)
        return
    print(f"{user['display_name']} is {user['status']}.")


def _remove(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.users.preview_removal(given.user))
        return
    dravo.users.remove(given.user, given.confirm)
    print("The user has left; their access ends.")


def _mark_words(mark: Any) -> str:
    note = f": {mark['note']}" if mark["note"] else "."
    words = f"Marked as {mark['status']} from {moment(mark['from_at'])} UTC by {mark['by']}{note}"
    return f"{words}\nA source still reports the user as active." if mark["sources_disagree"] else words


def _mark(given: argparse.Namespace, dravo: Dravo) -> None:
    options = {"from_": given.from_, "note": given.note}
    if given.preview:
        show_preview(given, dravo.users.preview_mark(given.users, given.status, **options))
        return
    done = dravo.users.mark(given.users, given.status, **options, confirm=given.confirm)
    if given.json:
        show_json(done)
        return
    print(f"Marked as {given.status}: {done['users']}.")


def _unmark(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_preview(given, dravo.users.preview_unmark(given.users))
        return
    done = dravo.users.unmark(given.users, confirm=given.confirm)
    if given.json:
        show_json(done)
        return
    print(f"Removed marks: {done['users']}.")


def _why_not(record: Any) -> str:
    """Return why a record does not count as the source reported it, or an empty text."""
    if record["idle"]:
        return " (no sign-in for long)"
    if record["left_out"]:
        return f" (does not count: {record['left_out'].replace('_', ' ')})"
    return f" (a {record['waiting']} waits)" if record["waiting"] else ""


def _erase(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.users.preview_erasing(given.user))
        return
    done = dravo.users.erase(given.user, confirm=given.confirm)
    if given.json:
        show_json(done)
        return
    numbers = ", ".join(f"{name.replace('_', ' ')} {number:,}" for name, number in done["erased"].items())
    print(f"Erased: {numbers}.")


def _erased(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "ID": lambda e: e["id"],
        "User ID": lambda e: e["user_id"],
        "Erased (UTC)": lambda e: moment(e["erased_at"]),
        "By": lambda e: e["erased_by"],
        "Accepted again (UTC)": lambda e: moment(e["accepted_at"]),
    }
    show_list(given, dravo.users.erased(), columns, "No erased users.")


def _accept_erased(given: argparse.Namespace, dravo: Dravo) -> None:
    done = dravo.users.accept_erased(given.id)
    if given.json:
        show_json(done)
        return
    print("Accepted again. A source that reports the user creates a new one.")


def _marked(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Name": lambda m: m["user"]["display_name"],
        "Status": lambda m: m["status"],
        "From (UTC)": lambda m: moment(m["from_at"]),
        "Note": lambda m: m["note"],
        "By": lambda m: m["by"],
    }
    show_list(given, dravo.users.marks(given.words), columns, "No marked users.")


def _sessions(given: argparse.Namespace, dravo: Dravo) -> None:
    items = dravo.sign_ins.user_sessions(given.user)["items"]
    if given.json:
        show_json(items)
        return
    if not items:
        print("No session.")
        return
    columns = {
        "Source": lambda s: s["source"]["label"],
        "Since (UTC)": lambda s: moment(s["created_at"]),
        "Last seen (UTC)": lambda s: moment(s["last_seen_at"]),
        "Until (UTC)": lambda s: moment(s["until_at"]),
    }
    table(columns, items)
