"""`dravo application`: applications, their roles, settings and connections."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.applications.application_settings import add_setting, show_application
from dravo.cli.applications.connection import add_connection
from dravo.cli.applications.status import add_set_status
from dravo.cli.applications.template import add_templates, read_answers
from dravo.cli.output import (
    UsageError,
    command,
    list_options,
    moment,
    noun,
    read_secret,
    show_json,
    show_list,
    write_pieces,
)
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "application", "applications, their roles, settings and connections")
    list_options(command(verbs, "list", _list, "list applications with their status"))
    _declare_show(verbs)
    _declare_add(verbs)
    _declare_create_role(verbs)
    _declare_change_role(verbs)
    _declare_delete_role(verbs)
    add_connection(verbs)
    _declare_groups(verbs)
    _declare_evaluate(verbs)
    _declare_check_password(verbs)
    add_templates(verbs)
    add_setting(verbs)
    add_set_status(verbs)
    for name, run, text in (
        ("pause", _pause, "pause provisioning; tasks wait"),
        ("resume", _resume, "resume provisioning"),
    ):
        command(verbs, name, run, text).add_argument("key", help="key of the application")
    icon = command(
        verbs,
        "set-icon",
        _set_icon,
        "upload the icon of an application: PNG, JPEG, WebP or GIF",
        ["dravo application set-icon plant-records leaf.png"],
    )
    icon.add_argument("key", help="key of the application")
    icon.add_argument("image", metavar="FILE", help="image file, at most 500,000 bytes")
    saved = command(verbs, "icon", _icon, "save the icon of an application as a PNG file")
    saved.add_argument("key", help="key of the application")
    saved.add_argument("image", metavar="FILE", help="file to write; - prints the image")
    command(verbs, "delete-icon", _delete_icon, "delete the icon of an application").add_argument(
        "key", help="key of the application"
    )
    _declare_delete(verbs)


def _declare_show(verbs: Any) -> None:
    parser = command(verbs, "show", _show, "show one application: roles, settings, connection")
    parser.add_argument("key", help="key of the application")


def _declare_add(verbs: Any) -> None:
    parser = command(
        verbs,
        "add",
        _add,
        "add an application",
        ["dravo application add plant-records --label 'Plant Records'"],
    )
    parser.add_argument("key", help="key for URLs; it cannot be changed later")
    parser.add_argument("--label", required=True, help="label")
    parser.add_argument("--owner", help="name of the operator who owns the application")
    parser.add_argument(
        "--tracked-only", action="store_true", help="track access only; Dravo does not provision accounts"
    )
    parser.add_argument(
        "--template", metavar="KEY", help="template, as in 'dravo application templates' (default: none)"
    )
    parser.add_argument(
        "--answer",
        action="append",
        default=[],
        metavar="NAME=TEXT",
        help="answer to a question of the template; repeat for several",
    )


def _declare_create_role(verbs: Any) -> None:
    parser = command(
        verbs,
        "create-role",
        _create_role,
        "create a role",
        ["dravo application create-role plant-records curator --label Curator --rank 30"],
    )
    parser.add_argument("key", help="key of the application")
    parser.add_argument("role", help="key of the role")
    parser.add_argument("--label", required=True, help="label")
    parser.add_argument(
        "--rank",
        type=int,
        default=1,
        help="rank; the role with the highest number is the highest role (default 1)",
    )
    parser.add_argument(
        "--sent-value",
        default="",
        metavar="TEXT",
        help="value sent to the application, such as a URN (default: the key)",
    )
    parser.add_argument("--description", default="", metavar="TEXT", help="what the role permits")


def _declare_change_role(verbs: Any) -> None:
    parser = command(
        verbs,
        "change-role",
        _change_role,
        "change the label, rank, value or description of a role",
        [
            "dravo application change-role plant-records curator --rank 40 --preview",
            "dravo application change-role plant-records curator --sent-value urn:records:role:curator",
        ],
    )
    parser.add_argument("key", help="key of the application")
    parser.add_argument("role", help="key of the role")
    parser.add_argument("--label", help="new label")
    parser.add_argument(
        "--rank", type=int, metavar="N", help="new rank; the highest number is the highest role"
    )
    parser.add_argument(
        "--sent-value", metavar="TEXT", help="new value sent to the application; empty for the key"
    )
    parser.add_argument("--description", metavar="TEXT", help="what the role permits; empty for none")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if many users are affected"
    )


def _declare_delete_role(verbs: Any) -> None:
    parser = command(verbs, "delete-role", _delete_role, "delete a role that was never assigned")
    parser.add_argument("key", help="key of the application")
    parser.add_argument("role", help="key of the role")


def _declare_groups(verbs: Any) -> None:
    parser = command(verbs, "groups", _groups, "list provisioned groups with their status")
    parser.add_argument("key", help="key of the application")
    list_options(parser)
    retried = command(verbs, "retry-group", _retry_group, "retry a provisioned group now")
    retried.add_argument("key", help="key of the application")
    retried.add_argument("id", help="ID of the group, as in 'dravo application groups KEY --json'")


def _retry_group(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.applications.retry_group(given.key, given.id)
    print("Dravo retries the group now.")


def _declare_check_password(verbs: Any) -> None:
    check = command(
        verbs,
        "check-password",
        _check_password,
        "check the password of a local user, as an application with its own sign-in form does",
        ["dravo application check-password plant-records ida.vosper@guests.example"],
    )
    check.add_argument("key", help="such as plant-records")
    check.add_argument("name", help="user name or email address")
    check.add_argument("--code", default="", help="code of the second factor, or a recovery code")


def _check_password(given: argparse.Namespace, dravo: Dravo) -> None:
    password = read_secret("Password: ")
    found = dravo.applications.check_password(given.key, given.name, password, code=given.code)
    if given.json:
        show_json(found)
        return
    if found["outcome"] == "signed_in":
        print(f"Signed in. Roles: {', '.join(each['label'] for each in found['roles'])}.")
    else:
        print(f"Refused ({found['outcome']}): {found['message']} {found['support_contact']}".rstrip())


def _declare_evaluate(verbs: Any) -> None:
    parser = command(
        verbs,
        "evaluate",
        _evaluate,
        "evaluate an expression for a user",
        ["dravo application evaluate 'userName then before \"@\" then lower' --user zofia"],
    )
    parser.add_argument("expression", help="the expression, such as 'userName then lower'")
    parser.add_argument("--user", metavar="NAME", help="ID, user name or email")


def _declare_delete(verbs: Any) -> None:
    parser = command(verbs, "delete", _delete, "delete an application without assignments")
    parser.add_argument("key", help="key of the application")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required to delete the application"
    )


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Key": lambda p: p["key"],
        "Label": lambda p: p["label"],
        "Status": lambda p: p["status"],
        "Users": lambda p: p["users"],
        "Accounts": lambda p: p["accounts"],
        "Waiting": lambda p: p["waiting"],
        "By hand": lambda p: p["manual"],
        "Failed": lambda p: p["failed"],
        "Drifted": lambda p: p["drifting"],
        "Last response (UTC)": lambda p: moment(p["answered_at"]),
    }
    show_list(
        given,
        dravo.applications.list(),
        columns,
        "No applications. Add one: dravo application add KEY --label LABEL",
    )


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.get(given.key))


def _add(given: argparse.Namespace, dravo: Dravo) -> None:
    wish: dict[str, Any] = {"owner": given.owner, "tracked_only": given.tracked_only}
    if given.answer and not given.template:
        raise UsageError("--answer needs --template.")
    if given.template:
        wish |= {"template": given.template, "answers": read_answers(given.answer)}
    show_application(given, dravo.applications.add(given.key, given.label, **wish))


def _create_role(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.applications.add_role(
        given.key,
        given.role,
        given.label,
        given.rank,
        sent_value=given.sent_value,
        description=given.description,
    )
    show_application(given, made)


def _change_role(given: argparse.Namespace, dravo: Dravo) -> None:
    values = {
        name: value
        for name in ("label", "rank", "sent_value", "description")
        if (value := getattr(given, name)) is not None
    }
    if not values:
        raise UsageError("No value given. Use --label, --rank, --sent-value or --description.")
    if given.preview:
        show_effects(given, dravo.applications.preview_role(given.key, given.role, **values))
        return
    show_application(
        given, dravo.applications.change_role(given.key, given.role, confirm=given.confirm, **values)
    )


def _delete_role(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.remove_role(given.key, given.role))


def _groups(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Group": lambda g: g["name"],
        "Source": lambda g: g["kind"],
        "Desired": lambda g: g["members"],
        "In the application": lambda g: g["members_there"],
        "Status": lambda g: g["status"],
        "Applied (UTC)": lambda g: moment(g["applied_at"]),
        "Message": lambda g: g["message"],
    }
    show_list(
        given,
        dravo.applications.groups(given.key),
        columns,
        "No provisioned groups. Enable them: dravo application set KEY --groups with_roles",
    )


def _evaluate(given: argparse.Namespace, dravo: Dravo) -> None:
    tried = dravo.evaluate_expression(given.expression, given.user)
    if given.json:
        show_json(tried)
        return
    if tried["user"]:
        print(
            f"{tried['user']['display_name']} gets: "
            f"{'nothing, it is missing' if tried['result'] is None else tried['result']}"
        )
    print(f"In words: {tried['words']}")


def _pause(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.pause(given.key))


def _resume(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.resume(given.key))


def _set_icon(given: argparse.Namespace, dravo: Dravo) -> None:
    try:
        image = Path(given.image).read_bytes()
    except OSError as wrong:
        raise UsageError(f"'{given.image}' cannot be read: {wrong.strerror}.") from None
    show_application(given, dravo.applications.set_icon(given.key, image))


def _delete_icon(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.remove_icon(given.key))


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.applications.preview_removal(given.key))
        return
    dravo.applications.remove(given.key, given.confirm)
    print(f"Deleted '{given.confirm}'.")


def _icon(given: argparse.Namespace, dravo: Dravo) -> None:
    write_pieces(given.image, dravo.applications.icon(given.key))
