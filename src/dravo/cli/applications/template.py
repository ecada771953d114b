"""Application templates and copies: `dravo application templates`, `copy`, `add-several` and others."""

from __future__ import annotations

import argparse
import json
import tomllib
from collections.abc import Sequence
from typing import Any

from dravo.cli.applications.application_settings import show_application
from dravo.cli.errors import FAILED
from dravo.cli.output import UsageError, command, read_text, show_json, table
from dravo.client import Dravo


def add_templates(verbs: Any) -> None:
    """Add the commands to those of applications."""
    command(verbs, "templates", _templates, "list application templates with their questions")
    _declare_copy(verbs)
    _declare_create(verbs)
    several = command(
        verbs,
        "add-several",
        _add_several,
        "add several applications, one for each template",
        ["dravo application add-several --templates plant-records --templates ticket-desk"],
    )
    several.add_argument(
        "--templates",
        action="append",
        required=True,
        metavar="KEY",
        help="key of a template; repeat for several",
    )
    several.add_argument("--owner", help="name of the operator who owns the applications")
    shown = command(
        verbs,
        "show-template",
        _show_template,
        "print a template as a JSON data file, to edit and save it",
        ["dravo application show-template plant-records > records.json"],
    )
    shown.add_argument("template", help="key of the template")
    saved = command(
        verbs,
        "save-template",
        _save_template,
        "create or replace a template of your organization from a data file (TOML or JSON)",
        ["dravo application save-template our-records records.toml"],
    )
    saved.add_argument("template", help="key of the template")
    saved.add_argument("file", metavar="FILE", help="data file of the template; - reads JSON")
    command(verbs, "template-schema", _template_schema, "print the JSON Schema of templates, for editors")
    parser = command(verbs, "delete-template", _delete, "delete a template of your organization")
    parser.add_argument("template", help="key of the template")


def _declare_copy(verbs: Any) -> None:
    parser = command(
        verbs,
        "copy",
        _copy,
        "copy an application as another instance; its address, token and assignments are not copied",
        ["dravo application copy plant-records --key plant-records-south --label 'Plant Records South'"],
    )
    parser.add_argument("key", help="key of the application")
    parser.add_argument("--key", dest="new_key", required=True, metavar="KEY", help="key of the copy")
    parser.add_argument("--label", required=True, help="label of the copy")


def _declare_create(verbs: Any) -> None:
    parser = command(
        verbs,
        "create-template",
        _create,
        "create a template from an application",
        ["dravo application create-template our-records plant-records --label 'Our records'"],
    )
    parser.add_argument("template", help="key of the template")
    parser.add_argument("application", help="key of the application")
    parser.add_argument("--label", required=True, help="label of the template")
    parser.add_argument(
        "--description", default="", metavar="TEXT", help="what tells the template apart from the others"
    )


def read_answers(given: Sequence[str]) -> dict[str, str]:
    """Return answers given as NAME=TEXT.

    Raises:
        UsageError: for another form.
    """
    for each in given:
        if "=" not in each:
            raise UsageError(f"'{each}' is not an answer. Write NAME=TEXT, such as workspace=fernhollow.")
    return {name.strip(): text for name, _, text in (each.partition("=") for each in given)}


def _templates(given: argparse.Namespace, dravo: Dravo) -> None:
    found = dravo.applications.templates()
    if given.json:
        show_json(found)
        return
    columns = {
        "Key": lambda t: t["key"],
        "Label": lambda t: t["label"],
        "For": lambda t: t["description"],
        "Questions": lambda t: ", ".join(f"{q['name']} ({q['label']})" for q in t["questions"]),
        "Roles": lambda t: ", ".join(r["key"] for r in t["roles"]),
        "Needs": lambda t: t["needs"],
    }
    table(columns, found)


def _copy(given: argparse.Namespace, dravo: Dravo) -> None:
    show_application(given, dravo.applications.copy(given.key, given.new_key, given.label))


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    made = dravo.applications.create_template(
        given.template, given.application, given.label, given.description
    )
    if given.json:
        show_json(made)
    else:
        print(f"Created the template {made['key']} ({made['label']}).")


def _delete(given: argparse.Namespace, dravo: Dravo) -> None:
    dravo.applications.delete_template(given.template)
    print("Deleted.")


def _add_several(given: argparse.Namespace, dravo: Dravo) -> int:
    items = dravo.applications.add_several(given.templates, given.owner)["items"]
    if given.json:
        show_json(items)
    else:
        columns = {
            "Template": lambda a: a["template"],
            "Application": lambda a: a["application"]["label"] if a["application"] else None,
            "Key": lambda a: a["application"]["key"] if a["application"] else None,
            "Message": lambda a: f"{a['message'] or ''} {a['hint'] or ''}".strip(),
        }
        table(columns, items)
        print("Next: 'dravo application checklist KEY', then assign roles: 'dravo assignment create KEY'.")
    return 0 if all(each["application"] for each in items) else FAILED


def _show_template(given: argparse.Namespace, dravo: Dravo) -> None:
    show_json(dravo.applications.template(given.template))


def _save_template(given: argparse.Namespace, dravo: Dravo) -> None:
    text = read_text(given.file)
    try:
        document = tomllib.loads(text) if given.file.endswith(".toml") else json.loads(text)
    except (ValueError, RecursionError) as wrong:
        raise UsageError(f"'{given.file}' cannot be read: {wrong}.") from None
    made = dravo.applications.save_template(given.template, document)
    if given.json:
        show_json(made)
    else:
        print(f"Saved the template {made['key']} ({made['label']}).")


def _template_schema(given: argparse.Namespace, dravo: Dravo) -> None:
    show_json(dravo.applications.template_schema())
