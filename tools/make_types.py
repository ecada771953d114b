"""Writes the client's types from the service's OpenAPI document, and the document itself for the console:
make_types.py [--check].
"""

from __future__ import annotations

import importlib
import json
import pkgutil
import re
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from dravo.services.context import AppContext
from dravo.web.api import schemas
from dravo.web.app import api_document, create_app

ROOT = Path(__file__).resolve().parent.parent
TYPES = ROOT / "src/dravo/client/types"
DOCUMENT = ROOT / "console/openapi.json"
MADE = "Made from its OpenAPI document by tools/make_types.py; not edited by hand."
# One file for each module of schemas, and what it is about.
PREFIX = f"{schemas.__name__}."
MODULES = {
    each.name.removeprefix(PREFIX): importlib.import_module(each.name)
    for each in pkgutil.walk_packages(schemas.__path__, PREFIX)
}
ABOUT = {name: (module.__doc__ or "").strip().rstrip(".") for name, module in MODULES.items()}
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


def file_of(name: str) -> str:
    """Return the module of a type, below the package: that of its schema, such as `access.reviews`."""
    for file, module in MODULES.items():
        if getattr(getattr(module, name, None), "__module__", None) == module.__name__:
            return file
    raise LookupError(f"no module of schemas has '{name}'")


def written(about: str, names: list[str], wanted: dict[str, Any], files: dict[str, str]) -> str:
    """Return the text of one file.

    Types of other files are imported for type checkers only, because files name each other.
    """
    text = "\n\n\n".join(definition(name, wanted[name]) for name in names)
    kinds = " ".join(
        type_of(inner) for name in names for inner in wanted[name].get("properties", {}).values()
    )
    named = set(re.findall(r"\w+", kinds)) & (set(wanted) - set(names))
    lines = [f'"""{about}.', "", MADE, '"""', "", "from __future__ import annotations", ""]
    used = [*(["TYPE_CHECKING"] if named else []), *(["Any"] if "Any" in kinds else []), "TypedDict"]
    lines += [f"from typing import {', '.join(used)}", ""]
    if named:
        lines.append("if TYPE_CHECKING:")
        for other in sorted({files[name] for name in named}):
            used = sorted((name for name in named if files[name] == other), key=str.lower)
            lines.append(f"    from dravo.client.types.{other} import {', '.join(used)}")
        lines.append("")
    return "\n".join(lines) + "\n\n" + text + "\n"


def made_types(wanted: dict[str, Any]) -> dict[Path, str]:
    """Return every file of the types, and the one that has them all by name."""
    files = {name: file_of(name) for name in wanted}
    made = {}
    lines = ['"""Responses of the management API as types.', "", MADE, '"""', ""]
    for file in sorted(set(files.values())):
        names = sorted((name for name in wanted if files[name] == file), key=str.lower)
        made[TYPES / f"{file.replace('.', '/')}.py"] = written(ABOUT[file], names, wanted, files)
        lines.append(f"from dravo.client.types.{file} import {', '.join(names)}")
    lines += ["", f"__all__ = {json.dumps(sorted(wanted))}"]
    made[TYPES / "__init__.py"] = "\n".join(lines) + "\n"
    for package in sorted({file.partition(".")[0] for file in set(files.values()) if "." in file}):
        about = ABOUT[package].replace("Requests and responses for", "Types of")
        made[TYPES / package / "__init__.py"] = "\n".join([f'"""{about}.', "", MADE, '"""', ""])
    return {path: formatted(text) for path, text in made.items()}


def formatted(text: str) -> str:
    """Return Python as the formatter has it, so that it can be compared with what is kept."""
    command = [
        sys.executable,
        "-m",
        "ruff",
        "format",
        "--config",
        str(ROOT / "pyproject.toml"),
        "--stdin-filename",
        "types.py",
        "-",
    ]
    return subprocess.run(command, input=text, capture_output=True, text=True, check=True).stdout


def main() -> int:
    """Write both files, or with --check tell whether they are up to date."""
    with tempfile.TemporaryDirectory() as folder:
        ctx = AppContext(Path(folder))
        document = api_document(create_app(ctx, "http://127.0.0.1:8420"))
        ctx.close()
    schemas = document["components"]["schemas"]
    wanted = {
        name: schema
        for name, schema in schemas.items()
        if schema.get("type") == "object"
        and not name.endswith(("Request", "Query", "Path", "Fields"))
        and "Validation" not in name
    }
    made = {
        **made_types(wanted),
        DOCUMENT: json.dumps(document, indent=1, sort_keys=True, default=str) + "\n",
    }
    stale = [path for path, text in made.items() if not path.exists() or path.read_text() != text]
    unused = [path for path in TYPES.rglob("*.py") if path not in made]
    if "--check" in sys.argv:
        for path in stale + unused:
            print(f"{path.relative_to(ROOT)} is not up to date: run tools/make_types.py")
        return 1 if stale or unused else 0
    TYPES.mkdir(exist_ok=True)
    for path in stale:
        path.write_text(made[path])
    for path in unused:
        path.unlink()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
