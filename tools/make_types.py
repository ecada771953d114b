"""Writes the client's types from the service's OpenAPI document, and the document itself for the console: make_types.py [--check]."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from dravo.services.house import House
from dravo.web.api import (
    access_models,
    application_models,
    asked,
    base,
    drift_models,
    models,
    people_models,
    pull_models,
    review_models,
    sign_in_models,
    source_models,
)
from dravo.web.app import api_document, create_app

ROOT = Path(__file__).resolve().parent.parent
TYPES = ROOT / "src/dravo/client/types"
DOCUMENT = ROOT / "console/openapi.json"
MADE = "Made from its OpenAPI document by tools/make_types.py; not edited by hand."
# One room for each module of models of the API, and what it is about.
ROOMS = {
    access_models: ("access", "access: assignments, mapping tables, the matrix"),
    application_models: ("applications", "applications"),
    asked: ("asked", "what is sent with requests"),
    review_models: ("reviews", "access reviews"),
    drift_models: ("drift", "comparing applications with what should be there"),
    source_models: ("sources", "sources and settings"),
    pull_models: ("pull", "reading sources: settings, checks, runs, conflicts"),
    sign_in_models: ("sign_in", "signing in by sources: settings with the exchange sheet, trials, traces, visits"),
    people_models: ("people", "people and groups, what they have and why, and their accounts"),
    base: ("house", "deliveries, operators, and what all have in common"),
    models: ("house", "deliveries, operators, and what all have in common"),
}
SIMPLE = {"string": "str", "integer": "int", "number": "float", "boolean": "bool", "null": "None"}


def type_of(schema: dict[str, Any]) -> str:
    """Return the Python type that a JSON schema describes."""
    if "$ref" in schema:
        return str(schema["$ref"]).rpartition("/")[2]
    if "anyOf" in schema:
        return " | ".join(type_of(each) for each in schema["anyOf"])
    if schema.get("type") == "array":
        return f"list[{type_of(schema['items'])}]"
    if schema.get("type") == "object":
        inner = schema.get("additionalProperties")
        return f"dict[str, {type_of(inner)}]" if isinstance(inner, dict) and inner else "dict[str, Any]"
    return SIMPLE.get(schema.get("type", ""), "Any")


def definition(name: str, schema: dict[str, Any]) -> str:
    """Return one schema as a TypedDict; names that Python keeps for itself need the functional form."""
    fields = {field: type_of(inner) for field, inner in schema.get("properties", {}).items()}
    note = schema.get("description", name)
    if any(field in ("from", "class", "import") for field in fields):
        inner = ", ".join(f'"{field}": "{kind}"' for field, kind in fields.items())
        return f'# {note}\n{name} = TypedDict("{name}", {{{inner}}})'
    lines = "\n".join(f"    {field}: {kind}" for field, kind in fields.items())
    return f'class {name}(TypedDict):\n    """{note}"""\n\n{lines}'


def room_of(name: str) -> str:
    """Return in which room a type belongs: where its model was made."""
    for module, (room, _) in ROOMS.items():
        model = getattr(module, name, None)
        if getattr(model, "__module__", None) == module.__name__:
            return room
    raise LookupError(f"no module of models has '{name}'")


def written(room: str, about: str, names: list[str], wanted: dict[str, Any], rooms: dict[str, str]) -> str:
    """Return the file of one room; what it names of others is known to type checkers only, for rooms name each other."""
    text = "\n\n\n".join(definition(name, wanted[name]) for name in names)
    kinds = " ".join(type_of(inner) for name in names for inner in wanted[name].get("properties", {}).values())
    named = set(re.findall(r"\w+", kinds)) & (set(wanted) - set(names))
    lines = [f'"""What the management API gives of {about}.', "", MADE, '"""', "", "from __future__ import annotations", ""]
    used = [*(["TYPE_CHECKING"] if named else []), *(["Any"] if "Any" in kinds else []), "TypedDict"]
    lines += [f"from typing import {', '.join(used)}", ""]
    if named:
        lines.append("if TYPE_CHECKING:")
        for other in sorted({rooms[name] for name in named}):
            lines.append(f"    from dravo.client.types.{other} import {', '.join(sorted(name for name in named if rooms[name] == other))}")
        lines.append("")
    return "\n".join(lines) + "\n\n" + text + "\n"


def made_types(wanted: dict[str, Any]) -> dict[Path, str]:
    """Return every file of the types, and the one that has them all by name."""
    rooms = {name: room_of(name) for name in wanted}
    made = {}
    lines = [f'"""What the management API gives, as types. {MADE}"""', ""]
    for room, about in sorted(set(ROOMS.values())):
        names = sorted(name for name in wanted if rooms[name] == room)
        made[TYPES / f"{room}.py"] = written(room, about, names, wanted, rooms)
        lines.append(f"from dravo.client.types.{room} import {', '.join(names)}")
    lines += ["", f"__all__ = {json.dumps(sorted(wanted))}"]
    made[TYPES / "__init__.py"] = "\n".join(lines) + "\n"
    return {path: formatted(text) for path, text in made.items()}


def formatted(text: str) -> str:
    """Return Python as the formatter has it, so that it can be compared with what is kept."""
    command = [sys.executable, "-m", "ruff", "format", "--config", str(ROOT / "pyproject.toml"), "--stdin-filename", "types.py", "-"]
    return subprocess.run(command, input=text, capture_output=True, text=True, check=True).stdout


def main() -> int:
    """Write both files, or with --check tell whether they are up to date."""
    with tempfile.TemporaryDirectory() as folder:
        house = House(Path(folder))
        document = api_document(create_app(house, "http://127.0.0.1:8420"))
        house.close()
    schemas = document["components"]["schemas"]
    wanted = {
        name: schema
        for name, schema in schemas.items()
        if schema.get("type") == "object" and not name.endswith(("Body", "Query", "Path", "Change", "Fields")) and "Validation" not in name
    }
    made = {
        **made_types(wanted),
        DOCUMENT: json.dumps(document, indent=1, sort_keys=True, default=str) + "\n",
    }
    stale = [path for path, text in made.items() if not path.exists() or path.read_text() != text]
    if "--check" in sys.argv:
        for path in stale:
            print(f"{path.relative_to(ROOT)} is not up to date: run tools/make_types.py")
        return 1 if stale else 0
    TYPES.mkdir(exist_ok=True)
    for path in stale:
        path.write_text(made[path])
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
