"""What users read follows the glossary and the rules for texts: words, descriptions, help and the length of
sentences.
"""

from __future__ import annotations

import argparse
import json
import re
import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dravo.cli.main import make_parser
from dravo.protocols.directory.connectors import KINDS, fields_of
from dravo.services.sign_in.settings.models import MailSettings, OidcSettings, SamlSettings
from dravo.web.api.descriptions import FIELDS

ROOT = Path(__file__).parents[1]
GUIDES = sorted((ROOT / "docs/guides").glob("*.md"))
TEXTS = [
    *GUIDES,
    ROOT / "README.md",
    ROOT / "CHANGELOG.md",
    ROOT / "CONTRIBUTING.md",
    *sorted((ROOT / "docs/reference").glob("*.md")),
]
SOURCES = [
    *(each for each in sorted((ROOT / "src/dravo").rglob("*.py")) if "built" not in each.parts),
    *sorted((ROOT / "src/dravo/web/templates").glob("*.html")),
    *sorted((ROOT / "src/dravo").rglob("*.lark")),
    *sorted((ROOT / "tools").glob("*.*")),
    *sorted((ROOT / "benchmarks").glob("*.py")),
    *(each for each in sorted((ROOT / "tests").rglob("*.py")) if each.name != "test_texts.py"),
    *sorted((ROOT / "console/src").rglob("*.vue")),
    *(each for each in sorted((ROOT / "console/src").rglob("*.ts")) if each.name != "schema.d.ts"),
]
# Words of an earlier idiom, each with the word that took its place. Looked for as whole words, also as parts
# of names.
DEAD = {
    "whoever": "users who",
    "whomever": "users who",
    "voices": "priority",
    "veto": "deactivation wins",
    "mend": "hint",
    "amiss": "warning",
    "anew": "again",
    "grave": "serious",
    "chief": "super administrator",
    "charter": "configuration file",
    "verdict": "result",
    "sightings": "observations",
    "trial": "test sign-in",
    "visit": "session",
    "house": "organization",
}
PHRASES = (
    "exchange sheet",
    "let through",
    "in force",
    "five questions",
    "goes over",
    "by other hands",
    "world_moved",
)
LONGEST_SENTENCE = 25
_SETTING = re.compile(r"--set[ =](\w+)=")


def words_of(text: str) -> set[str]:
    """Return the words of a text in lower case, those inside of names too."""
    return {each.lower() for each in re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])", text)}


def test_no_dead_word_is_left() -> None:
    found = []
    for file in (*SOURCES, *TEXTS):
        text = file.read_text()
        lower = " ".join(text.lower().split())
        found += [
            f"{file.relative_to(ROOT)}: {word} (use: {DEAD[word]})" for word in words_of(text) & DEAD.keys()
        ]
        found += [f"{file.relative_to(ROOT)}: {phrase}" for phrase in PHRASES if phrase in lower]
    assert found == []


def sentences(markdown: str) -> Iterator[str]:
    """Yield the sentences of a guide; code, tables and headings are left out."""
    prose = []
    for line in re.sub(r"```.*?```", "", markdown, flags=re.DOTALL).splitlines():
        indented = line.startswith("    ") and not re.match(r" +[-*] ", line)
        command = indented and re.match(r" +(dravo |--|make )", line)
        prose.append("" if line.startswith(("#", "|")) or command else line)
    for paragraph in re.split(r"\n\s*\n|\n\s*(?:[-*]|\d+\.) ", "\n".join(prose)):
        plain = re.sub(
            r"\[([^\]]*)\]\([^)]*\)", r"\1", re.sub(r"`[^`]*`", "code", " ".join(paragraph.split()))
        )
        yield from (each for each in re.split(r"(?<=[.:;?!])\s+", plain) if each)


def test_sentences_of_guides_are_short() -> None:
    long = [
        f"{guide.name}: {each}"
        for guide in GUIDES
        for each in sentences(guide.read_text())
        if len(each.split()) > LONGEST_SENTENCE
    ]
    assert long == []


def actions(
    parser: argparse.ArgumentParser, path: tuple[str, ...] = ()
) -> Iterator[tuple[tuple[str, ...], argparse.Action]]:
    """Yield every option and argument of every command."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, below in action.choices.items():
                yield from actions(below, (*path, name))
        else:
            yield path, action


def test_every_option_and_argument_has_help() -> None:
    assert [
        (path, action.option_strings or action.dest)
        for path, action in actions(make_parser())
        if not action.help
    ] == []


def examples(parser: argparse.ArgumentParser) -> Iterator[str]:
    """Yield the examples in the help of a command and of the commands below it."""
    for line in (parser.epilog or "").splitlines():
        if line.strip().startswith("dravo "):
            yield line.strip()
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for below in action.choices.values():
                yield from examples(below)


def test_every_example_in_the_help_is_a_command() -> None:
    parser = make_parser()
    found = list(examples(parser))
    assert len(found) > 60
    wrong = []
    for each in found:
        words = shlex.split(re.split(r" [<>|] ", each)[0])[1:]
        try:
            parser.parse_args(words)
        except SystemExit:
            wrong.append(each)
    assert not wrong


def document() -> dict[str, Any]:
    """Return the OpenAPI document."""
    found: dict[str, Any] = json.loads((ROOT / "console/openapi.json").read_text())
    return found


def test_every_operation_has_a_tag_a_short_summary_and_a_description() -> None:
    wrong = [
        f"{method} {path}"
        for path, operations in document()["paths"].items()
        for method, each in operations.items()
        if not each.get("tags") or not each.get("description") or not 1 <= len(each["summary"].split()) <= 8
    ]
    assert wrong == []


def test_every_parameter_and_property_has_a_description() -> None:
    api = document()
    without = [
        f"{path} {each['name']}"
        for path, operations in api["paths"].items()
        for operation in operations.values()
        for each in operation.get("parameters", [])
        if not each.get("description")
    ]
    without += [
        f"{name}.{field}"
        for name, schema in api["components"]["schemas"].items()
        for field, each in schema.get("properties", {}).items()
        if not each.get("description")
    ]
    assert without == []


def test_every_import_setting_in_help_and_guides_exists() -> None:
    known = {field.name for key in KINDS for field in fields_of(key)}
    texts = [*(path.read_text() for path in TEXTS), *(path.read_text() for path in SOURCES)]
    used = {name for text in texts for name in _SETTING.findall(text)}
    assert len(used) >= 3 and used <= known | {"NAME"}, used - known


# Options that exist on the command line alone, each with what it is for.
ONLY_COMMANDS = {
    "all": "every object that the list shows",
    "allow_loopback": "a setting of the started service",
    "ask_password": "typed, so that no shell keeps it",
    "ask_secret": "typed, so that no shell keeps it",
    "create_users": "sets `makes`",
    "current_settings": "chooses between two operations",
    "data": "the data folder",
    "decided": "chooses a value of `status`",
    "entry": "the ID in the path",
    "export": "writes a file",
    "file": "a file on this computer",
    "group_pattern": "sets `pattern` of `groups`",
    "json": "the form of the output",
    "keep_token": "leaves `token` out",
    "without_token": "stands for a connection whose `token` is null",
    "limit": "the number of rows to print",
    "member_of_pattern": "sets `pattern` of `member_of`",
    "no_expressions": "empties `attributes`",
    "no_longer": "takes back `ignored`",
    "no_wait": "does not wait for the end",
    "proxy": "a setting of the started service",
    "public_url": "a setting of the started service",
    "ready_file": "a file on this computer",
    "refresh_metadata": "sends `look`",
    "review": "the ID in the path",
    "connector": "the key of a connector, to list its settings",
    "disabled": "switches `enabled` off",
    "run_id": "the ID in the path",
    "scope": "sets `users`, the filter of the scope",
    "secret_file": "a file on this computer",
    "set": "one setting of `settings` as NAME=VALUE",
    "to_new_user": "chooses between two values of `user`",
    "to_send": "chooses a part of the answer",
    "unmapped": "chooses a value of `mapped`",
    "url": "the address of the service",
}


def api_names() -> tuple[set[str], dict[str, set[str]]]:
    """Return the names of all fields and parameters of the API, and the values of those that have a list."""
    names: set[str] = set()
    values: dict[str, set[str]] = {}

    def add(name: str, schema: dict[str, Any]) -> None:
        names.add(name)
        for each in (schema, *schema.get("anyOf", [])):
            values.setdefault(name, set()).update(map(str, each.get("enum", ())))

    for schema in document()["components"]["schemas"].values():
        for name, each in schema.get("properties", {}).items():
            add(name, each)
    for operations in document()["paths"].values():
        for operation in operations.values():
            for each in operation.get("parameters", ()):
                add(each["name"], each["schema"])
    for model in (SamlSettings, OidcSettings, MailSettings):
        names |= model.model_fields.keys()
    return names, values


def test_commands_and_api_call_the_same_thing_the_same() -> None:
    names, values = api_names()
    strange, other_values, used = [], [], set()
    for path, action in actions(make_parser()):
        spelled = [each[2:].replace("-", "_") for each in action.option_strings if each.startswith("--")]
        for raw in spelled or [action.dest]:
            if raw in ONLY_COMMANDS or raw == "help":
                used.add(raw)
                continue
            name = raw.removeprefix("no_")
            known = next((each for each in (name, f"{name}s") if each in names), None)
            choices = set(map(str, action.choices or ())) - {"yes", "no"}
            if known is None:
                strange.append((" ".join(path), name))
            elif values.get(known) and not choices <= values[known]:
                other_values.append((" ".join(path), name, choices - values[known]))
    assert strange == []
    assert other_values == []
    assert used - {"help"} == ONLY_COMMANDS.keys()


def test_every_shared_description_is_used() -> None:
    found = document()
    shown = {
        (name, field.get("description"))
        for schema in found["components"]["schemas"].values()
        for name, field in schema.get("properties", {}).items()
    }
    shown |= {
        (parameter["name"], parameter["description"])
        for operations in found["paths"].values()
        for each in operations.values()
        for parameter in each.get("parameters", ())
    }
    assert [each for each in FIELDS.items() if each not in shown] == []
